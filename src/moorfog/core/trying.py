"""Small changes to the tries of a visit, shared by the folds of all kinds of run."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime

from moorfog.core.events import Event, Facepiece, QualitativeStarted, RunStarted
from moorfog.core.measure import Reason
from moorfog.core.replacing import replace
from moorfog.core.visit import Try, Visit


def change_running(visit: Visit, **changes: object) -> Visit:
    """Return the visit with its last try changed."""
    last = visit.tries[-1]
    return replace(visit, tries=(*visit.tries[:-1], replace(last, **changes)))  # type: ignore[arg-type]


def break_run(visit: Visit, at: datetime, code: str, sentence: str) -> Visit:
    """Void a running run from its start on, count-in included, because the seal or the kit was changed."""
    running = visit.running
    if running is None:
        return visit
    why = Reason(
        code,
        sentence,
        "protocol: nothing is changed from start to end",
        "put_right",
        "A new try from the first exercise.",
    )
    return change_running(visit, broken=(*running.broken, why), ended_at=at)


def begin_try(
    visit: Visit,
    event: Event,
    payload: RunStarted | QualitativeStarted,
    facepiece: Facepiece,
    t0: datetime | None,
    against: Iterable[str],
) -> Visit:
    """Return the visit with a new try, frozen with what it is judged by and what stood against it."""
    one = Try(
        len(visit.tries) + 1,
        visit.attempt,
        event.seq,
        payload,
        event.occurred_at,
        t0,
        facepiece,
        visit.donning,
        visit.adjustment,
        visit.chosen_seq,
        visit.parts,
        tuple(dict.fromkeys(against)),
    )
    return replace(visit, tries=(*visit.tries, one))


def find_try(visit: Visit, run_id: str) -> Try | None:
    """Return the try of a run, or None."""
    return next((one for one in visit.tries if one.started.run_id == run_id), None)


def put_try(visit: Visit, one: Try) -> Visit:
    """Return the visit with a try replaced by its number."""
    return replace(visit, tries=tuple(one if old.no == one.no else old for old in visit.tries))


def is_redonning(visit: Visit, at: datetime) -> bool:
    """True while a running protocol is at an exercise in which the facepiece is taken off and put on again."""
    running = visit.running
    protocol = visit.rules.protocol(running.started.protocol_id) if running is not None else None
    if running is None or protocol is None or running.t0 is None:
        return False
    ms = (at - running.t0).total_seconds() * 1000 * visit.speed
    ends = (start + one.seconds * 1000 for start, one in zip(protocol.starts_ms(), protocol.exercises(), strict=True))
    current = next((one for one, end in zip(protocol.exercises(), ends, strict=True) if ms < end), None)
    return ms >= 0 and current is not None and current.redon
