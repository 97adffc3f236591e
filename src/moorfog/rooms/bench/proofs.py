"""The proof of a held verdict on a linked instrument: its link reads on inside until the seal is broken on purpose."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from sqlalchemy import delete, insert, select
from sqlalchemy.orm import Session

from moorfog.core.events import payloads as ev
from moorfog.core.events.payloads import instant
from moorfog.core.kernel.canonical import digest
from moorfog.core.kernel.codec import encode
from moorfog.core.measuring.readings import Reading, seal_digest
from moorfog.core.visit.proof import (
    WITHIN,
    ProofStream,
    awaits_stream,
    followed,
    is_read_by_link,
    least_risen,
    proof_stream,
    text_of,
)
from moorfog.core.visit.state import Try, Visit
from moorfog.core.visit.tries import find_try
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.tables import Lease, VisitHead
from moorfog.rooms.bench.readings import Sealed, load_readings
from moorfog.rooms.bench.visits import append

PROOF_OF = "proof_of"
"""What a plan carries that is not for a run but for the proof of one: that run's id."""
SIMULATED_BREAK_MS, TAKEN_UP_MS, LEFT_MS = 14_000, 1_500, 10_000
"""When a simulated wearer's seal is broken: once the air from outside has left the tube, and a little more; how long in
real time a link takes to begin with it; and what is left of the proof's time at least."""


def simulated_break_ms(speed: int, total_ms: int) -> int:
    """Return when in the time of a practice a simulated wearer's seal is broken, however fast that runs: no link may
    find it broken already."""
    return max(SIMULATED_BREAK_MS, min(SIMULATED_BREAK_MS + TAKEN_UP_MS * (speed - 1), total_ms - LEFT_MS))


def stream_of(visit: Visit, one: Try) -> ProofStream | None:
    """Return a fresh stream for the proof of a try; None where its book does not say how far it must rise."""
    return proof_stream(visit.rules.protocol(one.started.protocol_id), visit.rules.book, least_risen(visit, one))


def stream_on(db: Session, visit_id: str) -> str | None:
    """Return the id of the stream that is read for a visit now, None for none."""
    return db.scalar(select(Lease.run_id).where(Lease.visit_id == visit_id))


def open_proof(db: Session, clock: Clock, head: VisitHead, visit: Visit, run_plan: dict[str, Any]) -> None:
    """Let the link read on for the proof of a run it has just sealed, where its verdict is held; else do nothing.

    ``run_plan``: what it was told for the run. The lease on the instrument must be free again.
    """
    now = clock.now(db)
    one = awaits_stream(visit, now)
    stream = stream_of(visit, one) if one is not None else None
    if one is None or one.counted is None or stream is None or one.ended_at is None:
        return
    until = visit.after(one.ended_at, float(visit.rules.book.number(WITHIN)))
    total_ms = max(0, round((until - now).total_seconds() * 1000 * visit.speed))
    plan = {
        "run_id": new_id(),
        PROOF_OF: one.started.run_id,
        "t0": instant(now),
        "speed": visit.speed,
        "mode": one.counted.mode,
        "windows": [[0, total_ms, "IN"]],
        "total_ms": total_ms,
        "may_end_early": False,
        "protocol": encode(stream.protocol),
        "proof": {"least": str(stream.least), "still_ms": stream.still_ms, "mean_ms": stream.mean_ms},
    }
    simulated = run_plan.get("simulated")
    if simulated:
        sealed = max(simulated["factors"])
        plan["simulated"] = {
            **simulated,
            "factors": [sealed, 2],
            "starts_ms": [0, simulated_break_ms(visit.speed, total_ms)],
        }
    db.execute(
        insert(Lease).values(
            instrument_id=one.counted.instrument.id,
            run_id=plan["run_id"],
            visit_id=head.id,
            plan=plan,
            ends_at=until,
        )
    )


def close_proof(
    db: Session, clock: Clock, actor: str, head: VisitHead, visit: Visit, lease: Lease, sealed: Sealed
) -> Visit:
    """Enter what the stream of a proof showed and let the instrument go.

    Raises :class:`Conflict` ``readings_missing`` with what is stored, so that the link can send the rest again.
    """
    readings = load_readings(db, lease.run_id, sealed.count)
    payload = measured(visit, str(lease.plan[PROOF_OF]), lease.run_id, readings, sealed.end)
    if payload.sha256 != sealed.sha256:
        payload = replace(payload, end="lost")  # what is stored is not what was read: nothing is proved by it
    db.execute(delete(Lease).where(Lease.run_id == lease.run_id))
    moment = max(sealed.occurred_at, visit.last_at or sealed.occurred_at)
    return append(db, clock, actor, head, visit, new_id(), payload, moment, digest(encode(payload)))


def measured(visit: Visit, run_id: str, stream_id: str, readings: list[Reading], end: ev.RunEnd) -> ev.ProofMeasured:
    """Return the entry of a proof: which readings there are, their digest, from what to what the inside rose."""
    one = find_try(visit, run_id)
    stream = stream_of(visit, one) if one is not None and is_read_by_link(one) else None
    bound = ev.ProofMeasured(
        run_id=run_id, stream_id=stream_id, end=end, count=len(readings), sha256=seal_digest(readings)
    )
    if stream is None:
        return bound
    followed(stream, readings)
    return replace(bound, low=text_of(stream.low), high=text_of(stream.high))
