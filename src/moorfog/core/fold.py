"""The pure fold: from a log of events to the visit's state. It is total: no log makes it raise."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from datetime import datetime, timedelta
from fractions import Fraction
from itertools import groupby
from typing import Any

from moorfog.core import events as ev
from moorfog.core.arithmetic import decimal_or_none
from moorfog.core.budget import stopped_numbers
from moorfog.core.fold_qualitative import QUALITATIVE_HANDLERS, faults_so_far, spoil_screening
from moorfog.core.judge import outcome, run_blocks
from moorfog.core.measure import Reason, RunNumbers, measure_typed
from moorfog.core.measure_run import Limits, measure_run
from moorfog.core.protocols import instrument_of
from moorfog.core.replacing import made, replace
from moorfog.core.rules import Rules
from moorfog.core.trying import begin_try, break_run, change_running, find_try, is_redonning, put_try
from moorfog.core.visit import Answer, OpenLoop, SealResult, Signature, Visit, loops_needed

UNSIGNING: frozenset[type] = frozenset(
    {
        ev.FacepieceChosen,
        ev.TaskChosen,
        ev.RunStarted,
        ev.RunClosed,
        ev.NumbersTyped,
        ev.RunVoided,
        ev.Touched,
        ev.Distress,
        ev.Stopped,
        ev.ProofGiven,
        ev.Decided,
        ev.Withheld,
        ev.MethodChosen,
        ev.QualitativeStarted,
        ev.QualitativeEnded,
        ev.Detected,
        ev.DetectionMistaken,
        ev.EyesOpened,
        ev.ProofSensed,
    }
)
"""Entries after which what was signed is not what stands there any more."""

REDONNED = Reason(
    "redonned",
    "Taken off, put on again or adjusted where the protocol asks for it.",
    "protocol: only in its re-donning",
    "note",
)


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
    changes: dict[str, Any] = {"seq": event.seq, "chain": event.chain, "last_at": event.occurred_at}
    if type(payload) in UNSIGNING:
        changes["signatures"] = _on_earlier_revisions(visit)
    visit = replace(visit, **changes)
    handler = _HANDLERS.get(type(payload))
    return handler(visit, event, payload) if handler else visit


def _on_earlier_revisions(visit: Visit) -> tuple[Signature, ...]:
    return tuple(one for one in visit.signatures if one.revision != visit.revision)


def _opened(visit: Visit, event: ev.Event, payload: ev.VisitOpened) -> Visit:
    if visit.opened is not None:
        return visit
    return replace(
        visit,
        opened=payload,
        opened_at=event.occurred_at,
        person_id=payload.person_id,
        rules_match=payload.rules_digest == visit.rules.digest,
    )


def _task_chosen(visit: Visit, event: ev.Event, payload: ev.TaskChosen) -> Visit:
    visit = break_run(visit, event.occurred_at, "another_task", "Another task was chosen during the run.")
    return replace(visit, task=payload.task)


def _answered_in_a_row(visit: Visit, events: Sequence[ev.Event]) -> Visit:
    last = events[-1]
    changes: dict[str, Any] = {"seq": last.seq, "chain": last.chain, "last_at": last.occurred_at}
    found: list[Answer] = []
    for event in events:
        payload: Any = event.payload  # an ev.Answered
        item = visit.rules.procedure.find(payload.question)
        if item is None or item.act:
            continue
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
            )
        )
        if item.before != "release" and visit.signatures:
            changes["signatures"] = _on_earlier_revisions(visit)
    if found:
        changes["answers"] = {**visit.answers, **{one.question: one for one in found}}
        changes["asked"] = (*visit.asked, *found)
    return replace(visit, **changes)


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


def _donned(visit: Visit, event: ev.Event, payload: ev.Donned) -> Visit:
    if visit.facepiece is None:
        return visit
    visit = break_run(visit, event.occurred_at, "donned_again", "It was donned again during the run.")
    return replace(
        visit,
        donning=visit.donning + 1,
        unaided=payload.unaided,
        worn_since=event.occurred_at,
        adjustment=visit.adjustment + 1,
    )


def _doffed(visit: Visit, event: ev.Event, payload: ev.Doffed) -> Visit:
    if is_redonning(visit, event.occurred_at):
        return change_running(visit, remarks=(*visit.tries[-1].remarks, REDONNED))
    visit = break_run(visit, event.occurred_at, "lifted", "It was taken off or lifted during the run.")
    return replace(visit, worn_since=None, unaided=False)


def _adjusted(visit: Visit, event: ev.Event, payload: ev.Adjusted) -> Visit:
    if is_redonning(visit, event.occurred_at):
        return change_running(visit, remarks=(*visit.tries[-1].remarks, REDONNED))
    visit = break_run(visit, event.occurred_at, "adjusted", "It was adjusted during the run.")
    return replace(visit, adjustment=visit.adjustment + 1)


def _seal_checked(visit: Visit, event: ev.Event, payload: ev.SealChecked) -> Visit:
    if visit.worn_since is None:
        return visit
    made = SealResult(payload, event.occurred_at, visit.donning, visit.adjustment)
    return replace(visit, seals=(*visit.seals, made), asked_seals=(*visit.asked_seals, made))


def _run_started(visit: Visit, event: ev.Event, payload: ev.RunStarted) -> Visit:
    if (
        visit.facepiece is None
        or visit.running is not None
        or any(one.started.run_id == payload.run_id for one in visit.tries)
    ):
        return visit
    judged_by = decimal_or_none(payload.level)
    figures = (payload.instrument.ambient_minimum, payload.instrument.resolution)
    if judged_by is None or judged_by <= 0 or any(decimal_or_none(one) is None for one in figures):
        return visit
    against = [one.code for one in run_blocks(visit, event.occurred_at)]
    protocol = visit.rules.protocol(payload.protocol_id)
    if protocol is None or protocol.is_qualitative or visit.facepiece.kind not in protocol.kinds:
        against.append("protocol")
    level = visit.rules.book.ratio(ev.level_key(visit.facepiece.kind))
    if level is None or level != judged_by:
        against.append("level")
    family = protocol.family if protocol is not None else ""
    against += kit_reasons(visit.rules, visit.facepiece, payload.mode, payload.instrument, family, event.occurred_at)
    if protocol is not None and (visit.method or "ambient_count") != protocol.method:
        against.append("method")
    if visit.current_try is not None:
        against.append("undecided")
    t0 = event.occurred_at + timedelta(milliseconds=payload.count_in_ms)
    return begin_try(visit, event, payload, visit.facepiece, t0, against)


def kit_reasons(
    rules: Rules, facepiece: ev.Facepiece, mode: str, counter: ev.Instrument, family: str, at: datetime
) -> list[str]:
    """Return codes of what is wrong with the kit for this run.

    Kind of instrument, mode for the filter, checks of the day, calibration, alcohol charged long ago.
    """
    out: list[str] = []
    if counter.kind != instrument_of(family):
        out.append("instrument")
    modes = ("ordinary", "classified") if counter.kind == "counter" else (counter.kind,)
    if mode not in modes or (
        mode != "pressure" and facepiece.filter_class not in rules.book.words(f"mode.{mode}.filters")
    ):
        out.append("mode")
    day = counter.used_on
    for name in counter.required:
        found = [one for one in counter.checks if one.name == name and one.checked_on == day]
        if not found or not found[-1].passed:
            out.append(f"check_{name}")
    if not counter.calibrated_until or counter.calibrated_until < day:
        out.append("calibration")
    if counter.charge_h:
        charged = ev.instant_or_none(counter.charged_at)
        if charged is None or not timedelta() <= at - charged <= timedelta(hours=counter.charge_h):
            out.append("alcohol")
    return out


_DEVIATION_WORDS = {
    "gap": "Readings are missing for too long.",
    "duplicate": "Readings came twice.",
    "clock_jump": "The counter's clock jumped.",
    "wrong_valve": "The valve was not where the protocol needs it.",
    "flow_alarm": "The counter reported a flow alarm.",
    "alcohol_alarm": "The counter reported low alcohol.",
    "not_finite": "A reading was no usable number.",
    "lost": "The counter was lost.",
    "digest": "The readings stored are not the readings sealed.",
    "broken_hold": "The breath was not held, or the seal gave way.",
}


def _run_closed(visit: Visit, event: ev.Event, payload: ev.RunClosed) -> Visit:
    one = find_try(visit, payload.run_id)
    started = one.counted if one is not None else None
    if one is None or started is None or one.closed or one.typed:
        return visit
    protocol = visit.rules.protocol(started.protocol_id)
    broken = one.broken + tuple(
        Reason(
            found.code,
            _DEVIATION_WORDS[found.code],
            found.detail,
            "put_right",
            "Repeat the run from the first exercise.",
        )
        for found in payload.deviations
    )
    numbers = RunNumbers("unfinished")
    if protocol is not None:
        if payload.end == "complete" and not one.stopped:
            numbers = measure_run(
                protocol,
                visit.rules.book,
                Fraction(started.level),
                payload,
                one.facepiece.kind,
                _limits(visit, started),
            )
        elif payload.end == "stopped" or one.stopped:
            numbers = stopped_numbers(
                protocol,
                visit.rules.book,
                Fraction(started.level),
                one.facepiece.kind,
                payload.windows,
                payload.signals,
                payload.holds,
            )
    if payload.end == "lost":
        broken = (
            *broken,
            Reason("lost", _DEVIATION_WORDS["lost"], "silence in mid-run", "put_right", "Repeat the run."),
        )
    if broken:
        numbers = replace(numbers, state="unfinished") if numbers.state in ("reached", "held", "below") else numbers
    return put_try(
        visit, replace(one, closed=payload, broken=broken, numbers=numbers, ended_at=one.ended_at or event.occurred_at)
    )


def _limits(visit: Visit, started: ev.RunStarted) -> Limits:
    counter = started.instrument
    minimum, step = decimal_or_none(counter.ambient_minimum), decimal_or_none(counter.resolution)
    cap = visit.rules.book.ratio("mode.classified.cap") if started.mode == "classified" else None
    return Limits(minimum or Fraction(0), step or Fraction(0), cap)


def _numbers_typed(visit: Visit, event: ev.Event, payload: ev.NumbersTyped) -> Visit:
    one = find_try(visit, payload.run_id)
    started, ends = (one.counted, visit.run_ends_at(one)) if one is not None else (None, None)
    if one is None or started is None or one.typed or one.closed or started.source != "typed":
        return visit
    protocol = visit.rules.protocol(started.protocol_id)
    limits = _limits(visit, started)
    broken = one.broken
    if ends is None or event.occurred_at < ends:
        broken = (
            *broken,
            Reason(
                "too_early",
                "Numbers came before the protocol was over.",
                "protocol length",
                "put_right",
                "Repeat the run.",
            ),
        )
    try:
        numbers = (
            measure_typed(
                protocol,
                visit.rules.book,
                Fraction(started.level),
                payload.exercises,
                payload.resolution,
                limits.minimum,
                limits.cap,
            )
            if protocol
            else RunNumbers("unfinished")
        )
    except (ValueError, ZeroDivisionError) as error:
        numbers = RunNumbers(
            "void", reasons=(Reason("not_a_number", str(error), "", "put_right", "Type what the counter shows."),)
        )
    if broken or one.stopped or one.distress:
        numbers = replace(numbers, state="unfinished")
    return put_try(
        visit, replace(one, typed=payload, numbers=numbers, broken=broken, ended_at=one.ended_at or event.occurred_at)
    )


def _run_voided(visit: Visit, event: ev.Event, payload: ev.RunVoided) -> Visit:
    one = find_try(visit, payload.run_id)
    if one is None:
        return visit
    return put_try(visit, replace(one, voided=payload.reason or "Voided.", ended_at=one.ended_at or event.occurred_at))


def _touched(visit: Visit, event: ev.Event, payload: ev.Touched) -> Visit:
    running = visit.running
    if running is None:
        return visit
    if payload.moved and not is_redonning(visit, event.occurred_at):
        return break_run(visit, event.occurred_at, "touched_moved", "The wearer touched it and it moved.")
    note = Reason("touched", "The wearer touched it; nothing moved.", "recorded, the tester decides", "note")
    if payload.moved:
        note = REDONNED
    return change_running(visit, remarks=(*running.remarks, note))


def _distress(visit: Visit, event: ev.Event, payload: ev.Distress) -> Visit:
    if visit.running is not None:
        visit = change_running(visit, distress=True, stopped=True, ended_at=event.occurred_at)
    return replace(spoil_screening(visit, event.occurred_at), distress=True)


def _stopped(visit: Visit, event: ev.Event, payload: ev.Stopped) -> Visit:
    running = visit.running
    if running is None:
        return spoil_screening(visit, event.occurred_at)
    faults = faults_so_far(visit, running, event.occurred_at)
    return change_running(visit, stopped=True, ended_at=event.occurred_at, broken=(*running.broken, *faults))


def _proof_given(visit: Visit, event: ev.Event, payload: ev.ProofGiven) -> Visit:
    one = find_try(visit, payload.run_id)
    if one is None or one.is_running or one.proof is not None:
        return visit
    return put_try(visit, replace(one, proof=payload.rose))


def _decided(visit: Visit, event: ev.Event, payload: ev.Decided) -> Visit:
    current = visit.current_try
    if current is None or current.is_running:
        return visit
    if payload.next == "end":
        return replace(visit, ending=True)
    visit = put_try(visit, replace(current, final=outcome(visit, current)))
    visit = replace(
        visit, attempt=visit.attempt + 1, worn_since=None, unaided=False, adjustment=visit.adjustment + 1, ending=False
    )
    if payload.next == "other_method":
        visit = replace(visit, method="")
    if payload.next in ("other_size", "other_facepiece"):
        visit = replace(visit, facepiece=None, seals=())
    return visit


def _withheld(visit: Visit, event: ev.Event, payload: ev.Withheld) -> Visit:
    one = find_try(visit, payload.run_id)
    return visit if one is None else put_try(visit, replace(one, withheld=payload.reason or "no reason given"))


def _signed(visit: Visit, event: ev.Event, payload: ev.Signed) -> Visit:
    signature = Signature(
        payload.role, payload.digest, event.occurred_at, event.actor, visit.revision, payload.covers_seq
    )
    others = tuple(one for one in visit.signatures if not (one.role == payload.role and one.revision == visit.revision))
    return replace(visit, signatures=(*others, signature))


def _turned_away(visit: Visit, event: ev.Event, payload: ev.TurnedAway) -> Visit:
    visit = break_run(visit, event.occurred_at, "turned_away", "The visit was ended during the run.")
    closed = visit.closed or ("turned_away" if not visit.loops and visit.worn_since is None and not visit.tries else "")
    return replace(
        visit, turned_away=payload.reason or "no reason given", come_back_on=payload.come_back_on, closed=closed
    )


def _released(visit: Visit, event: ev.Event, payload: ev.Released) -> Visit:
    if visit.loops or visit.running is not None:
        return visit
    return replace(visit, closed=visit.closed or ("turned_away" if visit.turned_away else "released"))


def _corrected(visit: Visit, event: ev.Event, payload: ev.Corrected) -> Visit:
    """Open a new revision. Every outcome is frozen first, so that no correction makes a pass of what was none."""
    frozen = tuple(
        one if one.final or one.is_running else replace(one, final=outcome(visit, one)) for one in visit.tries
    )
    if payload.size is not None:
        frozen = tuple(
            replace(one, facepiece=replace(one.facepiece, size=payload.size))
            if one.chosen_seq == payload.target
            else one
            for one in frozen
        )
    visit = replace(
        visit,
        tries=frozen,
        revision=visit.revision + 1,
        corrections=(*visit.corrections, payload.reason),
        person_id=visit.person_id if payload.person_id is None else payload.person_id,
    )
    one = find_try(visit, payload.void_run) if payload.void_run is not None else None
    return put_try(visit, replace(one, voided=payload.reason or "Voided by correction.")) if one is not None else visit


_HANDLERS: dict[type, Callable[[Visit, ev.Event, Any], Visit]] = {
    ev.VisitOpened: _opened,
    ev.TaskChosen: _task_chosen,
    ev.FacepieceChosen: _chosen,
    ev.ProbeFitted: _probe_fitted,
    ev.LoopOpened: _loop_opened,
    ev.LoopClosed: _loop_closed,
    ev.Donned: _donned,
    ev.Doffed: _doffed,
    ev.Adjusted: _adjusted,
    ev.SealChecked: _seal_checked,
    ev.RunStarted: _run_started,
    ev.RunClosed: _run_closed,
    ev.NumbersTyped: _numbers_typed,
    ev.RunVoided: _run_voided,
    ev.Touched: _touched,
    ev.Distress: _distress,
    ev.Stopped: _stopped,
    ev.ProofGiven: _proof_given,
    ev.Decided: _decided,
    ev.Withheld: _withheld,
    ev.Signed: _signed,
    ev.TurnedAway: _turned_away,
    ev.Released: _released,
    ev.Corrected: _corrected,
    **QUALITATIVE_HANDLERS,
}
