"""The pure fold: from a log of events to the visit's state. It is total: no log makes it raise."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from datetime import datetime, timedelta
from fractions import Fraction
from itertools import groupby
from typing import Any

from moorfog.core.events import payloads as ev
from moorfog.core.kernel.arithmetic import decimal_or_none
from moorfog.core.kernel.replacing import made, replace
from moorfog.core.measuring.ambient import RunNumbers, measure_typed
from moorfog.core.measuring.budget import stopped_numbers
from moorfog.core.measuring.run import limits_of_run, measure_run
from moorfog.core.qualitative.fold import QUALITATIVE_HANDLERS, faults_so_far, spoil_screening
from moorfog.core.rules.book import Rules
from moorfog.core.rules.kit_gate import instrument_blocks
from moorfog.core.rules.reason import Reason
from moorfog.core.visit import screens
from moorfog.core.visit.blocks import file_blocks, run_blocks
from moorfog.core.visit.denials import denied
from moorfog.core.visit.outcomes import outcome
from moorfog.core.visit.proof import is_read_by_link, judge_proof, judge_stream
from moorfog.core.visit.state import (
    Answer,
    Ended,
    File,
    OpenLoop,
    SealHold,
    SealResult,
    Signature,
    Try,
    Visit,
    loops_needed,
    seal_rule,
)
from moorfog.core.visit.steps import is_signed
from moorfog.core.visit.tries import (
    begin_try,
    break_run,
    change_running,
    find_try,
    is_redonning,
    put_try,
    spoil,
    try_at,
    withheld_reason,
    worsen,
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
    helped = visit.worn_since is not None and not visit.unaided  # it is still on: nobody has donned it anew
    return replace(
        visit,
        donning=visit.donning + 1,
        unaided=payload.unaided and not helped,
        worn_since=event.occurred_at,
        adjustment=visit.adjustment + 1,
    )


def _since_donned(one: Try) -> datetime | None:
    return one.worn_since


def _since_sealed(one: Try) -> datetime | None:
    return one.sealed_at


def _changed_on_the_face(visit: Visit, one: Try, at: datetime, code: str, sentence: str) -> Visit:
    """Void a try in which the facepiece was moved or taken off, unless its protocol asks for just that then."""
    if is_redonning(visit, one, at):
        return put_try(visit, replace(one, remarks=(*one.remarks, REDONNED)))
    return spoil(visit, one, at, code, sentence)


def _doffed(visit: Visit, event: ev.Event, payload: ev.Doffed) -> Visit:
    at = event.occurred_at
    one = try_at(visit, at, _since_donned)
    if one is not None:
        visit = _changed_on_the_face(visit, one, at, "lifted", "It was taken off or lifted before the run was over.")
        if visit.tries[one.no - 1].is_running:
            return visit  # in a re-donning that the protocol asks for
    if visit.worn_since is None or at < visit.worn_since:
        return visit
    return replace(visit, worn_since=None, unaided=False)


def _adjusted(visit: Visit, event: ev.Event, payload: ev.Adjusted) -> Visit:
    at = event.occurred_at
    one = try_at(visit, at, _since_sealed)
    if one is not None:
        visit = _changed_on_the_face(visit, one, at, "adjusted", "It was adjusted before the run was over.")
        if visit.tries[one.no - 1].is_running:
            return visit
    return replace(visit, adjustment=visit.adjustment + 1)


def _seal_hold_begun(visit: Visit, event: ev.Event, payload: ev.SealHoldBegun) -> Visit:
    if visit.worn_since is None:
        return visit
    return replace(visit, seal_hold=SealHold(payload.check, event.occurred_at, visit.donning, visit.adjustment))


def hold_of(visit: Visit, check: str) -> SealHold | None:
    """Return the hold that was begun for a seal check as the facepiece sits now, None where none was."""
    hold, here = visit.seal_hold, (check, visit.donning, visit.adjustment)
    return hold if hold is not None and (hold.check, hold.donning, hold.adjustment) == here else None


def held_s(visit: Visit, check: str, at: datetime) -> float | None:
    """Return how many seconds of protocol time a seal check has been held at ``at``, None where no hold was begun."""
    hold = hold_of(visit, check)
    return (at - hold.at).total_seconds() * visit.speed if hold is not None else None


def must_be_held_s(visit: Visit, check: str) -> Fraction:
    """Return for how many seconds a seal check of this facepiece is held, 0 where it is not."""
    rule = seal_rule(visit)
    if rule is None or check not in rule.held:
        return Fraction(0)
    return visit.rules.book.ratio("seal_check.hold") or Fraction(0)


def _seal_checked(visit: Visit, event: ev.Event, payload: ev.SealChecked) -> Visit:
    if visit.worn_since is None or visit.facepiece is None:
        return visit
    wanted, held = must_be_held_s(visit, payload.check), held_s(visit, payload.check, event.occurred_at)
    made = SealResult(
        check=payload,
        at=event.occurred_at,
        donning=visit.donning,
        adjustment=visit.adjustment,
        configuration=visit.facepiece.configuration,
        is_long_enough=not wanted or (held is not None and held >= wanted),
    )
    return replace(visit, seals=(*visit.seals, made), asked_seals=(*visit.asked_seals, made), seal_hold=None)


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
    blocking = [one.code for one in run_blocks(visit, event.occurred_at)]
    protocol = visit.rules.protocol(payload.protocol_id)
    if protocol is None or protocol.is_qualitative or visit.facepiece.kind not in protocol.kinds:
        blocking.append("protocol")
    level = visit.rules.book.ratio(visit.facepiece.level_key)
    if level is None or level != judged_by:
        blocking.append("level")
    family = protocol.family if protocol is not None else ""
    blocking += instrument_blocks(
        visit.rules.book, visit.facepiece, payload.mode, payload.instrument, family, event.occurred_at
    )
    if protocol is not None and (visit.method or "ambient_count") != protocol.method:
        blocking.append("method")
    if visit.current_try is not None:
        blocking.append("undecided")
    t0 = event.occurred_at + timedelta(milliseconds=payload.count_in_ms)
    return begin_try(visit, event, payload, visit.facepiece, t0, blocking)


_DEVIATION_KEYS = {
    "gap": ("missing.maximum",),
    "lost": ("readings.lost",),
    "unknown_flag": ("readings.strict",),
    "long_interval": ("readings.interval",),
    "short_window": ("missing.maximum",),
    "volume": ("readings.volume",),
}
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
    "unknown_flag": "The instrument raised a flag that is not known here.",
    "long_interval": "One reading lasted too long to say anything.",
    "short_window": "Too little was read of an exercise, or of the air outside.",
    "volume": "The sampled volume is not what flow and time give.",
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
            code=found.code,
            sentence=_DEVIATION_WORDS[found.code],
            rule=found.detail,
            gravity="put_right",
            remedy="Repeat the run from the first exercise.",
            keys=_DEVIATION_KEYS.get(found.code, ()),
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
                one.facepiece.level_key,
                limits_of_run(visit.rules.book, started),
            )
        elif payload.end == "stopped" or one.stopped:
            numbers = stopped_numbers(
                protocol,
                visit.rules.book,
                Fraction(started.level),
                one.facepiece.level_key,
                payload.windows,
                payload.signals,
                payload.holds,
            )
    if payload.end == "lost":
        broken = (
            *broken,
            Reason(
                code="lost",
                sentence=_DEVIATION_WORDS["lost"],
                rule="silence in mid-run",
                gravity="put_right",
                remedy="Repeat the run.",
                keys=("readings.lost",),
            ),
        )
    if broken:
        numbers = replace(numbers, state="unfinished") if numbers.state in ("reached", "held") else numbers
    return put_try(
        visit, replace(one, closed=payload, broken=broken, numbers=numbers, ended_at=one.ended_at or event.occurred_at)
    )


def _numbers_typed(visit: Visit, event: ev.Event, payload: ev.NumbersTyped) -> Visit:
    one = find_try(visit, payload.run_id)
    started, ends = (one.counted, visit.run_ends_at(one)) if one is not None else (None, None)
    if one is None or started is None or one.typed or one.closed or started.source != "typed":
        return visit
    protocol = visit.rules.protocol(started.protocol_id)
    limits = limits_of_run(visit.rules.book, started)
    broken = one.broken
    if ends is None or event.occurred_at < ends:
        broken = (
            *broken,
            Reason(
                code="too_early",
                sentence="Numbers came before the protocol was over.",
                rule="protocol length",
                gravity="put_right",
                remedy="Repeat the run.",
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
                limits.near_zero,
            )
            if protocol
            else RunNumbers("unfinished")
        )
    except (ValueError, ZeroDivisionError) as error:
        numbers = RunNumbers(
            "void",
            reasons=(
                Reason(
                    code="not_a_number",
                    sentence=str(error),
                    rule="",
                    gravity="put_right",
                    remedy="Type what the counter shows.",
                ),
            ),
        )
    if (broken or one.stopped or one.distress) and numbers.state in ("reached", "held"):
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
    at = event.occurred_at
    one = try_at(visit, at, _since_sealed if payload.moved else None)
    if one is None:
        moved = payload.moved and visit.worn_since is not None and visit.current_try is None
        return replace(visit, adjustment=visit.adjustment + 1) if moved else visit
    if payload.moved:
        return _changed_on_the_face(visit, one, at, "moved", "The wearer touched it and it moved.")
    note = Reason("touched", "The wearer touched it; nothing moved.", "recorded, the tester decides", "note")
    return put_try(visit, replace(one, remarks=(*one.remarks, note)))


def _distress(visit: Visit, event: ev.Event, payload: ev.Distress) -> Visit:
    one = try_at(visit, event.occurred_at) or visit.running
    if one is not None:
        visit = _broken_off(visit, one, event.occurred_at, distress=True)
    return replace(spoil_screening(visit, event.occurred_at), distress=True)


def _stopped(visit: Visit, event: ev.Event, payload: ev.Stopped) -> Visit:
    one = try_at(visit, event.occurred_at) or visit.running
    if one is None:
        return spoil_screening(visit, event.occurred_at)
    faults = faults_so_far(visit, one, event.occurred_at) if one.is_running else ()
    return _broken_off(visit, replace(one, broken=(*one.broken, *faults)), event.occurred_at, distress=False)


def _broken_off(visit: Visit, one: Try, at: datetime, distress: bool) -> Visit:
    why = Reason("stopped", "Stopped before the end.", "no verdict without all exercises", "put_right")
    changed = replace(one, stopped=True, distress=one.distress or distress, ended_at=one.ended_at or at)
    return put_try(visit, worsen(changed, "unfinished", why))


def _proof_given(visit: Visit, event: ev.Event, payload: ev.ProofGiven) -> Visit:
    one = find_try(visit, payload.run_id)
    if one is None or one.is_running or one.proof is False:
        return visit
    if payload.rose and is_read_by_link(one):
        return visit  # its link reads the proof: what somebody says of the number proves nothing
    rose, why = judge_proof(visit, one, event.occurred_at, payload.rose, payload.seen)
    return put_try(visit, replace(one, proof=rose, proof_reason=why))


def _proof_measured(visit: Visit, event: ev.Event, payload: ev.ProofMeasured) -> Visit:
    one = find_try(visit, payload.run_id)
    if one is None or one.is_running or one.proof is False or not is_read_by_link(one):
        return visit
    rose, why = judge_stream(visit, one, event.occurred_at, payload)
    return put_try(visit, replace(one, proof=rose, proof_reason=why, proof_stream=payload.stream_id))


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
    if one is None:
        return visit
    words = payload.reason or "no reason given"
    return put_try(visit, worsen(replace(one, withheld=words), "fail", withheld_reason(words)))


def _signed(visit: Visit, event: ev.Event, payload: ev.Signed) -> Visit:
    signature = Signature(
        role=payload.role,
        digest=payload.digest,
        at=event.occurred_at,
        actor=event.actor,
        revision=visit.revision,
        covers_seq=payload.covers_seq,
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
    if visit.loops or visit.running is not None or visit.wrong_person:
        return visit
    if is_signed(visit):
        passed = (replace(one, has_passed=outcome(visit, one)[0] == "pass") for one in visit.tries)
        visit = replace(visit, tries=tuple(passed))
    return replace(visit, closed=visit.closed or ("turned_away" if visit.turned_away else "released"))


def _corrected(visit: Visit, event: ev.Event, payload: ev.Corrected) -> Visit:
    """Open a new revision. Every outcome is frozen first, so that no correction makes a pass of what was none."""
    frozen = tuple(
        one if one.final or one.is_running else replace(one, final=outcome(visit, one)) for one in visit.tries
    )
    revision = visit.revision + 1
    moved = tuple(
        Ended(
            no=one.no,
            person_id=visit.person_id,
            configuration=one.facepiece.configuration,
            at=one.started_at,
            revision=revision,
        )
        for one in frozen
        if one.has_failed and (payload.person_id or (payload.size and one.chosen_seq == payload.target))
    )
    if payload.size is not None:
        frozen = _moved_to_size(frozen, payload.target, payload.size)
    person = visit.person_id if payload.person_id is None else payload.person_id
    if payload.failed_before:
        frozen = tuple(worsen(one, "unfinished", FAILED_THERE) for one in frozen)
    visit = replace(
        visit,
        tries=frozen,
        revision=revision,
        corrections=(*visit.corrections, payload.reason),
        person_id=person,
        ended=(*visit.ended, *moved),
    )
    if payload.person_id is not None:
        visit = _for_the_right_person(visit, payload)
    one = find_try(visit, payload.void_run) if payload.void_run is not None else None
    return put_try(visit, replace(one, voided=payload.reason or "Voided by correction.")) if one is not None else visit


FAILED_THERE = Reason(
    code="failed_there",
    sentence="Moved to where this person has failed: that is no pass without another test.",
    rule="a correction never makes a pass of a non-pass",
    gravity="stop",
    remedy="Test again.",
)


def _moved_to_size(tries: tuple[Try, ...], chosen: int, size: str) -> tuple[Try, ...]:
    """Move the tries of one choice of a facepiece to another size; where that one has failed they are no pass."""
    out = tuple(
        replace(one, facepiece=replace(one.facepiece, size=size)) if one.chosen_seq == chosen else one for one in tries
    )
    failed = {one.facepiece.configuration for one in out if one.has_failed and one.chosen_seq != chosen}
    return tuple(
        worsen(one, "unfinished", FAILED_THERE)
        if one.chosen_seq == chosen and one.facepiece.configuration in failed
        else one
        for one in out
    )


def _for_the_right_person(visit: Visit, payload: ev.Corrected) -> Visit:
    """Judge the tries by the file of the person they are moved to: the first one's clearance does not go along."""
    file = payload.file
    visit = replace(
        visit,
        file=File(file.clearance, file.trained_on, file.on) if file is not None else File(None, "", ""),
        is_moved=True,
    )
    tries = []
    for one in visit.tries:
        for block in file_blocks(replace(visit, facepiece=one.facepiece)):
            why = Reason(
                code=block.code,
                sentence=f"{block.sentence}.",
                rule="the right person's own file",
                gravity="stop",
                remedy=block.detail,
                keys=block.keys,
            )
            one = worsen(one, "unfinished", why)
        tries.append(one)
    return replace(visit, tries=tuple(tries))


_HANDLERS: dict[type, Callable[[Visit, ev.Event, Any], Visit]] = {
    ev.VisitOpened: _opened,
    ev.FileRead: _file_read,
    ev.OpenedByMistake: _opened_by_mistake,
    ev.SealHoldBegun: _seal_hold_begun,
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
    ev.ProofMeasured: _proof_measured,
    ev.ScreenTookPart: screens.took_part,
    ev.ScreenCleared: screens.cleared,
    ev.ScreenLost: screens.lost,
    ev.Decided: _decided,
    ev.Withheld: _withheld,
    ev.Signed: _signed,
    ev.TurnedAway: _turned_away,
    ev.Released: _released,
    ev.Corrected: _corrected,
    **QUALITATIVE_HANDLERS,
}
