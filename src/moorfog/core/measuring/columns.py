"""Readings taken by whole columns: what a sealed run comes to and its digest, without a step for every reading.

What comes out is what :mod:`~moorfog.core.measuring.reduction` and
:func:`~moorfog.core.measuring.readings.seal_digest` say of the same readings.
Anything out of the ordinary, a gap, a flag, a wrong valve, is left to them.
"""

from __future__ import annotations

import hashlib
from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from itertools import groupby
from operator import sub

import orjson

from moorfog.core.events.measured import MeasuredWindow, Sealed
from moorfog.core.events.payloads import Instrument, RunEnd
from moorfog.core.measuring.readings import Chunk, Reading
from moorfog.core.measuring.reduction import (
    ALIGN_TOLERANCE_MS,
    Strictness,
    most_alike,
    reduce_run,
    strictness_of,
)
from moorfog.core.rules.book import Book
from moorfog.core.rules.protocols import Protocol

_VALVE = {ord("O"): b"O", ord("I"): b"I"}


def seal_of(chunks: Sequence[Chunk]) -> str:
    """Return :func:`seal_digest` of all readings of these chunks, which must have no :meth:`Chunk.problem`."""
    sha = hashlib.sha256()
    for one in chunks:
        n = len(one.t)
        columns = [_numbers(each) for each in (one.t, one.dt, one.counts, one.volume_nl)]
        columns.append([_VALVE[each] for each in one.valve.encode("ascii")])
        columns.append([each.encode("ascii") for each in one.flags] if any(one.flags) else [b""] * n)
        if one.signal:
            columns += [_numbers(each) if each else [b""] * n for each in (one.signal, one.chamber, one.pressure)]
        sha.update(b"\n".join(map(b",".join, zip(*columns, strict=True))) + b"\n")
    return sha.hexdigest()


def _numbers(column: tuple[int, ...]) -> list[bytes]:
    return orjson.dumps(column)[1:-1].split(b",")


def reduce_chunks(
    protocol: Protocol, book: Book, chunks: Sequence[Chunk], end: RunEnd, instrument: Instrument | None = None
) -> Sealed:
    """Return what all readings of a run come to, as :func:`reduce_run` does."""
    strict = strictness_of(book, instrument)
    found = _counted(protocol, chunks[0], end, strict) if len(chunks) == 1 and protocol.is_counted else None
    if found is not None:
        return found
    return reduce_run(protocol, book, (reading for chunk in chunks for reading in chunk.readings()), end, instrument)


def _keeps_to(strict: Strictness, chunk: Chunk) -> bool:
    """True where every interval and volume is as it must be; each pair of them is looked at once."""
    if strict.stuck is not None and _may_be_stuck(chunk, strict.stuck):
        return False
    pairs = {*zip(chunk.dt, chunk.volume_nl, strict=True)}
    like = (Reading(t=0, dt=dt, counts=0, volume_nl=volume, valve="O") for dt, volume in pairs)
    return max(chunk.dt) <= strict.interval_ms and not any(map(strict.is_volume_off, like))


def _may_be_stuck(chunk: Chunk, stuck: float) -> bool:
    """True where some counts stand so often in a row that the long way must look at them."""
    return any(counts > 0 and sum(1 for _ in row) > most_alike(counts, stuck) for counts, row in groupby(chunk.counts))


def _counted(protocol: Protocol, chunk: Chunk, end: RunEnd, strict: Strictness | None) -> Sealed | None:
    """Return the window sums of a counter's run without anything out of the ordinary, None for another."""
    ends, lengths = chunk.t, chunk.dt
    starts = list(map(sub, ends, lengths))
    gaps = set(map(sub, starts[1:], ends))
    windows = protocol.windows()
    ordinary = starts[0] <= ALIGN_TOLERANCE_MS and not any(chunk.flags)
    if end == "complete":
        ordinary = ordinary and windows[-1].end_ms - ends[-1] <= ALIGN_TOLERANCE_MS
    if strict is not None and not _keeps_to(strict, chunk):
        return None
    if not ordinary or (gaps and not 0 <= min(gaps) <= max(gaps) <= ALIGN_TOLERANCE_MS):
        return None
    out: list[MeasuredWindow] = []
    for window in windows:
        first, last = bisect_left(starts, window.start_ms), bisect_right(ends, window.end_ms)
        if window.use == "purge":
            continue
        read_ms = sum(lengths[first:last]) if first < last else 0
        if strict is not None and end == "complete" and window.end_ms - window.start_ms - read_ms > strict.lost_ms:
            return None
        if first >= last:
            continue
        if chunk.valve.count(window.valve[0], first, last) != last - first:
            return None
        out.append(
            MeasuredWindow(
                exercise=window.exercise,
                use="outside" if window.use == "outside" else "inside",
                counts=sum(chunk.counts[first:last]),
                volume_nl=sum(chunk.volume_nl[first:last]),
                ms=read_ms,
            )
        )
    return Sealed(tuple(out), (), (), ())
