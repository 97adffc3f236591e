"""From what a sealed run comes to, to its numbers: one place that knows which instrument is measured how."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from typing import Protocol as Shape

from moorfog.core.events.measured import Hold, MeasuredWindow, SignalWindow
from moorfog.core.events.payloads import Instrument, RunStarted
from moorfog.core.kernel.arithmetic import decimal_or_none
from moorfog.core.measuring.ambient import measure_windows
from moorfog.core.measuring.negative_pressure import measure_holds
from moorfog.core.measuring.photometer import measure_signals
from moorfog.core.measuring.results import RunNumbers
from moorfog.core.rules.book import Book
from moorfog.core.rules.protocols import Protocol


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
    """What an instrument can show: its least outside, one step of its reading, its cap where it has one, and up to
    which mean inside figure it cannot tell a tight facepiece from a HEPA filter left on its line."""

    minimum: Fraction
    step: Fraction
    cap: Fraction | None = None
    near_zero: Fraction | None = None
    maximum: Fraction | None = None
    """The most outside it can tell apart, None where that is not known."""


def limits_of_run(book: Book, started: RunStarted) -> Limits:
    """Return what the instrument of a run can show, as it was frozen at its start."""
    counter = started.instrument
    minimum, step = decimal_or_none(counter.ambient_minimum), decimal_or_none(counter.resolution)
    cap = book.ratio("mode.classified.cap") if started.mode == "classified" else None
    return Limits(
        minimum=minimum or Fraction(0),
        step=step or Fraction(0),
        cap=cap,
        near_zero=near_zero_of(book, counter),
        maximum=decimal_or_none(counter.ambient_maximum),
    )


def near_zero_of(book: Book, instrument: Instrument) -> Fraction | None:
    """Return the mean inside figure below which a verdict is held: so many times what clean air read that day, or the
    instrument's own limit for clean air, whichever is more. None for a book that does not ask, or without that check.
    """
    times = book.ratio("near_zero.clean_air")
    found = [one for one in instrument.checks if one.name == "clean_air"]
    if times is None or not found:
        return None
    value, limit = decimal_or_none(found[-1].value), decimal_or_none(found[-1].limit)
    return max(times * (value or Fraction(0)), limit or Fraction(0))


def measure_run(
    protocol: Protocol, book: Book, level: Fraction, reduced: Reduced, level_key: str, limits: Limits
) -> RunNumbers:
    """Judge a run that reached its end, on a facepiece judged by ``level_key``; limits in the instrument's unit."""
    if protocol.family == "photometer":
        least, step, low = limits.minimum, limits.step, limits.near_zero
        return measure_signals(protocol, book, level, reduced.signals, level_key, least, step, low, limits.maximum)
    if protocol.family == "pressure":
        return measure_holds(protocol, book, level, reduced.holds, limits.step)
    return measure_windows(
        protocol, book, level, reduced.windows, limits.minimum, limits.cap, limits.near_zero, limits.maximum
    )
