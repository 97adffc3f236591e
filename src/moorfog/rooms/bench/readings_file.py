"""Readings from a file: for instruments that give only files, in the columns of docs/formats/readings-file.md."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping

from moorfog.core.kernel.arithmetic import whole_or_none
from moorfog.core.kernel.codec import DataError
from moorfog.core.measuring.readings import Reading
from moorfog.core.rules.protocols import Protocol

MOST_ROWS = 20_000
COMMON = ("t_ms", "dt_ms", "valve")
NEEDED = {"photometer": (*COMMON, "signal"), "pressure": (*COMMON, "signal", "pressure")}
COUNTED = (*COMMON, "counts", "volume_nl")
VALVES = {"O": "O", "OUT": "O", "I": "I", "IN": "I"}


def needed_columns(protocol: Protocol) -> tuple[str, ...]:
    """Return the columns a file must have for a protocol's instrument."""
    return NEEDED.get(protocol.family, COUNTED)


def read_readings(text: str, protocol: Protocol) -> list[Reading]:
    """Return the readings of a CSV file, in order. Times in ms from the start of exercise 1.

    Raises :class:`DataError` naming line and column: a missing column, a value that is no whole number, an unknown
    valve position, no reading at all or too many.
    """
    rows = csv.DictReader(io.StringIO(text.lstrip("\ufeff")))
    names, wanted = rows.fieldnames or [], needed_columns(protocol)
    missing = [one for one in wanted if one not in names]
    if missing:
        raise DataError("line 1", f"the column {missing[0]!r} is missing; needed are {', '.join(wanted)}")
    out: list[Reading] = []
    for row in rows:
        if len(out) >= MOST_ROWS:
            raise DataError(f"line {rows.line_num}", f"more than {MOST_ROWS} readings; give one run a file")
        out.append(_reading(row, rows.line_num, protocol))
    if not out:
        raise DataError("line 2", "there is no reading in this file")
    return out


def _reading(row: Mapping[str, str | None], line: int, protocol: Protocol) -> Reading:
    valve = VALVES.get((row.get("valve") or "").strip().upper())
    if valve is None:
        raise DataError(f"line {line}, valve", f"{row.get('valve')!r} is no valve position; write OUT or IN")
    flags = (row.get("flags") or "").strip().replace("-", "")
    t, dt = _whole(row, line, "t_ms"), _whole(row, line, "dt_ms", least=1)
    if protocol.family == "pressure":
        pressure = _whole(row, line, "pressure")
        return Reading(
            t=t,
            dt=dt,
            counts=0,
            volume_nl=0,
            valve=valve,
            flags=flags,
            signal=_whole(row, line, "signal"),
            chamber=None,
            pressure=pressure,
        )
    if protocol.family == "photometer":
        chamber = _whole(row, line, "chamber") if row.get("chamber") else None
        if protocol.outside == "continuous" and chamber is None:
            raise DataError(f"line {line}, chamber", "this protocol compares with the chamber's own reading")
        return Reading(
            t=t,
            dt=dt,
            counts=0,
            volume_nl=0,
            valve=valve,
            flags=flags,
            signal=_whole(row, line, "signal"),
            chamber=chamber,
        )
    counts, volume = _whole(row, line, "counts", least=0), _whole(row, line, "volume_nl", least=1)
    return Reading(t=t, dt=dt, counts=counts, volume_nl=volume, valve=valve, flags=flags)


def _whole(row: Mapping[str, str | None], line: int, name: str, least: int | None = None) -> int:
    text = (row.get(name) or "").strip()
    value = whole_or_none(text)
    if value is None:
        raise DataError(f"line {line}, {name}", f"{text!r} is no whole number")
    if least is not None and value < least:
        raise DataError(f"line {line}, {name}", f"{text} is below {least}")
    return value
