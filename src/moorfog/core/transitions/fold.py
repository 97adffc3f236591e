"""The pure fold: from a log of events to the visit's state. It is total: no log makes it raise."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from datetime import datetime
from itertools import groupby
from typing import Any

from moorfog.core.events import payloads as ev
from moorfog.core.kernel.replacing import made, replace
from moorfog.core.qualitative.fold import QUALITATIVE_HANDLERS
from moorfog.core.rules.book import Rules
from moorfog.core.rules.reason import Reason
from moorfog.core.transitions.arrival import ARRIVAL_HANDLERS
from moorfog.core.transitions.closing import CLOSING_HANDLERS
from moorfog.core.transitions.on_the_face import ON_THE_FACE_HANDLERS
from moorfog.core.transitions.runs import RUNS_HANDLERS
from moorfog.core.visit import screens
from moorfog.core.visit.denials import denied
from moorfog.core.visit.outcomes import outcome
from moorfog.core.visit.state import Answer, Signature, Visit
from moorfog.core.visit.tries import (
    change_running,
)

UNSIGNING: frozenset[type] = frozenset(
    {
        ev.FacepieceChosen,
        ev.TaskChosen,
        ev.RunStarted,
        ev.RunClosed,
        ev.NumbersTyped,
        ev.RunVoided,
        ev.ProofGiven,
        ev.ProofMeasured,
        ev.Decided,
        ev.Withheld,
        ev.MethodChosen,
        ev.QualitativeStarted,
        ev.QualitativeEnded,
        ev.DetectionMistaken,
        ev.ProofSensed,
    }
)
"""Decisions after which what was signed is not what stands there any more."""


OBSERVED: dict[type, str] = {
    ev.Touched: "touched",
    ev.Adjusted: "adjusted",
    ev.Doffed: "taken off or lifted",
    ev.Distress: "distress",
    ev.Stopped: "stopped",
    ev.Detected: "tasted, smelt or reacted to",
    ev.EyesOpened: "eyes opened in the smoke",
    ev.Squeezed: "another squeeze in the screening",
    ev.FileRead: "what is on file",
}
"""What is judged by when it happened, whenever it is heard; it ends signatures only where it changes an outcome."""


def fold(log: Iterable[ev.Event], rules: Rules) -> Visit:
    """Fold a whole log into the visit it describes: what one step after the other comes to.

    Answers that follow one another are taken together; most entries of a log are answers.
    """
    visit = Visit(rules)
    for are_answers, events in groupby(log, lambda event: type(event.payload) is ev.Answered):
        if are_answers:
            visit = _answered_in_a_row(visit, list(events))
            continue
        for event in events:
            visit = step(visit, event)
    return visit


def step(visit: Visit, event: ev.Event) -> Visit:
    """Apply one event. A payload that makes no sense where it stands changes nothing but the count."""
    payload = event.payload
    if type(payload) is ev.Answered:
        return _answered_in_a_row(visit, [event])
    changes: dict[str, Any] = {"seq": event.seq, "chain": event.chain, "last_at": _latest(visit, event.occurred_at)}
    if type(payload) not in ev.QUIET:
        changes["moved"] = event.seq
    if type(payload) in UNSIGNING:
        changes["signatures"] = _on_earlier_revisions(visit)
    before, visit = visit, replace(visit, **changes)
    handler = _HANDLERS.get(type(payload))
    if handler is None:
        return visit
    after = handler(visit, event, payload)
    if type(payload) in OBSERVED:
        after = _weigh(before, after, event)
    if before.running is not None and after.running is None:
        after = change_running(after, ended_seq=event.seq)
    return _note_fails(after) if after.tries is not before.tries else after


def _latest(visit: Visit, at: datetime) -> datetime:
    return at if visit.last_at is None or at > visit.last_at else visit.last_at


def _verdicts(visit: Visit) -> tuple[Any, ...]:
    return (visit.distress, *(outcome(visit, one)[0] for one in visit.tries))


def _weigh(before: Visit, after: Visit, event: ev.Event) -> Visit:
    """End the signatures where what was heard changes an outcome; a closed record then comes under question."""
    if _verdicts(before) == _verdicts(after):
        return after
    if before.closed:
        words = OBSERVED[type(event.payload)]
        why = Reason(
            code="under_question",
            sentence=f"Heard after the record was closed: {words}, at {ev.instant(event.occurred_at)}.",
            rule="judged by when it happened",
            gravity="stop",
            remedy="A tester settles it in a correction that both sign.",
        )
        after = replace(after, questions=(*after.questions, why), questioned_in=after.revision)
    return replace(after, signatures=_on_earlier_revisions(after))


def _note_fails(visit: Visit) -> Visit:
    """Remember of every try that it was judged a fail at some moment: nothing said later takes that away."""
    if all(one.has_failed or outcome(visit, one)[0] != "fail" for one in visit.tries):
        return visit
    marked = (replace(one, has_failed=one.has_failed or outcome(visit, one)[0] == "fail") for one in visit.tries)
    return replace(visit, tries=tuple(marked))


def _on_earlier_revisions(visit: Visit) -> tuple[Signature, ...]:
    return tuple(one for one in visit.signatures if one.revision != visit.revision)


def _answered_in_a_row(visit: Visit, events: Sequence[ev.Event]) -> Visit:
    last = events[-1]
    latest = max(one.occurred_at for one in events)
    changes: dict[str, Any] = {
        "seq": last.seq,
        "moved": last.seq,
        "chain": last.chain,
        "last_at": _latest(visit, latest),
    }
    found: list[Answer] = []
    begun, moved = visit.tries, visit.moved
    for event in events:
        payload: Any = event.payload  # an ev.Answered
        item = visit.rules.procedure.find(payload.question)
        if item is None or item.act:
            moved = event.seq
            continue
        before = found[-1] if found else visit.asked[-1] if visit.asked else None
        found.append(
            made(
                Answer,
                question=payload.question,
                answer=payload.answer,
                facts=payload.facts,
                at=event.occurred_at,
                minutes_ago=payload.minutes_ago,
                note=payload.note,
                seq=event.seq,
                actor=event.actor,
                screen=payload.screen,
            )
        )
        if item.before != "release" and visit.signatures:
            changes["signatures"] = _on_earlier_revisions(visit)
        if begun or item.mistake or item.unwell:
            visit = denied(visit, item, found[-1], before if before is not None and before.seq == moved else None)
        moved = event.seq
    if found:
        changes["answers"] = {**visit.answers, **{one.question: one for one in found}}
        changes["asked"] = (*visit.asked, *found)
    after = replace(visit, **changes)
    return _note_fails(after) if begun else after


_HANDLERS: dict[type, Callable[[Visit, ev.Event, Any], Visit]] = {
    **ARRIVAL_HANDLERS,
    **ON_THE_FACE_HANDLERS,
    **RUNS_HANDLERS,
    **CLOSING_HANDLERS,
    ev.ScreenTookPart: screens.took_part,
    ev.ScreenCleared: screens.cleared,
    ev.ScreenLost: screens.lost,
    **QUALITATIVE_HANDLERS,
}
