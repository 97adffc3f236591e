"""Small changes to the tries of a visit, shared by the folds of all kinds of run."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from datetime import datetime

from moorfog.core.events.payloads import Event, Facepiece, QualitativeStarted, RunStarted
from moorfog.core.kernel.replacing import replace
from moorfog.core.rules.reason import Reason
from moorfog.core.visit.state import Outcome, SealResult, Try, Visit


def change_running(visit: Visit, **changes: object) -> Visit:
    """Return the visit with its last try changed."""
    last = visit.tries[-1]
    return replace(visit, tries=(*visit.tries[:-1], replace(last, **changes)))  # type: ignore[arg-type]


def break_run(visit: Visit, at: datetime, code: str, sentence: str) -> Visit:
    """Void a running run, count-in included, because something was changed in it that nothing may be changed in."""
    running = visit.running
    return visit if running is None else spoil(visit, running, at, code, sentence)


def begin_try(
    visit: Visit,
    event: Event,
    payload: RunStarted | QualitativeStarted,
    facepiece: Facepiece,
    t0: datetime | None,
    blocking: Iterable[str],
) -> Visit:
    """Return the visit with a new try, frozen with what it is judged by and what stood against it."""
    one = Try(
        no=len(visit.tries) + 1,
        attempt=visit.attempt,
        seq=event.seq,
        started=payload,
        started_at=event.occurred_at,
        t0=t0,
        facepiece=facepiece,
        donning=visit.donning,
        adjustment=visit.adjustment,
        chosen_seq=visit.chosen_seq,
        parts=visit.parts,
        blocking=tuple(dict.fromkeys(blocking)),
        worn_since=visit.worn_since,
        sealed_at=max((seal.at for seal in visit.seals if _is_of_now(visit, seal)), default=None),
    )
    return replace(visit, tries=(*visit.tries, one))


def find_try(visit: Visit, run_id: str) -> Try | None:
    """Return the try of a run, or None."""
    return next((one for one in visit.tries if one.started.run_id == run_id), None)


def withheld_reason(why: str) -> Reason:
    """Return the words for a pass that its tester withholds."""
    return Reason("withheld", f"The tester withholds the pass: {why}", "a tester may withhold, never grant", "stop")


def put_try(visit: Visit, one: Try) -> Visit:
    """Return the visit with a try replaced by its number."""
    return replace(visit, tries=tuple(one if old.no == one.no else old for old in visit.tries))


def _is_of_now(visit: Visit, seal: SealResult) -> bool:
    return seal.holds and seal.donning == visit.donning and seal.adjustment == visit.adjustment


def ends_at(visit: Visit, one: Try) -> datetime | None:
    """Return when what happens no longer belongs to a run: its protocol's end, or hood off; None while it is open.

    A run that was broken off earlier ends there: what came after it changed nothing of it.
    """
    if one.sensed is not None:
        return one.ended_at
    planned = visit.run_ends_at(one)
    is_whole = one.closed is not None and one.closed.end == "complete"
    if is_whole or one.ended_at is None or planned is None:
        return planned
    return min(planned, one.ended_at)


def try_at(visit: Visit, at: datetime, begins: Callable[[Try], datetime | None] | None = None) -> Try | None:
    """Return the try to whose run a moment belongs, running or long over; None where it belongs to none.

    ``begins`` says from when on it matters to a try where that is before its start, such as since its seal check.
    """
    for one in reversed(visit.tries):
        since = begins(one) if begins is not None else None
        if at >= min(since or one.started_at, one.started_at):
            end = ends_at(visit, one)
            return one if end is None or at <= end else None
    return None


RANK = {"pass": 0, "unfinished": 1, "void": 2, "fail": 3}
"""How far an outcome is from a pass; one that stands moves only upwards."""


def worsen(one: Try, result: Outcome, reason: Reason) -> Try:
    """Return a try whose outcome was settled with a worse one, where ``result`` is worse."""
    if one.final is None or RANK[result] <= RANK[one.final[0]]:
        return one
    return replace(one, final=(result, (reason, *one.final[1])))


def spoil(visit: Visit, one: Try, at: datetime, code: str, sentence: str) -> Visit:
    """Void a try, running or over, because the seal or the kit was changed at ``at``: from the start of its run on
    nothing is."""
    why = Reason(
        code=code,
        sentence=sentence,
        rule="protocol: nothing is changed from start to end",
        gravity="put_right",
        remedy="A new try from the first exercise.",
    )
    changed = replace(one, broken=(*one.broken, why), ended_at=one.ended_at or at)
    return put_try(visit, worsen(changed, "void", why))


def is_redonning(visit: Visit, one: Try, at: datetime) -> bool:
    """True while the protocol has the facepiece taken off and put on again, before the breath is held in it."""
    protocol = visit.rules.protocol(one.started.protocol_id)
    if protocol is None or one.t0 is None:
        return False
    ms = (at - one.t0).total_seconds() * 1000 * visit.speed
    ends = (start + each.seconds * 1000 for start, each in zip(protocol.starts_ms(), protocol.exercises(), strict=True))
    current = next((n for n, end in enumerate(ends) if ms < end), None)
    if ms < 0 or current is None or not protocol.exercises()[current].redon:
        return False
    holds = [each.start_ms for each in protocol.windows() if each.exercise == current and each.use == "hold"]
    return not holds or ms < min(holds)
