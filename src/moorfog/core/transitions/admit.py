"""Admission: a proposal is accepted into the log, or refused with reasons a tester could say.

The fold never raises, whatever is in the log; admission is where a senseless step is stopped in words.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta
from typing import Any

from moorfog.core.advice.methods import QUALITATIVE
from moorfog.core.advice.protection import protection
from moorfog.core.events import payloads as ev
from moorfog.core.kernel.arithmetic import NotANumber, decimal_or_none, parse_decimal, whole_or_cut
from moorfog.core.measuring.ambient import BY_INSTRUMENT
from moorfog.core.qualitative.admit import QUALITATIVE_CHECKS, start_refusal
from moorfog.core.rules.kit_gate import instrument_blocks
from moorfog.core.transitions.next_steps import may_refit, spent
from moorfog.core.transitions.on_the_face import held_s, must_be_held_s
from moorfog.core.visit.circumstances import facts_digest
from moorfog.core.visit.judgement import needs_decision, queue
from moorfog.core.visit.outcomes import outcome
from moorfog.core.visit.proof import is_read_by_link
from moorfog.core.visit.refusal import Refusal as Refusal
from moorfog.core.visit.seals import has_leaked, seal_fails, seal_rule, seals_allowed
from moorfog.core.visit.state import Visit, alterations_needed
from moorfog.core.visit.steps import is_signed

FUTURE_TOLERANCE = timedelta(seconds=2)


ALWAYS = (ev.Touched, ev.Distress, ev.Stopped, ev.Doffed, ev.DoseGiven, ev.Detected, ev.EyesOpened, ev.ClockDiffered)
"""What is never refused, whenever it happened and whenever it is heard, in an open visit and in a closed one."""
KIT_WORDS = {
    "mode": (
        "The counter's mode does not suit this filter class.",
        "Size-classified mode for 95-class filters, ordinary mode for the others.",
    ),
    "instrument": ("This instrument is not the kind this protocol needs.", "Choose another instrument."),
    "alcohol": ("The alcohol was not charged in time.", "Charge it, note it on the Kit page, let it warm up."),
    "figures": (
        "A figure of this instrument is missing or cannot be read: flow, resolution or the least outside.",
        "Enter its figures anew; without them nothing it reads can be judged.",
    ),
    "other_instrument": (
        "The instrument on the link is not the one on file: it says another serial number.",
        "Plug in the right one, or choose the one that is plugged in.",
    ),
    "calibration": ("The instrument's calibration is out of date.", "Use another one; send this one for calibration."),
}


def admit(visit: Visit, payload: ev.Payload, occurred_at: datetime, now: datetime) -> Refusal | None:
    """Return None to accept ``payload`` at ``occurred_at``, or why it is refused. ``now`` is the server's time."""
    if isinstance(payload, ev.VisitOpened):
        return Refusal("already_open", "This visit is already open.", "Start another one.") if visit.opened else None
    if visit.opened is None:
        return Refusal("not_open", "This visit was never opened.", "Start it on Today.")
    if isinstance(payload, ALWAYS):
        return None
    if occurred_at > now + FUTURE_TOLERANCE:
        return Refusal(
            "in_the_future",
            f"This is dated {(occurred_at - now).total_seconds():.0f} s in the future.",
            "Check the clock of this device; reload the page to measure it again.",
        )
    if isinstance(payload, (ev.Signed, ev.Corrected)):
        return _admit_after(visit, payload, occurred_at)
    if visit.closed:
        return Refusal(
            "closed", "This visit is closed; its record stands.", "Correct it with a reason, or start a new visit."
        )
    check = _CHECKS.get(type(payload))
    return check(visit, payload, occurred_at) if check else None


def _admit_after(visit: Visit, payload: ev.Signed | ev.Corrected, at: datetime) -> Refusal | None:
    if isinstance(payload, ev.Corrected):
        if not payload.reason.strip():
            return Refusal("reason_missing", "A correction needs a reason.", "Write why, in a few words.")
        if not visit.closed:
            return Refusal(
                "not_closed",
                "This visit is still open.",
                "Answer again, or finish it first; corrections are for finished records.",
            )
        if payload.target < 1 or payload.target > visit.seq:
            return Refusal(
                "no_target", f"There is no entry {payload.target} in this visit.", "Choose the entry to correct."
            )
        return None
    if visit.revision > 1 and visit.closed:
        return None
    if not queue(visit, at) or queue(visit, at)[0].item.act != f"sign_{payload.role}":
        return Refusal(
            "not_yet", "Signing comes after everything is put back and told.", "Go on with the open steps first."
        )
    return None


def _answered(visit: Visit, payload: ev.Answered, at: datetime) -> Refusal | None:
    item = visit.rules.procedure.find(payload.question)
    if item is None or item.act:
        return Refusal(
            "unknown_question", f"{payload.question!r} is no question of this procedure.", "Reload the page."
        )
    if visit.wrong_person and item.before != "release" and not (item.mistake and payload.answer == "fine"):
        return Refusal("wrong_person", "This visit was opened for the wrong person.", "End it as opened by mistake.")
    if item.mistake and visit.wrong_person and not _takes_back(visit, payload):
        return Refusal(
            "wrong_person",
            "Another person cannot be put right in this record.",
            "End it as opened by mistake; open the visit of the right person.",
        )
    if payload.facts != facts_digest(visit, item):
        return Refusal(
            "facts_changed", "What this answer depends on has changed meanwhile.", "Look again and answer again."
        )
    if visit.running is not None and item.before != "release":
        return Refusal("running", "A run is going on.", "Stop it, or let it end.")
    if item.after_wear and payload.answer == "fine" and visit.current_try is None:
        ready = visit.wear_ready_at()
        if ready is None or at < ready:
            minutes = visit.rules.book.minutes("wear.minimum")
            words = f"This is asked once it has been worn for {minutes} minutes."
            return Refusal("worn_too_short", words, "Let the wear clock run.")
    if payload.minutes_ago is not None and (not item.wait or not 0 <= payload.minutes_ago <= 1440):
        return Refusal("minutes", f"{payload.minutes_ago} minutes ago makes no sense here.", "Enter 0 to 1440 minutes.")
    return None


def _takes_back(visit: Visit, payload: ev.Answered) -> bool:
    last = visit.asked[-1] if visit.asked else None
    return last is not None and last.seq == visit.moved and bool(payload.screen) and last.screen == payload.screen


def _mistaken(visit: Visit, payload: ev.OpenedByMistake, at: datetime) -> Refusal | None:
    if visit.running is not None or visit.worn_since is not None or visit.alterations:
        return Refusal(
            "not_yet", "A run goes on, it is still worn, or something is not put back.", "Settle that first."
        )
    if visit.wrong_person or (not visit.tries and visit.donning == 0):
        return None
    return Refusal("tested", "Something was donned or tested in this visit.", "Wrong person? Say so at the first card.")


def _task(visit: Visit, payload: ev.TaskChosen, at: datetime) -> Refusal | None:
    if visit.running is not None or visit.current_try is not None:
        return Refusal("run_over", "A run of this try has started; its task stands.", "Decide what comes next first.")
    found = protection(payload.task, visit.rules.book)
    if found.is_stop:
        return Refusal(found.reasons[0].code, found.reasons[0].sentence, found.reasons[0].remedy)
    return None


def _chosen(visit: Visit, payload: ev.FacepieceChosen, at: datetime) -> Refusal | None:
    if visit.running is not None:
        return Refusal("running", "A run is going on.", "Stop it first.")
    if visit.worn_since is not None:
        return Refusal("worn", "The facepiece is still on.", "Take it off first, then choose another.")
    if needs_decision(visit):
        return Refusal("undecided", "Say first what comes next after this try.", "Choose one of the offers.")
    if visit.current_try is not None:
        return Refusal("run_over", "This try's run is over.", "Finish it, or decide to go on with another facepiece.")
    limit = visit.ruled_out(payload.facepiece)
    if limit:
        return Refusal("clearance_limit", f"The clearance on file says: {limit}.", "Choose another kind, or refer.")
    if seal_fails(visit, payload.facepiece) >= seals_allowed(visit):
        return Refusal("seal_limit", "The seal check of this very set-up has leaked too often.", "Another facepiece.")
    used = spent(visit, payload.facepiece)
    if used:
        return Refusal("tries", used, "Another size, model or set-up.")
    ahead = queue(visit, at)
    if not visit.facepiece and ahead and ahead[0].item.gravity == "stop" and ahead[0].status == "not_fine":
        return Refusal("stop", f"{ahead[0].item.title} This is a stop.", ahead[0].item.remedy)
    return None


def _probe(visit: Visit, payload: ev.ProbeFitted, at: datetime) -> Refusal | None:
    if visit.facepiece is None:
        return Refusal("no_facepiece", "No facepiece is chosen.", "Choose facepiece and size first.")
    if visit.probe_fitted_for == visit.chosen:
        return Refusal("already", "The probe is fitted already.", "Go on.")
    if payload.alterations != alterations_needed(visit):
        return Refusal("alterations", "These are not the alterations this facepiece needs.", "Reload the page.")
    return None


def _alteration_made(visit: Visit, payload: ev.AlterationMade, at: datetime) -> Refusal | None:
    rule = next((one for one in visit.rules.procedure.alteration if one.id == payload.alteration), None)
    if rule is None or not rule.by_hand:
        return Refusal("no_alteration", f"{payload.alteration!r} is not done by hand.", "Reload the page.")
    if visit.running is not None or visit.current_try is not None:
        return Refusal("running", "Nothing is altered once a run has started.", "Stop it first.")
    if any(one.rule == payload.alteration for one in visit.alterations):
        return Refusal("already", f"{rule.opened}: recorded already.", "Go on.")
    return None


def _alteration_undone(visit: Visit, payload: ev.AlterationUndone, at: datetime) -> Refusal | None:
    if visit.running is not None:
        return Refusal("running", "A run is going on.", "Stop it first.")
    if not any(one.id == payload.alteration for one in visit.alterations):
        return Refusal("no_alteration", f"{payload.alteration!r} is not open.", "Nothing to put back there.")
    rules = {one.id: one for one in visit.rules.procedure.alteration}
    rule = next((rules.get(one.rule) for one in visit.alterations if one.id == payload.alteration), None)
    if visit.worn_since is not None and (rule is None or rule.before == "release"):
        return Refusal("worn", "The facepiece is still on.", "Take it off first, then put everything back.")
    return None


def _donned(visit: Visit, payload: ev.Donned, at: datetime) -> Refusal | None:
    if visit.facepiece is None or (alterations_needed(visit) and visit.probe_fitted_for != visit.chosen):
        return Refusal("not_ready", "Choose the facepiece and fit the probe first.", "Go back to those steps.")
    if visit.method in QUALITATIVE and visit.current_try is None:
        screening, clear = visit.screening, visit.clear_at()
        if screening is None or not screening.is_passed:
            return Refusal("not_screened", "The screening comes first, no facepiece on.", "Screen, then don.")
        if clear is not None and at < clear:
            return Refusal("not_clear", "What was sensed has not cleared yet.", "Rinse, wait for the clock, then don.")
    if visit.worn_since is not None:
        return Refusal("worn", "It is on already.", "Record taking it off first; then the wearer dons it alone.")
    if visit.running is not None or visit.current_try is not None:
        return Refusal("run_over", "A run of this try has started.", "Decide what comes next first.")
    return None


def _may_seal(visit: Visit, check: str) -> Refusal | None:
    if visit.worn_since is None:
        return Refusal("not_worn", "No facepiece is on.", "Don it first.")
    rule = seal_rule(visit)
    if rule is None or check not in rule.checks:
        return Refusal(
            "no_such_check", f"A {check} check cannot be done on this facepiece.", "Do the check that is shown."
        )
    if visit.current_try is not None:
        return Refusal("run_over", "The seal is checked before the run.", "Decide what comes next first.")
    if seal_fails(visit) >= seals_allowed(visit):
        return Refusal("seal_limit", f"The seal check leaked {seal_fails(visit)} times.", "Another facepiece.")
    if has_leaked(visit):
        return Refusal("refit_first", "It leaked as it sits.", "Adjust it or don it again, then check again.")
    return None


def _seal_hold(visit: Visit, payload: ev.SealHoldBegun, at: datetime) -> Refusal | None:
    return _may_seal(visit, payload.check)


def _seal(visit: Visit, payload: ev.SealChecked, at: datetime) -> Refusal | None:
    blocking = _may_seal(visit, payload.check)
    if blocking is not None or "leaks" in (payload.wearer, payload.tester):
        return blocking
    wanted, held = must_be_held_s(visit, payload.check), held_s(visit, payload.check, at)
    if wanted and (held is None or held < wanted):
        done = f"{max(0, int(held))} s" if held is not None else "no hold was begun"
        return Refusal(
            "held_too_short",
            f"It is held for {whole_or_cut(wanted)} s: {done}.",
            "Begin the hold again and let the time run.",
        )
    return None


def _adjusted(visit: Visit, payload: ev.Adjusted, at: datetime) -> Refusal | None:
    if visit.worn_since is None:
        return Refusal("not_worn", "No facepiece is on.", "Don it first.")
    if visit.current_try is not None and visit.running is None:
        return Refusal(
            "run_over",
            "The run is over; nothing is adjusted any more.",
            "Answer the questions, or decide what comes next.",
        )
    return None


def _run_started(visit: Visit, payload: ev.RunStarted, at: datetime) -> Refusal | None:
    blocking = start_refusal(visit, at)
    if blocking is not None:
        return blocking
    facepiece = visit.facepiece
    protocol = visit.rules.protocol(payload.protocol_id)
    if facepiece is None or protocol is None or protocol.is_qualitative or facepiece.kind not in protocol.kinds:
        return Refusal("protocol", "This protocol is not for this facepiece.", "Use the protocol that is offered.")
    kit = instrument_blocks(visit.rules.book, facepiece, payload.mode, payload.instrument, protocol.family, at)
    if kit:
        check = "A check of today is not done or not passed on this instrument."
        words = KIT_WORDS.get(kit[0], (check, "Do it on the Kit page, which says which one."))
        return Refusal(kit[0], "Not permitted: " + words[0], words[1])
    return None


def _numbers_typed(visit: Visit, payload: ev.NumbersTyped, at: datetime) -> Refusal | None:
    one = next((run for run in visit.tries if run.started.run_id == payload.run_id), None)
    if one is None or one.started.source != "typed":
        return Refusal("no_run", "No run of this kind is waiting for numbers.", "Start the run first.")
    if one.typed is not None or not one.is_running:
        return Refusal("run_over", "This run is over.", "Start a new try.")
    ends = visit.run_ends_at(one)
    if ends is None or at < ends:
        left = (ends - at).total_seconds() if ends is not None else 0
        return Refusal(
            "too_early", f"The protocol goes on for another {left:.0f} s.", "Type the numbers when it is over."
        )
    protocol = visit.rules.protocol(one.started.protocol_id)
    if protocol is None or len(payload.exercises) != protocol.n:
        return Refusal(
            "exercise_missing",
            f"{len(payload.exercises)} exercises were typed.",
            f"All {protocol.n if protocol else 0} are needed.",
        )
    counted = one.counted
    step = decimal_or_none(counted.instrument.resolution) if counted is not None else None
    if visit.rules.book.yes(BY_INSTRUMENT) and decimal_or_none(payload.resolution) != step:
        shown = counted.instrument.resolution if counted is not None else "none"
        return Refusal(
            "resolution",
            f"The smallest step is the instrument's own: {shown}, not {payload.resolution}.",
            "It is entered with the instrument; nobody types it for a run.",
        )
    wrong = check_figures(payload, tuple(one.name for one in protocol.measurements()))
    if wrong is None and visit.rules.book.yes("readings.strict"):
        if not protocol.is_counted:
            return Refusal("not_shown", "A display shows neither peaks nor pressures.", "Bring the instrument's file.")
        if any(row.factor is not None for row in payload.exercises):
            return Refusal("factors_only", "Fit factors alone do not show the air outside.", "Type outside and inside.")
    return wrong


def check_figures(payload: ev.NumbersTyped, names: tuple[str, ...]) -> Refusal | None:
    """Return what is impossible about typed figures, naming exercise and field, or None."""
    try:
        if parse_decimal(payload.resolution, "Resolution of the display") <= 0:
            return Refusal(
                "resolution",
                "The display's resolution must be above zero.",
                "One step of the last digit: usually 1 or 0.1.",
            )
        for name, row in zip(names, payload.exercises, strict=True):
            if row.factor is not None:
                if row.outside is not None or row.inside is not None:
                    return Refusal(
                        "both", f"{name}: both a fit factor and counts were typed.", "Type one or the other."
                    )
                if parse_decimal(row.factor, f"{name}, fit factor") <= 0:
                    return Refusal(
                        "not_positive",
                        f"{name}: a fit factor of {row.factor} is impossible.",
                        "Type what the counter shows.",
                    )
                continue
            if row.outside is None or row.inside is None:
                return Refusal(
                    "missing", f"{name}: outside and inside are both needed.", "Type both, or only the fit factors."
                )
            if parse_decimal(row.outside, f"{name}, outside") <= 0:
                return Refusal(
                    "ambient",
                    f"{name}: outside {row.outside} is impossible.",
                    "The outside count is above zero; check the counter.",
                )
            parse_decimal(row.inside, f"{name}, inside")
    except NotANumber as error:
        return Refusal("not_a_number", str(error), "Type plain digits as the counter shows them.")
    return None


def _proof(visit: Visit, payload: ev.ProofGiven, at: datetime) -> Refusal | None:
    current = visit.current_try
    if current is None or current.started.run_id != payload.run_id or current.numbers.state != "held":
        return Refusal("nothing_held", "No verdict is held.", "Go on.")
    if payload.rose and is_read_by_link(current):
        return Refusal("read_by_link", "The instrument itself reads the rise.", "Break the seal and watch the number.")
    return None


def _decided(visit: Visit, payload: ev.Decided, at: datetime) -> Refusal | None:
    current = visit.current_try
    if current is None or current.is_running:
        return Refusal("nothing_to_decide", "There is no finished try to decide on.", "Go on with the open step.")
    if payload.next == "same_again" and not may_refit(visit, current):
        return Refusal("other_facepiece", "The same one is not tried again now.", "Another size or another facepiece.")
    if payload.next != "end" and is_signed(visit):
        return Refusal("sealed", "This record is signed.", "Start a new visit.")
    if visit.distress and payload.next != "end":
        return Refusal("distress", "Distress: no more testing today.", "End here; the clinician decides.")
    return None


def _withheld(visit: Visit, payload: ev.Withheld, at: datetime) -> Refusal | None:
    if not payload.reason.strip():
        return Refusal("reason_missing", "Withholding a pass needs a reason.", "Write why, in a few words.")
    one = next((run for run in visit.tries if run.started.run_id == payload.run_id), None)
    if one is None or outcome(visit, one)[0] != "pass":
        return Refusal("no_pass", "There is no pass to withhold.", "Go on.")
    return None


def _turned_away(visit: Visit, payload: ev.TurnedAway, at: datetime) -> Refusal | None:
    if visit.wrong_person:
        return Refusal("wrong_person", "Opened for the wrong person: nobody is turned away.", "End it as a mistake.")
    if not payload.reason.strip():
        return Refusal("reason_missing", "Turning someone away needs a reason.", "Write why, in a few words.")
    if visit.running is not None:
        return Refusal("running", "A run is going on.", "Stop it first.")
    return None


def _released(visit: Visit, payload: ev.Released, at: datetime) -> Refusal | None:
    if visit.alterations:
        return Refusal(
            "alterations_open",
            "Not everything is put back.",
            "Put back: "
            + "; ".join(
                rule.put_back
                for rule in visit.rules.procedure.alteration
                if any(one.rule == rule.id for one in visit.alterations)
            ),
        )
    ahead = queue(visit, at)
    if not ahead or ahead[0].item.act != "release":
        return Refusal(
            "not_yet",
            "Something is still open: " + (ahead[0].item.title if ahead else "a clock runs") + ".",
            "Settle it first.",
        )
    return None


_CHECKS: dict[type, Callable[[Visit, Any, datetime], Refusal | None]] = {
    ev.Answered: _answered,
    ev.OpenedByMistake: _mistaken,
    ev.SealHoldBegun: _seal_hold,
    ev.TaskChosen: _task,
    ev.FacepieceChosen: _chosen,
    ev.ProbeFitted: _probe,
    ev.AlterationMade: _alteration_made,
    ev.AlterationUndone: _alteration_undone,
    ev.Donned: _donned,
    ev.SealChecked: _seal,
    ev.Adjusted: _adjusted,
    ev.RunStarted: _run_started,
    ev.NumbersTyped: _numbers_typed,
    ev.ProofGiven: _proof,
    ev.Decided: _decided,
    ev.Withheld: _withheld,
    ev.TurnedAway: _turned_away,
    ev.Released: _released,
    **QUALITATIVE_CHECKS,
}
