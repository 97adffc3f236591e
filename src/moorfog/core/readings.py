"""Readings of a counter, in columns, and their reduction to the window sums a verdict is made of.

A reading is an interval that ended at ``t`` milliseconds after t0 and lasted ``dt`` milliseconds, with raw counts,
the sampled volume in nanolitres, the valve's actual position and flags. Concentration is always derived.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Any, ClassVar

from moorfog.core.arithmetic import leak_budget
from moorfog.core.events import Deviation, MeasuredWindow, RunEnd
from moorfog.core.fold import inside_shares
from moorfog.core.measure import ambient_samples
from moorfog.core.rules import Protocol, Window

FLAG_WORDS = {"F": "flow_alarm", "A": "alcohol_alarm", "X": "not_finite"}
ALIGN_TOLERANCE_MS = 5


@dataclass(frozen=True)
class Reading:
    """One interval: its end and length in ms, raw counts, sampled volume in nl, valve O(UT) or I(N), flags."""

    t: int
    dt: int
    counts: int
    volume_nl: int
    valve: str
    flags: str = ""


@dataclass(frozen=True)
class Chunk:
    """About a second of readings in columns of equal length. ``first`` is the number of its first reading."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = {"strict": True, "extra": "forbid"}
    first: int
    t: tuple[int, ...]
    dt: tuple[int, ...]
    counts: tuple[int, ...]
    volume_nl: tuple[int, ...]
    valve: str
    flags: tuple[str, ...]

    def problem(self) -> str | None:
        """Return what is wrong with the shape or the numbers of this chunk, or None."""
        n = len(self.t)
        if n == 0:
            return "a chunk holds at least one reading"
        if not all(len(column) == n for column in (self.dt, self.counts, self.volume_nl, self.valve, self.flags)):
            return f"all columns must hold {n} readings, as column t does"
        if (
            any(one < 0 for one in self.counts)
            or any(one <= 0 for one in self.volume_nl)
            or any(one <= 0 for one in self.dt)
        ):
            return "counts must be 0 or more, volumes and intervals above 0"
        if set(self.valve) - {"O", "I"}:
            return "valve is one letter a reading, O or I"
        return None

    def beyond(self, number: int) -> Chunk | None:
        """Return the part of this chunk from reading ``number`` on, or None where there is none."""
        skip = max(0, number - self.first)
        if skip >= len(self.t):
            return None
        return Chunk(
            self.first + skip,
            self.t[skip:],
            self.dt[skip:],
            self.counts[skip:],
            self.volume_nl[skip:],
            self.valve[skip:],
            self.flags[skip:],
        )

    def readings(self) -> Iterator[Reading]:
        """Yield the readings of this chunk in order."""
        for row in zip(self.t, self.dt, self.counts, self.volume_nl, self.valve, self.flags, strict=True):
            yield Reading(*row)


def seal_digest(readings: Iterable[Reading]) -> str:
    """Return the SHA-256 over all readings of a run, a line each: t,dt,counts,volume,valve,flags."""
    sha = hashlib.sha256()
    for one in readings:
        sha.update(f"{one.t},{one.dt},{one.counts},{one.volume_nl},{one.valve},{one.flags}\n".encode("ascii"))
    return sha.hexdigest()


@dataclass
class Reduction:
    """Running sums per window, fed reading by reading in order; cheap to keep during a run."""

    protocol: Protocol
    missing_allowed_ms: int
    windows: tuple[Window, ...] = ()
    sums: dict[int, list[int]] = field(default_factory=dict)
    deviations: list[Deviation] = field(default_factory=list)
    missing_ms: int = 0
    last_t: int | None = None
    last: Reading | None = None
    index: int = 0

    def __post_init__(self) -> None:
        self.windows = self.protocol.windows()

    def _deviate(self, code: Any, detail: str, at: int) -> None:
        if not any(one.code == code for one in self.deviations):
            self.deviations.append(Deviation(code, detail, at))

    def feed(self, one: Reading) -> None:
        """Take one reading; those outside the protocol's seconds are ignored, those across an edge not used."""
        self.last = one
        start = one.t - one.dt
        total = self.windows[-1].end_ms
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
        while self.index < len(self.windows) - 1 and start >= self.windows[self.index].end_ms:
            self.index += 1
        window = self.windows[self.index]
        if start < window.start_ms or one.t > window.end_ms or window.use == "purge":
            return
        if one.valve != window.valve[0]:
            self._deviate("wrong_valve", f"{one.valve} instead of {window.valve} at {one.t} ms", one.t)
            return
        total_here = self.sums.setdefault(self.index, [0, 0, 0])
        total_here[0] += one.counts
        total_here[1] += one.volume_nl
        total_here[2] += one.dt

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
            out.append(MeasuredWindow(window.exercise, "outside" if use == "outside" else "inside", counts, volume, ms))
        return tuple(out)

    def sealed(self, end: RunEnd) -> tuple[tuple[MeasuredWindow, ...], tuple[Deviation, ...]]:
        """Return window sums and deviations of the finished run; a complete run must reach the protocol's end."""
        if end == "complete":
            tail = self.windows[-1].end_ms - max(self.last_t or 0, 0)
            self._missed(tail, self.windows[-1].end_ms)
        return self.measured(), tuple(self.deviations)


@dataclass(frozen=True)
class LiveNumbers:
    """What the bench shows while a run goes on. Shares are of the leak budget; None where not known yet."""

    outside: Fraction | None
    inside: Fraction | None
    is_inside_live: bool
    shares: tuple[Fraction, ...]
    factors: tuple[Fraction | None, ...]
    is_unlikely: bool
    is_lost: bool


def live_numbers(reduction: Reduction, level: Fraction, drift_maximum: Fraction) -> LiveNumbers:
    """Return the numbers of a running run: held outside, inside as it comes, budget by the honest rule."""
    windows = reduction.measured()
    first, last = ambient_samples(windows)
    outside = (first + last) / 2 if first is not None and last is not None else first
    now = reduction.last
    value = Fraction(now.counts * 1_000_000, now.volume_nl) if now is not None else None
    is_in = now is not None and now.valve == "I"
    if outside is None or outside <= 0:
        return LiveNumbers(value if not is_in else None, value if is_in else None, is_in, (), (), False, False)
    shares = inside_shares(reduction.protocol, windows, outside)
    budget = leak_budget(shares, reduction.protocol.n, level, drift_maximum, last is not None)
    return LiveNumbers(
        outside if is_in or value is None else value,
        value if is_in else None,
        is_in,
        budget.shares,
        exercise_factors(reduction.protocol, windows, outside),
        budget.is_unlikely,
        budget.is_lost,
    )


def exercise_factors(
    protocol: Protocol, windows: Sequence[MeasuredWindow], outside: Fraction
) -> tuple[Fraction | None, ...]:
    """Return outside ÷ inside of each exercise so far; None before it began or while nothing was counted inside."""
    out: list[Fraction | None] = []
    for index in range(protocol.n):
        inside = [one for one in windows if one.exercise == index and one.use == "inside"]
        counts, volume = sum(one.counts for one in inside), sum(one.volume_nl for one in inside)
        out.append(outside * volume / (counts * 1_000_000) if counts > 0 and volume > 0 else None)
    return tuple(out)
