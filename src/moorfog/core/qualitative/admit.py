"""Admission of what happens around a qualitative test."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from typing import Any

from moorfog.core.advice.methods import method_stands
from moorfog.core.advice.protection import protection
from moorfog.core.events import payloads as ev
from moorfog.core.qualitative.judgement import KIT_WORDS, kit_blocks
from moorfog.core.visit.blocks import run_blocks
from moorfog.core.visit.refusal import Refusal
from moorfog.core.visit.state import ScreeningState, Visit


def _kit(visit: Visit, step: str, payload: ev.ScreeningStarted | ev.QualitativeStarted, at: datetime) -> Refusal | None:
    protocol = visit.rules.protocol(payload.protocol_id)
    if protocol is None or protocol.method != payload.agent or payload.agent != visit.method:
        return Refusal("protocol", "This is not the method chosen for this facepiece.", "Choose the method first.")
    blocking = kit_blocks(protocol, visit.rules.book, step, payload.nebuliser, payload.lots, payload.used_on, at)
    if not blocking:
        return None
    sentence, remedy = KIT_WORDS[blocking[0]]
    return Refusal(blocking[0], f"Not permitted: {sentence}", remedy)


def _method(visit: Visit, payload: ev.MethodChosen, at: datetime) -> Refusal | None:
    if visit.facepiece is None:
        return Refusal("no_facepiece", "No facepiece is chosen.", "Choose facepiece and size first.")
    if visit.running is not None or visit.current_try is not None:
        return Refusal("run_over", "A run of this try has started.", "Decide what comes next first.")
    task, book = visit.task, visit.rules.book
    required = protection(task, book).required if task is not None else None
    why = method_stands(payload.method, visit.facepiece, visit.rules, required, visit.out)
    return Refusal("method", f"Not by this method: {why}.", "Choose one of the others.") if why else None


def _screening(visit: Visit, payload: ev.ScreeningStarted, at: datetime) -> Refusal | None:
    if visit.running is not None or visit.current_try is not None:
        return Refusal("run_over", "A run of this try has started.", "Decide what comes next first.")
    if visit.worn_since is not None:
        return Refusal("worn", "The facepiece is on.", "Screening is done without one: take it off first.")
    if visit.screening_running is not None:
        return Refusal("screening", "A screening is going on.", "End it first.")
    if visit.screening is not None and visit.screening.is_passed:
        return Refusal("screened", "Screened already for this try.", "Go on.")
    clear = visit.clear_at()
    if clear is not None and at < clear:
        left = (clear - at).total_seconds()
        return Refusal("not_clear", f"Wait another {left:.0f} s before screening again.", "Fresh air meanwhile.")
    return _kit(visit, "screening", payload, at)


def _sets(visit: Visit, running: ScreeningState) -> tuple[int, ...]:
    """Return after how many squeezes each set of a screening ends; none where it has no squeezes."""
    protocol = visit.rules.protocol(running.started.protocol_id)
    return protocol.screening.sets if protocol is not None and protocol.screening is not None else ()


def _squeezed(visit: Visit, payload: ev.Squeezed, at: datetime) -> Refusal | None:
    last = visit.screenings[-1] if visit.screenings else None
    is_this = last is not None and last.started.screening_id == payload.screening_id
    if last is not None and is_this and last.ended_at is not None and at <= last.ended_at:
        return None  # given before it was tasted, and only heard now
    running = visit.screening_running
    if running is None or running.started.screening_id != payload.screening_id:
        return Refusal("no_screening", "This screening is over.", "Look at what it came to.")
    most = max(_sets(visit, running), default=0)
    if running.squeezes >= most:
        return Refusal("last_set", f"{most} squeezes are the last.", "Tasted, or not tasted at all?")
    return None


def _screened(visit: Visit, payload: ev.Screened, at: datetime) -> Refusal | None:
    running = visit.screening_running
    if running is None or running.started.screening_id != payload.screening_id:
        return Refusal("no_screening", "This screening is over.", "Look at what it came to.")
    most = max(_sets(visit, running), default=0)
    if running.squeezes < most:
        return Refusal(
            "sets_left",
            f"{running.squeezes} of {most} squeezes given.",
            "Go on squeezing, or stop and start anew.",
        )
    return None


def start_refusal(visit: Visit, at: datetime) -> Refusal | None:
    """Return why no run of any kind may start at ``at``, or None."""
    if visit.running is not None:
        return Refusal("running", "A run is going on already.", "Stop it first.")
    if visit.current_try is not None:
        return Refusal("undecided", "This try's run is over.", "Decide what comes next.")
    blocks = run_blocks(visit, at)
    if blocks:
        first = blocks[0]
        return Refusal(first.code, f"Not permitted: {first.sentence}", first.detail or "Settle it first.")
    return None


def _started(visit: Visit, payload: ev.QualitativeStarted, at: datetime) -> Refusal | None:
    blocking = start_refusal(visit, at)
    if blocking is not None:
        return blocking
    screening = visit.screening
    if screening is None or not screening.is_passed or screening.threshold != payload.threshold:
        return Refusal("threshold", "The threshold is not that of this try's screening.", "Reload the page.")
    return _kit(visit, "test", payload, at)


def _mistaken(visit: Visit, payload: ev.DetectionMistaken, at: datetime) -> Refusal | None:
    current = visit.current_try
    if current is None or current.started.run_id != payload.run_id or current.detection is None:
        return Refusal("no_detection", "Nothing was detected in this try.", "Go on.")
    if current.detection.by != "wearer":
        return Refusal("by_tester", "The tester pressed this one.", "It stands; start a new try if in doubt.")
    if not payload.reason.strip():
        return Refusal("reason_missing", "A mistake needs its reason.", "Write what the wearer says.")
    return None


def _ended(visit: Visit, payload: ev.QualitativeEnded, at: datetime) -> Refusal | None:
    running = visit.running
    if running is None or running.started.run_id != payload.run_id:
        return Refusal("run_over", "This run is over.", "Look at what it came to.")
    ends = visit.run_ends_at(running)
    if ends is None:
        return Refusal("too_early", "The first dose is not in yet.", "Give it, or stop.")
    if at < ends:
        left = (ends - at).total_seconds()
        return Refusal("too_early", f"The exercises go on for another {left:.0f} s.", "Go on, or stop.")
    return None


def _proof(visit: Visit, payload: ev.ProofSensed, at: datetime) -> Refusal | None:
    current = visit.current_try
    if current is None or current.started.run_id != payload.run_id or current.numbers.state != "held":
        return Refusal("nothing_held", "No verdict is held.", "Go on.")
    protocol = visit.rules.protocol(current.started.protocol_id)
    dosing = protocol.dosing if protocol is not None else None
    if dosing is not None and dosing.proof == "second_whiff" and visit.worn_since is not None:
        return Refusal("worn", "The second whiff is given with the facepiece off.", "Eyes shut; take it off first.")
    return None


QUALITATIVE_CHECKS: dict[type, Callable[[Visit, Any, datetime], Refusal | None]] = {
    ev.MethodChosen: _method,
    ev.ScreeningStarted: _screening,
    ev.Squeezed: _squeezed,
    ev.Screened: _screened,
    ev.QualitativeStarted: _started,
    ev.DetectionMistaken: _mistaken,
    ev.QualitativeEnded: _ended,
    ev.ProofSensed: _proof,
}
