"""What readings come to once a run is sealed: sums over the windows of its protocol, and what broke it.

These stand in the log, so that a verdict can be made again from the log alone; the readings themselves prove them.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal


@dataclass(frozen=True)
class MeasuredWindow:
    """Counts and sampled volume (nanolitres) of one window of the protocol, over ``ms`` of readings."""

    exercise: int
    use: Literal["outside", "inside"]
    counts: int
    volume_nl: int
    ms: int


@dataclass(frozen=True)
class Slice:
    """About one breath of a photometer: signal × time, the time in ms, and the highest reading in it.

    Signals in thousandths of a microgram per cubic metre; ``area`` in those times milliseconds.
    """

    area: int
    ms: int
    peak: int


@dataclass(frozen=True)
class SignalWindow:
    """One window of a photometer, breath by breath; ``passing``: the chamber while nothing of the sample is used."""

    exercise: int
    use: Literal["outside", "inside", "passing"]
    slices: tuple[Slice, ...]


@dataclass(frozen=True)
class Hold:
    """One breath hold of a negative-pressure test: leak × time in µl/min × ms, the time, the pressures it was held at.

    Pressures in thousandths of a millimetre of water below the air outside.
    """

    exercise: int
    place: str
    area: int
    ms: int
    lowest: int
    highest: int


@dataclass(frozen=True)
class Deviation:
    """Something in the readings that breaks the protocol, found when the run was sealed."""

    code: Literal[
        "gap",
        "duplicate",
        "clock_jump",
        "wrong_valve",
        "flow_alarm",
        "alcohol_alarm",
        "not_finite",
        "lost",
        "digest",
        "broken_hold",
        "unknown_flag",
        "long_interval",
        "short_window",
        "volume",
        "stuck",
    ]
    detail: str
    at_ms: int


@dataclass(frozen=True)
class Sealed:
    """What a finished run's readings come to. Only the part that suits the instrument is filled."""

    windows: tuple[MeasuredWindow, ...]
    signals: tuple[SignalWindow, ...]
    holds: tuple[Hold, ...]
    deviations: tuple[Deviation, ...]
