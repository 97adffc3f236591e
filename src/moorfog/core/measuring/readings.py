"""Readings of an instrument, in columns.

A reading is an interval that ended at ``t`` milliseconds after t0 and lasted ``dt`` milliseconds, with the valve's
actual position and flags. A counter gives raw counts and the sampled volume in nanolitres, and concentration is always
derived. A photometer gives ``signal`` in thousandths of a microgram per cubic metre, and ``chamber`` the same of the
chamber where that is read all the time. A negative-pressure instrument gives the leak as ``signal`` in microlitres per
minute, and ``pressure`` in thousandths of a millimetre of water below the air outside.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, fields
from typing import Any, ClassVar, NamedTuple


class Reading(NamedTuple):
    """One interval: its end and length in ms, raw counts, sampled volume in nl, valve O(UT) or I(N), flags.

    ``signal``, ``chamber`` and ``pressure`` are None on instruments that do not give them.
    """

    t: int
    dt: int
    counts: int
    volume_nl: int
    valve: str
    flags: str = ""
    signal: int | None = None
    chamber: int | None = None
    pressure: int | None = None


@dataclass(frozen=True)
class Chunk:
    """About a second of readings in columns of equal length. ``first`` is the number of its first reading.

    The columns ``signal``, ``chamber`` and ``pressure`` are empty on instruments that do not give them.
    """

    __pydantic_config__: ClassVar[Mapping[str, Any]] = {"strict": True, "extra": "forbid"}
    first: int
    t: tuple[int, ...]
    dt: tuple[int, ...]
    counts: tuple[int, ...]
    volume_nl: tuple[int, ...]
    valve: str
    flags: tuple[str, ...]
    signal: tuple[int, ...] = ()
    chamber: tuple[int, ...] = ()
    pressure: tuple[int, ...] = ()

    def problem(self) -> str | None:
        """Return what is wrong with the shape or the numbers of this chunk, or None."""
        n = len(self.t)
        if n == 0:
            return "a chunk holds at least one reading"
        if not all(len(column) == n for column in (self.dt, self.counts, self.volume_nl, self.valve, self.flags)):
            return f"all columns must hold {n} readings, as column t does"
        if any(column and len(column) != n for column in (self.signal, self.chamber, self.pressure)):
            return f"signal, chamber and pressure hold {n} readings, as column t does, or none"
        if (self.chamber or self.pressure) and not self.signal:
            return "chamber and pressure come with a signal"
        if min(self.counts) < 0 or min(self.dt) <= 0 or min(self.volume_nl) < (1 if not self.signal else 0):
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
            first=self.first + skip,
            t=self.t[skip:],
            dt=self.dt[skip:],
            counts=self.counts[skip:],
            volume_nl=self.volume_nl[skip:],
            valve=self.valve[skip:],
            flags=self.flags[skip:],
            signal=self.signal[skip:],
            chamber=self.chamber[skip:],
            pressure=self.pressure[skip:],
        )

    def readings(self) -> Iterator[Reading]:
        """Yield the readings of this chunk in order."""
        columns = (self.t, self.dt, self.counts, self.volume_nl, self.valve, self.flags)
        if not self.signal:
            yield from map(Reading, *columns)
            return
        nothing: tuple[None, ...] = (None,) * len(self.t)
        yield from map(Reading, *columns, self.signal, self.chamber or nothing, self.pressure or nothing)


def chunk_of(first: int, readings: list[Reading]) -> Chunk:
    """Return readings in a row, all of one instrument, as a chunk. Raises ``ValueError`` for none."""
    if not readings:
        raise ValueError("a chunk holds at least one reading")
    return Chunk(
        first=first,
        t=tuple(one.t for one in readings),
        dt=tuple(one.dt for one in readings),
        counts=tuple(one.counts for one in readings),
        volume_nl=tuple(one.volume_nl for one in readings),
        valve="".join(one.valve for one in readings),
        flags=tuple(one.flags for one in readings),
        signal=tuple(one.signal for one in readings if one.signal is not None),
        chamber=tuple(one.chamber for one in readings if one.chamber is not None),
        pressure=tuple(one.pressure for one in readings if one.pressure is not None),
    )


def merged(chunks: Sequence[Chunk]) -> list[Chunk]:
    """Return chunks that follow one another as few chunks as possible: one for a run without a break."""
    out: list[Chunk] = []
    for one in chunks:
        last = out[-1] if out else None
        if last is not None and last.first + len(last.t) == one.first and _like(last, one):
            columns = {each.name: getattr(last, each.name) + getattr(one, each.name) for each in fields(Chunk)[1:]}
            out[-1] = Chunk(last.first, **columns)
        else:
            out.append(one)
    return out


def _like(one: Chunk, other: Chunk) -> bool:
    return all(bool(getattr(one, name)) == bool(getattr(other, name)) for name in ("signal", "chamber", "pressure"))


def seal_digest(readings: Iterable[Reading]) -> str:
    """Return the SHA-256 over all readings of a run, a line each: t,dt,counts,volume,valve,flags, and on instruments
    that give a signal ,signal,chamber,pressure with nothing for what is not given."""
    sha = hashlib.sha256()
    for one in readings:
        line = f"{one.t},{one.dt},{one.counts},{one.volume_nl},{one.valve},{one.flags}"
        if one.signal is not None:
            more = ("" if each is None else str(each) for each in (one.signal, one.chamber, one.pressure))
            line += "," + ",".join(more)
        sha.update(line.encode("ascii") + b"\n")
    return sha.hexdigest()
