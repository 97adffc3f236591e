"""From what a sealed run comes to, to its numbers: one place that knows which instrument is measured how."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from typing import Protocol as Shape

from moorfog.core.measure import RunNumbers, measure_windows
from moorfog.core.measured import Hold, MeasuredWindow, SignalWindow
from moorfog.core.photometer import measure_signals
from moorfog.core.protocols import Protocol
from moorfog.core.rules import Book
from moorfog.core.suction import measure_holds


class Reduced(Shape):
    """What readings came to: a sealed run, or its entry in the log."""

    @property
    def windows(self) -> tuple[MeasuredWindow, ...]:
        """Of a counter."""

    @property
    def signals(self) -> tuple[SignalWindow, ...]:
        """Of a photometer."""

    @property
    def holds(self) -> tuple[Hold, ...]:
        """Of a negative-pressure instrument."""


@dataclass(frozen=True)
class Limits:
    """What an instrument can show: its least outside, one step of its reading, and its cap where it has one."""

    minimum: Fraction
    step: Fraction
    cap: Fraction | None = None


def measure_run(
    protocol: Protocol, book: Book, level: Fraction, reduced: Reduced, level_key: str, limits: Limits
) -> RunNumbers:
    """Judge a run that reached its end, on a facepiece judged by ``level_key``; limits in the instrument's unit."""
    if protocol.family == "photometer":
        return measure_signals(protocol, book, level, reduced.signals, level_key, limits.minimum, limits.step)
    if protocol.family == "pressure":
        return measure_holds(protocol, book, level, reduced.holds, limits.step)
    return measure_windows(protocol, book, level, reduced.windows, limits.minimum, limits.cap)
