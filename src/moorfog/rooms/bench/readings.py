"""Readings as they come from a link: stored once whatever is sent again, and read back in order."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, fields
from datetime import datetime
from functools import cache
from typing import Any

from pydantic import TypeAdapter
from sqlalchemy import Engine, bindparam, insert, select, text
from sqlalchemy.exc import IntegrityError, OperationalError
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import RunEnd
from moorfog.core.measuring.readings import Chunk, Reading
from moorfog.platform.db.base import quick_engine
from moorfog.platform.db.clock import DatabaseClock
from moorfog.platform.log.tables import Lease
from moorfog.platform.web.actor import digest_of
from moorfog.platform.web.errors import Conflict, DomainError
from moorfog.platform.web.routing import Linked
from moorfog.rooms.bench.tables import ReadingChunk

CHUNK_COLUMNS = tuple(one.name for one in fields(Chunk))
_chunk = TypeAdapter(Chunk)
AT_ONCE = 32
"""How many chunks a single statement takes at most."""


def no_lease() -> Conflict:
    """Return the refusal of an instrument that holds no run, or another one."""
    return Conflict("no_lease", "This instrument does not hold this run any more. Drop its readings.")


def store_chunks(db: Session, row: Linked, run_id: str, chunks: tuple[Chunk, ...]) -> tuple[int, bool]:
    """Store chunks of readings; readings sent again, in whatever chunks, are stored once.

    Returns how many were new, and whether the run is to stop.

    Raises :class:`DomainError` for a chunk whose columns make no sense, :class:`Conflict` without the lease, or
    ``readings_missing`` with how many are stored where a chunk leaves a gap before it.
    """
    begin, stop = _stored_under_lease(db, row.id, run_id)
    end, now = begin, DatabaseClock().now(db)
    rows = []
    for number, chunk in enumerate(chunks):
        problem = chunk.problem()
        if problem:
            raise DomainError("bad_chunk", f"chunks[{number}]: {problem}. Send the chunk again as documented.")
        if chunk.first > end:
            raise missing(end, chunk.first)
        fresh = chunk.beyond(end)
        if fresh is None:
            continue
        end = fresh.first + len(fresh.t)
        rows.append(chunk_row(run_id, row.id, fresh, now))
    if rows:
        db.connection().execute(_INSERT, rows)
    return end - begin, stop


def store_next(engine: Engine, token: str, run_id: str, chunks: tuple[Chunk, ...]) -> tuple[int, bool] | None:
    """Store chunks that follow on the readings stored so far, under the token's lease, in a single question.

    Returns how many readings were new and whether the run is to stop; None where that is not how things stand, or the
    database did not answer: :func:`store_chunks` finds out what is the matter.
    """
    if not 0 < len(chunks) <= AT_ONCE:
        return None
    begin = end = chunks[0].first
    given: list[Any] = []
    for chunk in chunks:
        if chunk.first != end or chunk.problem():
            return None
        end += len(chunk.t)
        given += (chunk.first, len(chunk.t), columns_of(chunk))
    try:
        with quick_engine(engine).connect() as connection:
            found = connection.exec_driver_sql(
                _next_sql(len(chunks)), (*given, digest_of(token), run_id, run_id, begin, run_id)
            ).all()
    except (IntegrityError, OperationalError):
        return None
    return (end - begin, bool(found[0][0])) if len(found) == len(chunks) else None


@cache
def _next_sql(count: int) -> str:
    rows = " UNION ALL ".join(["SELECT %s AS first, %s AS n, %s AS columns", *["SELECT %s, %s, %s"] * (count - 1)])
    return (
        "INSERT INTO reading_chunk (run_id, first, n, instrument_id, columns, received_at) "
        "SELECT l.run_id, v.first, v.n, i.id, v.columns, "
        "UTC_TIMESTAMP(3) - INTERVAL (SELECT behind_ms FROM clock WHERE id = 1) * 1000 MICROSECOND "
        "FROM instrument i JOIN instrument_lease l ON l.instrument_id = i.id "
        f"JOIN ({rows}) v WHERE i.link_token_digest = %s AND l.run_id = %s AND COALESCE("
        "(SELECT c.first + c.n FROM reading_chunk c WHERE c.run_id = %s ORDER BY c.first DESC LIMIT 1), 0) = %s "
        "FOR UPDATE RETURNING (SELECT s.stop FROM instrument_lease s WHERE s.run_id = %s)"
    )


_LOCK = (
    select(Lease.stop)
    .where(Lease.instrument_id == bindparam("instrument"), Lease.run_id == bindparam("run"))
    .with_for_update()
)
_STORED = (
    select(ReadingChunk.first + ReadingChunk.n)
    .where(ReadingChunk.run_id == bindparam("run"))
    .order_by(ReadingChunk.first.desc())
    .limit(1)
)
_INSERT = insert(ReadingChunk)


def _stored_under_lease(db: Session, instrument_id: str, run_id: str) -> tuple[int, bool]:
    """Hold the run's lease; return how many of its readings are stored, and whether it is to stop."""
    connection = db.connection()
    stop = connection.execute(_LOCK, {"run": run_id, "instrument": instrument_id}).scalar_one_or_none()
    if stop is None:
        raise no_lease()
    return int(connection.execute(_STORED, {"run": run_id}).scalar() or 0), stop


def chunk_row(run_id: str, instrument_id: str, chunk: Chunk, received_at: datetime) -> dict[str, Any]:
    """Return the row of a chunk; its columns are plain already and are written as they are."""
    return {
        "run_id": run_id,
        "first": chunk.first,
        "n": len(chunk.t),
        "instrument_id": instrument_id,
        "received_at": received_at,
        "columns": columns_of(chunk),
    }


def columns_of(chunk: Chunk) -> str:
    """Return a chunk's columns as they are stored."""
    return json.dumps({name: getattr(chunk, name) for name in CHUNK_COLUMNS}, separators=(",", ":"))


def missing(stored: int, wanted: int) -> Conflict:
    """Return the refusal where readings before the ones sent are not stored."""
    return Conflict(
        "readings_missing",
        f"{stored} of {wanted} readings are stored. Send the others, then go on.",
        {"stored": stored},
    )


@dataclass(frozen=True)
class Sealed:
    """How a link says that readings ended: how many there were, and their SHA-256."""

    end: RunEnd
    count: int
    sha256: str
    occurred_at: datetime


def load_readings(db: Session, run_id: str, at_least: int = 0) -> list[Reading]:
    """Return what is stored of a run in order.

    Raises :class:`Conflict` ``readings_missing`` where it is fewer than the link has read, so that it sends the rest.
    """
    found = [reading for chunk in load_chunks(db, run_id) for reading in chunk.readings()]
    if len(found) < at_least:
        raise missing(len(found), at_least)
    return found


def load_chunks(db: Session, run_id: str) -> list[Chunk]:
    """Return a run's chunks in order."""
    return load_fresh_chunks(db, {run_id: -1}).get(run_id, [])


def load_fresh_chunks(db: Session, known: Mapping[str, int]) -> dict[str, list[Chunk]]:
    """Return of each run the chunks whose first reading comes after the number given, in order; runs with none are
    left out. One question however many runs there are."""
    if not known:
        return {}
    spans = " OR ".join(f"(run_id = :r{n} AND first > :f{n})" for n in range(len(known)))
    given = {f"{key}{n}": one for n, pair in enumerate(known.items()) for key, one in zip("rf", pair, strict=True)}
    # written out: with forty spans, building the expression anew would cost more than asking
    query = text(f"SELECT run_id, columns FROM reading_chunk WHERE {spans} ORDER BY first")
    out: dict[str, list[Chunk]] = {}
    for run, columns in db.connection().execute(query, given):
        out.setdefault(str(run), []).append(_chunk.validate_json(columns))
    return out
