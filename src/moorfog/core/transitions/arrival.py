"""What opens a visit: the person, the file, the task, the facepiece, and what is altered on it for the test."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from moorfog.core.events import payloads as ev
from moorfog.core.kernel.replacing import replace
from moorfog.core.visit.blocks import file_blocks
from moorfog.core.visit.state import File, OpenLoop, Visit, loops_needed
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
    if visit.closed or visit.loops or visit.worn_since is not None or visit.running is not None:
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


def _open_loops(visit: Visit, event: ev.Event, rules: Sequence[str]) -> Visit:
    label = f"{visit.facepiece.model} {visit.facepiece.size}" if visit.facepiece else ""
    opened, count = list(visit.loops), visit.loops_opened
    for rule in rules:
        count += 1
        opened.append(OpenLoop(f"{rule}:{count}", rule, event.occurred_at, label))
    return replace(visit, loops=tuple(opened), loops_opened=count)


def _probe_fitted(visit: Visit, event: ev.Event, payload: ev.ProbeFitted) -> Visit:
    return replace(_open_loops(visit, event, payload.loops), probe_fitted_for=visit.chosen, parts=payload.parts)


def _loop_opened(visit: Visit, event: ev.Event, payload: ev.LoopOpened) -> Visit:
    if not any(one.id == payload.loop for one in visit.rules.procedure.loop):
        return visit
    visit = break_run(visit, event.occurred_at, "altered_in_run", "Something was altered during the run.")
    return _open_loops(visit, event, (payload.loop,))


def _loop_closed(visit: Visit, event: ev.Event, payload: ev.LoopClosed) -> Visit:
    found = next((one for one in visit.loops if one.id == payload.loop), None)
    if found is None:
        return visit
    visit = break_run(visit, event.occurred_at, "put_back_in_run", "Something was put back during the run.")
    left = tuple(one for one in visit.loops if one.id != payload.loop)
    return replace(
        visit,
        loops=left,
        loops_closed=(*visit.loops_closed, (found, event.occurred_at)),
        probe_fitted_for=visit.probe_fitted_for if visit.current_try or found.rule not in loops_needed(visit) else 0,
    )


ARRIVAL_HANDLERS: dict[type, Callable[[Visit, ev.Event, Any], Visit]] = {
    ev.VisitOpened: _opened,
    ev.FileRead: _file_read,
    ev.OpenedByMistake: _opened_by_mistake,
    ev.TaskChosen: _task_chosen,
    ev.FacepieceChosen: _chosen,
    ev.ProbeFitted: _probe_fitted,
    ev.LoopOpened: _loop_opened,
    ev.LoopClosed: _loop_closed,
}
