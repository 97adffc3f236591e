"""How qualitative events fold: screening, doses, detection, end and proof. Total: nothing here raises."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from typing import Any

from moorfog.core.events import payloads as ev
from moorfog.core.kernel.replacing import replace
from moorfog.core.measuring.results import RunNumbers
from moorfog.core.qualitative.judgement import (
    dose_faults,
    elapsed_ms,
    exercise_at,
    judge_end,
    kit_blocks,
    later_doses,
    screening_result,
)
from moorfog.core.rules.reason import Reason
from moorfog.core.visit.blocks import run_blocks
from moorfog.core.visit.proof import too_late
from moorfog.core.visit.state import Detection, ScreeningState, Try, Visit
from moorfog.core.visit.tries import begin_try, break_run, find_try, put_try, spoil, try_at, worsen


def _method_chosen(visit: Visit, event: ev.Event, payload: ev.MethodChosen) -> Visit:
    visit = break_run(visit, event.occurred_at, "another_method", "Another method was chosen during the run.")
    return replace(spoil_screening(visit, event.occurred_at), method=payload.method, cautions_on=payload.cautions_on)


def spoil_screening(visit: Visit, at: datetime) -> Visit:
    """End a screening that is going on without a result: it has to be made again."""
    return _end_screening(visit, "spoilt", at)


def _end_screening(visit: Visit, result: Any, at: datetime) -> Visit:
    running = visit.screening_running
    if running is None:
        return visit
    return replace(visit, screenings=(*visit.screenings[:-1], replace(running, result=result, ended_at=at)))


def _screening_started(visit: Visit, event: ev.Event, payload: ev.ScreeningStarted) -> Visit:
    if visit.running is not None or any(one.started.screening_id == payload.screening_id for one in visit.screenings):
        return visit
    visit = spoil_screening(visit, event.occurred_at)
    made = ScreeningState(payload, visit.attempt, event.occurred_at)
    protocol = visit.rules.protocol(payload.protocol_id)
    clean = (
        protocol is not None
        and protocol.method == payload.agent == visit.method
        and visit.worn_since is None
        and not kit_blocks(
            protocol,
            visit.rules.book,
            "screening",
            payload.nebuliser,
            payload.lots,
            payload.used_on,
            event.occurred_at,
        )
    )
    if not clean:
        made = replace(made, result="spoilt", ended_at=event.occurred_at)
    return replace(visit, screenings=(*visit.screenings, made))


def _squeezed(visit: Visit, event: ev.Event, payload: ev.Squeezed) -> Visit:
    last = visit.screenings[-1] if visit.screenings else None
    if last is None or last.started.screening_id != payload.screening_id:
        return visit
    if last.ended_at is not None and event.occurred_at > last.ended_at:
        return visit
    more = replace(last, squeezes=last.squeezes + 1)
    if last.ended_at is not None:
        return _threshold_again(visit, more, event.occurred_at)
    return replace(visit, screenings=(*visit.screenings[:-1], more))


def _threshold_again(visit: Visit, more: ScreeningState, at: datetime) -> Visit:
    """Count a squeeze that is heard after the screening was over: given before the taste, it may raise the threshold,
    and then a test that was given by the lower one shows nothing."""
    protocol = visit.rules.protocol(more.started.protocol_id)
    if not more.threshold or protocol is None:
        return visit
    result = screening_result(protocol, more.squeezes)
    raised = result != more.result
    visit = replace(visit, screenings=(*visit.screenings[:-1], replace(more, result=result)))
    for one in visit.tries:
        if raised and one.attempt == more.attempt and one.sensed is not None:
            visit = spoil(visit, one, at, "threshold", "The threshold was higher than the test was given by.")
    return visit


def _screened(visit: Visit, event: ev.Event, payload: ev.Screened) -> Visit:
    running = visit.screening_running
    if running is None or running.started.screening_id != payload.screening_id:
        return visit
    protocol = visit.rules.protocol(running.started.protocol_id)
    screening = protocol.screening if protocol is not None else None
    if screening is None:
        return spoil_screening(visit, event.occurred_at)
    if screening.by == "jars":
        right = payload.answer == running.started.odour_jar
        return _end_screening(visit, "sensed" if right else "none", event.occurred_at)
    enough = screening.by == "whiff" or running.squeezes >= max(screening.sets)
    return _end_screening(visit, "none" if payload.answer == "none" and enough else "spoilt", event.occurred_at)


def _qualitative_started(visit: Visit, event: ev.Event, payload: ev.QualitativeStarted) -> Visit:
    if visit.facepiece is None or visit.running is not None or find_try(visit, payload.run_id) is not None:
        return visit
    blocking = [one.code for one in run_blocks(visit, event.occurred_at)]
    protocol = visit.rules.protocol(payload.protocol_id)
    if protocol is None or protocol.dosing is None or visit.facepiece.kind not in protocol.kinds:
        blocking.append("protocol")
    elif protocol.method != payload.agent or payload.agent != visit.method:
        blocking.append("method")
    screening = visit.screening
    if screening is None or not screening.is_passed or screening.threshold != payload.threshold:
        blocking.append("threshold")
    if protocol is not None:
        blocking += kit_blocks(
            protocol, visit.rules.book, "test", payload.nebuliser, payload.lots, payload.used_on, event.occurred_at
        )
    if visit.current_try is not None:
        blocking.append("undecided")
    dosing = protocol.dosing if protocol is not None else None
    t0 = visit.after(event.occurred_at, dosing.fill_s) if dosing is not None and dosing.begins == "filled" else None
    return begin_try(visit, event, payload, visit.facepiece, t0, blocking)


def _sensing(visit: Visit, run_id: str) -> Try | None:
    one = find_try(visit, run_id)
    return one if one is not None and one.sensed is not None else None


def _dose_given(visit: Visit, event: ev.Event, payload: ev.DoseGiven) -> Visit:
    one = _sensing(visit, payload.run_id)
    if one is None or not (one.is_running or (one.ended_at and event.occurred_at <= one.ended_at)):
        return visit
    return put_try(visit, replace(one, doses=(*one.doses, event.occurred_at), t0=one.t0 or event.occurred_at))


def _detected(visit: Visit, event: ev.Event, payload: ev.Detected) -> Visit:
    screening = visit.screening_running
    if screening is not None and screening.started.screening_id == payload.about:
        protocol = visit.rules.protocol(screening.started.protocol_id)
        result = screening_result(protocol, screening.squeezes) if protocol is not None else "spoilt"
        return _end_screening(visit, result, event.occurred_at)
    one = _sensing(visit, payload.about)
    if one is None or one.detection is not None:
        return visit
    if one.ended_at is not None and event.occurred_at > one.ended_at and not _still_counts(visit, one, event):
        late = Reason(
            "detected_late",
            "Sensed and pressed after the end of the run.",
            "recorded, the tester asks when it was",
            "note",
        )
        return put_try(visit, replace(one, remarks=(*one.remarks, late)))
    changed = _failed(visit, one, event.occurred_at, payload)
    return put_try(visit, worsen(changed, "fail", changed.numbers.reasons[0]))


def _still_counts(visit: Visit, one: Try, event: ev.Event) -> bool:
    """True until the question that closes the senses, asked once the hood is off, has been answered.

    A procedure without such a question, from before there was one, closes them with the hood.
    """
    sensed = one.sensed
    closing = next(
        (
            item
            for item in visit.rules.procedure.item
            if item.closes_senses and (not item.when.methods or (sensed and sensed.agent in item.when.methods))
        ),
        None,
    )
    if closing is None:
        return False
    ended = one.ended_at or event.occurred_at
    asked = [each.at for each in visit.asked if each.question == closing.id and each.at >= ended]
    return not asked or event.occurred_at <= min(asked)


def _failed(visit: Visit, one: Try, at: datetime, payload: ev.Detected) -> Try:
    protocol = visit.rules.protocol(one.started.protocol_id)
    ms = elapsed_ms(one.t0, at, visit.speed) if one.t0 is not None else -1
    bends = one.sensed.bends if one.sensed is not None else True
    index, name = exercise_at(protocol, bends, ms) if protocol is not None else (-1, "")
    sensed = protocol.words.sensed if protocol is not None and protocol.words is not None else "detected"
    exercise = protocol.exercises(bends)[index] if protocol is not None and index >= 0 else None
    second = ms // 1000
    when = f"{name.lower()}, second {second}" if ms >= 0 else name
    remedy = f"Look at {exercise.look_at}." if exercise is not None else "Look at the whole edge, then the size."
    reason = Reason(
        code="detected",
        sentence=f"{sensed.capitalize()}: {when}.",
        rule=protocol.source if protocol else "",
        gravity="stop",
        remedy=remedy,
    )
    return replace(
        one,
        detection=Detection(at, index, second, payload.by),
        numbers=RunNumbers("below", reasons=(reason,)),
        ended_at=min(one.ended_at, at) if one.ended_at is not None else at,
    )


def _mistaken(visit: Visit, event: ev.Event, payload: ev.DetectionMistaken) -> Visit:
    one = _sensing(visit, payload.run_id)
    if one is None or one.detection is None:
        return visit
    return put_try(visit, replace(one, voided=f"Pressed by mistake, the wearer says: {payload.reason or 'no reason'}"))


def _eyes_opened(visit: Visit, event: ev.Event, payload: ev.EyesOpened) -> Visit:
    one = try_at(visit, event.occurred_at) or visit.running
    if one is None or one.sensed is None:
        return visit
    return spoil(visit, one, event.occurred_at, "eyes_opened", "Eyes opened or irritated in the smoke.")


def _ended(visit: Visit, event: ev.Event, payload: ev.QualitativeEnded) -> Visit:
    one = _sensing(visit, payload.run_id)
    protocol = visit.rules.protocol(one.started.protocol_id) if one is not None else None
    if one is None or protocol is None or not one.is_running:
        return visit
    one = replace(one, longest_gap_ms=max(0, payload.longest_gap_ms))
    numbers, faults = judge_end(protocol, one, event.occurred_at, visit.speed)
    return put_try(visit, replace(one, numbers=numbers, broken=(*one.broken, *faults), ended_at=event.occurred_at))


def _proof_sensed(visit: Visit, event: ev.Event, payload: ev.ProofSensed) -> Visit:
    one = _sensing(visit, payload.run_id)
    if one is None or one.is_running or one.proof is False:
        return visit
    protocol = visit.rules.protocol(one.started.protocol_id)
    by_break = protocol is not None and protocol.dosing is not None and protocol.dosing.proof == "seal_break"
    late = too_late(visit, one, event.occurred_at, on_face=by_break) if payload.sensed else ""
    return put_try(visit, replace(one, proof=payload.sensed and not late, proof_reason=late))


def faults_so_far(visit: Visit, one: Try, at: datetime) -> tuple[Reason, ...]:
    """Return what has voided a qualitative run by ``at``: doses missed or too far apart. Nothing for other runs."""
    protocol = visit.rules.protocol(one.started.protocol_id)
    if protocol is None or one.sensed is None or one.t0 is None:
        return ()
    until = elapsed_ms(one.t0, at, visit.speed)
    return dose_faults(protocol, one.sensed.threshold, later_doses(one, visit.speed), until)


QUALITATIVE_HANDLERS: dict[type, Callable[[Visit, ev.Event, Any], Visit]] = {
    ev.MethodChosen: _method_chosen,
    ev.ScreeningStarted: _screening_started,
    ev.Squeezed: _squeezed,
    ev.Screened: _screened,
    ev.QualitativeStarted: _qualitative_started,
    ev.DoseGiven: _dose_given,
    ev.Detected: _detected,
    ev.DetectionMistaken: _mistaken,
    ev.EyesOpened: _eyes_opened,
    ev.QualitativeEnded: _ended,
    ev.ProofSensed: _proof_sensed,
}
