"""What opens a visit: the person, the file, the task, the facepiece, and what is altered on it for the test."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from moorfog.core.events import payloads as ev
from moorfog.core.kernel.replacing import replace
from moorfog.core.visit.blocks import file_blocks
from moorfog.core.visit.state import File, OpenAlteration, Visit, alterations_needed
from moorfog.core.visit.tries import (
    break_run,
    spoil,
)


def _opened(visit: Visit, event: ev.Event, payload: ev.VisitOpened) -> Visit:
    if visit.opened is not None:
        return visit
    return replace(
        visit,
        opened=payload,
        opened_at=event.occurred_at,
        file=File(payload.clearance, payload.trained_on, payload.opened_on),
        person_id=payload.person_id,
        rules_match=payload.rules_digest == visit.rules.digest,
    )


def _file_read(visit: Visit, event: ev.Event, payload: ev.FileRead) -> Visit:
    visit = replace(visit, file=File(payload.clearance, payload.trained_on, payload.on))
    blocking, current = file_blocks(visit), visit.current_try
    if not blocking or current is None:
        return visit
    return spoil(visit, current, event.occurred_at, blocking[0].code, f"{blocking[0].sentence}.")


def _opened_by_mistake(visit: Visit, event: ev.Event, payload: ev.OpenedByMistake) -> Visit:
    if visit.closed or visit.alterations or visit.worn_since is not None or visit.running is not None:
        return visit
    return replace(visit, wrong_person=True, closed="mistaken")


def _task_chosen(visit: Visit, event: ev.Event, payload: ev.TaskChosen) -> Visit:
    visit = break_run(visit, event.occurred_at, "another_task", "Another task was chosen during the run.")
    return replace(visit, task=payload.task)


def _chosen(visit: Visit, event: ev.Event, payload: ev.FacepieceChosen) -> Visit:
    visit = break_run(visit, event.occurred_at, "another_facepiece", "Another facepiece was chosen during the run.")
    return replace(
        visit,
        facepiece=payload.facepiece,
        chosen=visit.chosen + 1,
        chosen_seq=event.seq,
        parts=(),
        worn_since=None,
        unaided=False,
        seals=(),
        adjustment=visit.adjustment + 1,
    )


def _alter(visit: Visit, event: ev.Event, rules: Sequence[str]) -> Visit:
    label = f"{visit.facepiece.model} {visit.facepiece.size}" if visit.facepiece else ""
    opened, count = list(visit.alterations), visit.alterations_made
    for rule in rules:
        count += 1
        opened.append(OpenAlteration(f"{rule}:{count}", rule, event.occurred_at, label))
    return replace(visit, alterations=tuple(opened), alterations_made=count)


def _probe_fitted(visit: Visit, event: ev.Event, payload: ev.ProbeFitted) -> Visit:
    return replace(_alter(visit, event, payload.alterations), probe_fitted_for=visit.chosen, parts=payload.parts)


def _alteration_made(visit: Visit, event: ev.Event, payload: ev.AlterationMade) -> Visit:
    if not any(one.id == payload.alteration for one in visit.rules.procedure.alteration):
        return visit
    visit = break_run(visit, event.occurred_at, "altered_in_run", "Something was altered during the run.")
    return _alter(visit, event, (payload.alteration,))


def _alteration_undone(visit: Visit, event: ev.Event, payload: ev.AlterationUndone) -> Visit:
    found = next((one for one in visit.alterations if one.id == payload.alteration), None)
    if found is None:
        return visit
    visit = break_run(visit, event.occurred_at, "put_back_in_run", "Something was put back during the run.")
    is_kept = visit.current_try or found.rule not in alterations_needed(visit)
    left = tuple(one for one in visit.alterations if one.id != payload.alteration)
    return replace(
        visit,
        alterations=left,
        alterations_undone=(*visit.alterations_undone, (found, event.occurred_at)),
        probe_fitted_for=visit.probe_fitted_for if is_kept else 0,
    )


ARRIVAL_HANDLERS: dict[type, Callable[[Visit, ev.Event, Any], Visit]] = {
    ev.VisitOpened: _opened,
    ev.FileRead: _file_read,
    ev.OpenedByMistake: _opened_by_mistake,
    ev.TaskChosen: _task_chosen,
    ev.FacepieceChosen: _chosen,
    ev.ProbeFitted: _probe_fitted,
    ev.AlterationMade: _alteration_made,
    ev.AlterationUndone: _alteration_undone,
}
