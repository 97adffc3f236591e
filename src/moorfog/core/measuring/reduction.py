"""From readings to what a verdict is made of: fed reading by reading in order, cheap to keep during a run."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Iterable
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Any

from moorfog.core.events.measured import Deviation, Hold, MeasuredWindow, Sealed, SignalWindow, Slice
from moorfog.core.events.payloads import Instrument, RunEnd
from moorfog.core.kernel.arithmetic import decimal_or_none
from moorfog.core.measuring.readings import Reading
from moorfog.core.rules.book import Book
from moorfog.core.rules.protocols import Protocol, Window

FLAG_WORDS = {"F": "flow_alarm", "A": "alcohol_alarm", "X": "not_finite", "B": "broken_hold"}
ALIGN_TOLERANCE_MS = 5
RECENT = 8
"""How many readings, about two seconds, the number on the screen is a mean of: the level, not each puff."""


@dataclass(frozen=True)
class Strictness:
    """What readings must keep to besides: the longest interval and the most of a window that may go unread (ms), and
    how far (a share) a sampled volume may lie from flow × interval. ``flow``: counted flow in cm³/min, None unknown."""

    interval_ms: int
    lost_ms: int
    volume: Fraction
    flow: Fraction | None
    stuck: float | None = None
    """How unlikely a row of identical figures must be to be a stuck instrument's; None where the book does not ask."""

    def is_volume_off(self, one: Reading) -> bool:
        """True where the volume of a reading is not what its flow and interval give."""
        if self.flow is None:
            return True
        expected = self.flow * one.dt * Fraction(1_000_000, 60_000)
        return abs(one.volume_nl - expected) > self.volume * expected


def strictness_of(book: Book, instrument: Instrument | None) -> Strictness | None:
    """Return what a book asks of readings, None for one from before it asked for anything."""
    if book.yes("readings.strict") is not True:
        return None
    flow = decimal_or_none(instrument.counted_flow) if instrument is not None else None
    stuck = book.ratio("readings.stuck")
    return Strictness(
        interval_ms=int(book.number("readings.interval")),
        lost_ms=int(book.number("readings.lost")),
        volume=book.number("readings.volume"),
        flow=flow,
        stuck=float(stuck) if stuck else None,
    )


LIKELIEST = 0.4
"""No count of a Poisson mean of one or more is likelier than that; of a mean c the likeliest has 1 ÷ √(2πc)."""
LEAST_ALIKE = 10
"""So many identical signals of a photometer, or leaks and pressures of a hold, on end: noise never gives them."""


def most_alike(counts: int, stuck: float) -> int:
    """Return how many identical counts on end are still as likely as ``stuck``; a count of nothing may go on for ever.

    Each further one is at most as likely as the likeliest count of a Poisson mean. Computed.
    """
    likely = min(LIKELIEST, 1 / math.sqrt(2 * math.pi * counts))
    return 1 + int(math.log(stuck) / math.log(likely))


@dataclass
class Reduction:
    """Running sums per window, fed reading by reading in order; cheap to keep during a run."""

    protocol: Protocol
    missing_allowed_ms: int
    strict: Strictness | None = None
    windows: tuple[Window, ...] = ()
    sums: dict[int, list[int]] = field(default_factory=dict)
    deviations: list[Deviation] = field(default_factory=list)
    missing_ms: int = 0
    last_t: int | None = None
    recent: deque[Reading] = field(default_factory=lambda: deque(maxlen=RECENT))
    index: int = 0
    alike: int = 0
    last_read: tuple[object, ...] = ()

    def __post_init__(self) -> None:
        self.windows = self.protocol.windows()
        self.total = self.windows[-1].end_ms

    def _deviate(self, code: Any, detail: str, at: int) -> None:
        if not any(one.code == code for one in self.deviations):
            self.deviations.append(Deviation(code, detail, at))

    def feed(self, one: Reading) -> None:
        """Take one reading; those outside the protocol's seconds are ignored, those across an edge not used."""
        self.recent.append(one)
        start = one.t - one.dt
        total = self.total
        if self.last_t is not None and self.last_t > 0:
            gap = start - self.last_t
            if one.t == self.last_t:
                self._deviate("duplicate", f"twice at {one.t} ms", one.t)
                return
            if gap < -ALIGN_TOLERANCE_MS:
                self._deviate("clock_jump", f"back by {-gap} ms at {one.t} ms", one.t)
                return
            if start < total:
                self._missed(gap, one.t)
        elif start > 0:
            self._missed(start, one.t)
        self.last_t = one.t
        if one.t <= 0 or start >= total:
            return
        for flag in one.flags:
            if flag in FLAG_WORDS:
                self._deviate(FLAG_WORDS[flag], f"flag {flag} at {one.t} ms", one.t)
            elif self.strict is not None:
                self._deviate("unknown_flag", f"flag {flag!r} at {one.t} ms", one.t)
        if self.strict is not None and one.dt > self.strict.interval_ms:
            self._deviate("long_interval", f"one interval of {one.dt} ms at {one.t} ms", one.t)
        if self.strict is not None and self.protocol.is_counted and self.strict.is_volume_off(one):
            self._deviate("volume", f"{one.volume_nl} nl in {one.dt} ms at {one.t} ms", one.t)
        if self.strict is not None and self.strict.stuck is not None:
            self._look_alike(one, self.strict.stuck)
        while self.index < len(self.windows) - 1 and start >= self.windows[self.index].end_ms:
            self.index += 1
        window = self.windows[self.index]
        self._pass(self.index, window, one)
        if start < window.start_ms or one.t > window.end_ms or window.use == "purge":
            return
        if one.valve != window.valve[0]:
            self._deviate("wrong_valve", f"{one.valve} instead of {window.valve} at {one.t} ms", one.t)
            return
        self._use(self.index, window, one)

    def _look_alike(self, one: Reading, stuck: float) -> None:
        """Take an instrument that gives the same figure for too long for a stuck one."""
        here = self._figure(one)
        self.alike = self.alike + 1 if here and here == self.last_read else 1
        self.last_read = here
        if here and self.alike > self._most_alike(one, stuck):
            self._deviate("stuck", f"{self.alike} readings alike by {one.t} ms", one.t)

    def _figure(self, one: Reading) -> tuple[object, ...]:
        """Return what must scatter from one reading to the next; nothing where it need not."""
        return (one.counts, one.dt, one.volume_nl, one.valve) if one.counts > 0 else ()

    def _most_alike(self, one: Reading, stuck: float) -> int:
        return most_alike(one.counts, stuck)

    def _pass(self, index: int, window: Window, one: Reading) -> None:
        """Look at a reading whether it is used or not."""

    def _read_ms(self, index: int) -> int:
        """Return how many milliseconds of a window were read and used."""
        return self.sums[index][2] if index in self.sums else 0

    def _check_windows(self, strict: Strictness) -> None:
        for index, window in enumerate(self.windows):
            lost = window.end_ms - window.start_ms - self._read_ms(index)
            if window.use != "purge" and lost > strict.lost_ms:
                name = self.protocol.exercises()[window.exercise].name
                self._deviate("short_window", f"{name}: {lost} ms of {window.use} were not read", window.end_ms)

    def _use(self, index: int, window: Window, one: Reading) -> None:
        here = self.sums.setdefault(index, [0, 0, 0])
        here[0] += one.counts
        here[1] += one.volume_nl
        here[2] += one.dt

    def _missed(self, gap: int, at: int) -> None:
        if gap > ALIGN_TOLERANCE_MS:
            self.missing_ms += gap
            if self.missing_ms > self.missing_allowed_ms:
                self._deviate("gap", f"{self.missing_ms} ms without readings by {at} ms", at)

    def measured(self) -> tuple[MeasuredWindow, ...]:
        """Return the sums so far of the windows that are used."""
        out = []
        for index, (counts, volume, ms) in sorted(self.sums.items()):
            window = self.windows[index]
            use = "outside" if window.use == "outside" else "inside"
            out.append(
                MeasuredWindow(
                    exercise=window.exercise,
                    use="outside" if use == "outside" else "inside",
                    counts=counts,
                    volume_nl=volume,
                    ms=ms,
                )
            )
        return tuple(out)

    def signals(self) -> tuple[SignalWindow, ...]:
        """Return what a photometer has read so far; nothing for another instrument."""
        return ()

    def holds(self) -> tuple[Hold, ...]:
        """Return the breath holds so far; nothing for another instrument."""
        return ()

    def sealed(self, end: RunEnd) -> Sealed:
        """Return what the finished run comes to; a complete run must reach the protocol's end."""
        if end == "complete":
            self._missed(self.total - max(self.last_t or 0, 0), self.total)
            if self.strict is not None:
                self._check_windows(self.strict)
        return Sealed(self.measured(), self.signals(), self.holds(), tuple(self.deviations))


@dataclass
class SignalReduction(Reduction):
    """A photometer's run: signal by breaths, inside and outside; the chamber's too where it is read all the time."""

    slices: dict[tuple[int, str], list[list[int]]] = field(default_factory=dict)

    def _figure(self, one: Reading) -> tuple[object, ...]:
        return (one.signal, one.chamber, one.valve) if one.signal else ()

    def _most_alike(self, one: Reading, stuck: float) -> int:
        return LEAST_ALIKE

    def _pass(self, index: int, window: Window, one: Reading) -> None:
        is_watched = self.strict is not None and self.protocol.outside == "continuous"
        in_window = one.t - one.dt >= window.start_ms and one.t <= window.end_ms
        if not is_watched or (in_window and window.use != "purge"):
            return
        if one.chamber is None:
            self._deviate("not_finite", f"the chamber was not read at {one.t} ms", one.t)
            return
        aerosol = self.protocol.aerosol
        breath = max(0, one.t - one.dt - window.start_ms) // (aerosol.breath_s * 1000 if aerosol is not None else 1000)
        self._add((index, "passing"), breath, one.chamber, one.dt)

    def _read_ms(self, index: int) -> int:
        rows = self.slices.get((index, self.windows[index].use), [])
        return sum(row[1] for row in rows)

    def _use(self, index: int, window: Window, one: Reading) -> None:
        if one.signal is None:
            self._deviate("not_finite", f"no signal at {one.t} ms", one.t)
            return
        aerosol = self.protocol.aerosol
        breath = (one.t - one.dt - window.start_ms) // (aerosol.breath_s * 1000 if aerosol is not None else 1000)
        self._add((index, window.use), breath, one.signal, one.dt)
        if self.protocol.outside == "continuous":
            if one.chamber is None:
                self._deviate("not_finite", f"the chamber was not read at {one.t} ms", one.t)
            else:
                self._add((index, "outside"), breath, one.chamber, one.dt)

    def _add(self, key: tuple[int, str], breath: int, signal: int, dt: int) -> None:
        rows = self.slices.setdefault(key, [])
        while len(rows) <= breath:
            rows.append([0, 0, signal])
        row = rows[breath]
        row[0] += signal * dt
        row[1] += dt
        row[2] = max(row[2], signal)

    def measured(self) -> tuple[MeasuredWindow, ...]:
        """Return nothing: a photometer counts no particles."""
        return ()

    def signals(self) -> tuple[SignalWindow, ...]:
        """Return the breaths so far, window by window."""
        return tuple(
            SignalWindow(
                self.windows[index].exercise,
                use,  # type: ignore[arg-type]  # outside, inside or passing
                tuple(Slice(*row) for row in rows if row[1] > 0),
            )
            for (index, use), rows in sorted(self.slices.items())
        )


@dataclass
class HoldReduction(Reduction):
    """A negative-pressure run: the leak of each breath hold, and whether the pressure was held."""

    held: dict[int, list[int]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        super().__post_init__()
        drawn = self.protocol.negative_pressure
        pressure = Fraction(drawn.pressure) * 1000 if drawn is not None else Fraction(0)
        tolerance = Fraction(drawn.tolerance) * 1000 if drawn is not None else Fraction(0)
        self.limits = (pressure - tolerance, pressure + tolerance)

    def _figure(self, one: Reading) -> tuple[object, ...]:
        return (one.signal, one.pressure) if one.signal else ()

    def _most_alike(self, one: Reading, stuck: float) -> int:
        return LEAST_ALIKE

    def _use(self, index: int, window: Window, one: Reading) -> None:
        if one.signal is None or one.pressure is None:
            self._deviate("not_finite", f"no leak or pressure at {one.t} ms", one.t)
            return
        if not self.limits[0] <= one.pressure <= self.limits[1]:
            name = self.protocol.exercises()[window.exercise].name
            self._deviate("broken_hold", f"{name}: {one.pressure / 1000:.1f} mm of water at {one.t} ms", one.t)
        row = self.held.setdefault(index, [0, 0, one.pressure, one.pressure])
        row[0] += one.signal * one.dt
        row[1] += one.dt
        row[2] = min(row[2], one.pressure)
        row[3] = max(row[3], one.pressure)

    def _read_ms(self, index: int) -> int:
        return self.held[index][1] if index in self.held else 0

    def measured(self) -> tuple[MeasuredWindow, ...]:
        """Return nothing: no particles are counted."""
        return ()

    def holds(self) -> tuple[Hold, ...]:
        """Return the breath holds so far, in order."""
        return tuple(
            Hold(self.windows[index].exercise, self.windows[index].place, *row)
            for index, row in sorted(self.held.items())
        )


def reduction_for(protocol: Protocol, missing_allowed_ms: int, strict: Strictness | None = None) -> Reduction:
    """Return the reduction that suits a protocol's instrument."""
    kinds: dict[str, type[Reduction]] = {"photometer": SignalReduction, "pressure": HoldReduction}
    return kinds.get(protocol.family, Reduction)(protocol, missing_allowed_ms, strict)


def reduce_run(
    protocol: Protocol, book: Book, readings: Iterable[Reading], end: RunEnd, instrument: Instrument | None = None
) -> Sealed:
    """Return what all readings of a run come to, with as much missing as the book allows. ``instrument``: what they
    were read with; a counter whose flow is not known has no volume that holds."""
    reduction = reduction_for(protocol, int(book.number("missing.maximum")), strictness_of(book, instrument))
    for one in readings:
        reduction.feed(one)
    return reduction.sealed(end)
