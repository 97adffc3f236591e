"""Runs that give a number: started, closed or typed, stopped, voided, and the proof of a held verdict."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta
from fractions import Fraction
from typing import Any

from moorfog.core.events import payloads as ev
from moorfog.core.kernel.arithmetic import decimal_or_none
from moorfog.core.kernel.replacing import replace
from moorfog.core.measuring.budget import stopped_numbers
from moorfog.core.measuring.results import RunNumbers
from moorfog.core.measuring.run import limits_of_run, measure_run
from moorfog.core.measuring.typed import Shown, measure_typed
from moorfog.core.qualitative.fold import faults_so_far, spoil_screening
from moorfog.core.rules.kit_gate import instrument_blocks
from moorfog.core.rules.reason import Reason
from moorfog.core.visit.blocks import run_blocks
from moorfog.core.visit.proof import is_read_by_link, judge_proof, judge_stream
from moorfog.core.visit.state import Try, Visit
from moorfog.core.visit.tries import (
    begin_try,
    find_try,
    put_try,
    try_at,
    worsen,
)


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
    "unknown_flag": ("readings.strict",),
    "long_interval": ("readings.interval",),
    "short_window": ("readings.lost",),
    "volume": ("readings.volume",),
    "stuck": ("readings.stuck",),
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
    "stuck": "The instrument shows the same figure again and again: it is stuck.",
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
                Shown(limits.step, limits.maximum) if limits.step > 0 else None,
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
                    rule="what is typed is read as a number or not at all",
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


RUNS_HANDLERS: dict[type, Callable[[Visit, ev.Event, Any], Visit]] = {
    ev.RunStarted: _run_started,
    ev.RunClosed: _run_closed,
    ev.NumbersTyped: _numbers_typed,
    ev.RunVoided: _run_voided,
    ev.Distress: _distress,
    ev.Stopped: _stopped,
    ev.ProofGiven: _proof_given,
    ev.ProofMeasured: _proof_measured,
}
