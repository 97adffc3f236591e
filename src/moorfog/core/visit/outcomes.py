"""The outcome of a try, with its reasons. Anything unknown leaves it unfinished, never passed."""

from __future__ import annotations

from moorfog.core.rules.book import Item
from moorfog.core.rules.reason import Reason
from moorfog.core.visit.blocks import visit_blocks
from moorfog.core.visit.circumstances import items_that_apply
from moorfog.core.visit.denials import denial_reason
from moorfog.core.visit.screens import screen_reasons
from moorfog.core.visit.state import Outcome, Try, Visit
from moorfog.core.visit.steps import step_state
from moorfog.core.visit.tries import withheld_reason


def awaits_readings(visit: Visit, one: Try) -> bool:
    """True while a stopped run's last readings are still to come and nothing else has decided it."""
    return one.is_sealing and outcome(visit, one)[0] == "unfinished"


def waits_for_screens(visit: Visit) -> bool:
    """True while nothing but presses that a screen may still hold keeps the last try from its verdict."""
    current = visit.current_try
    if current is None or current.is_running or not any(one.state == "awaited" for one in current.screens):
        return False
    return outcome(visit, current)[0] == "unfinished"


def outcome(visit: Visit, one: Try) -> tuple[Outcome, tuple[Reason, ...]]:
    """Return the outcome of a try with its reasons. Anything unknown leaves it unfinished, never passed."""
    if one.voided:
        return "void", (
            Reason(
                code="voided",
                sentence=one.voided,
                rule="a run that was voided is never judged",
                gravity="put_right",
                remedy="Repeat the run.",
            ),
        )
    if one.final is not None:
        return one.final
    if one.blocking:
        return "void", (
            Reason(
                code="started_against_gates",
                sentence="Started while something stood against it: " + ", ".join(one.blocking) + ".",
                rule="gates come before the run",
                gravity="stop",
                remedy="Settle it, then run again.",
            ),
        )
    numbers, denials = one.numbers, _denials(visit, one)
    if numbers.state == "below" and (one.sensed is not None or not one.broken):
        return "fail", numbers.reasons
    refused = tuple(why for item, why in denials if item.refuses)
    if refused:
        return "fail", refused + one.remarks
    if one.withheld and not one.is_running:
        return "fail", (withheld_reason(one.withheld),)
    if one.broken:
        return "void", one.broken + one.remarks
    if denials:
        return "void", tuple(why for _, why in denials) + one.remarks
    if numbers.state == "void":
        return "void", numbers.reasons
    if one.is_running:
        return "unfinished", (Reason("running", "The run is going on.", "", "put_right"),)
    if one.is_sealing:
        return "unfinished", (Reason("sealing", "Stopped. The last readings are coming in.", "", "put_right"),)
    if numbers.state not in ("reached", "held") or one.stopped or one.distress:
        why = "Stopped in distress." if one.distress else "Stopped before the end."
        remedy = "Nothing more today: the clinician decides." if visit.distress else "Start a new try."
        return "unfinished", (
            Reason(
                code="stopped",
                sentence=why,
                rule="no verdict without all exercises",
                gravity="put_right",
                remedy=remedy,
            ),
        )
    return _after_numbers(visit, one)


def _denials(visit: Visit, one: Try) -> tuple[tuple[Item, Reason], ...]:
    """Return what was answered "not fine" from the start of the run on, with the words for it."""
    found = ((each, visit.rules.procedure.find(each.question)) for each in one.denials)
    return tuple((item, denial_reason(visit, item)) for _, item in found if item is not None)


PROVED = ("proof.rise", "proof.within", "proof.still", "proof.mean")
"""What a proof of a held verdict rests on."""


def _after_numbers(visit: Visit, one: Try) -> tuple[Outcome, tuple[Reason, ...]]:
    notes = one.numbers.reasons + one.remarks
    if one.numbers.state == "held":
        if one.proof is None:
            return "unfinished", notes
        if not one.proof and one.sensed is not None:
            return "void", (
                Reason(
                    code="not_sensed",
                    sentence=one.proof_reason
                    or "The proof failed: the agent was there and was not sensed: the run shows nothing.",
                    rule="seal break or second whiff after a run without detection",
                    gravity="put_right",
                    remedy="Screen again before the next try, or test by another method.",
                    keys=("proof.within",),
                ),
            )
        if not one.proof:
            return "void", (
                Reason(
                    code="blocked_line",
                    sentence=one.proof_reason
                    or "Seal broken on purpose and the number did not rise: the line is blocked.",
                    rule="held verdict, common practice",
                    gravity="put_right",
                    remedy="Clear the line, then repeat.",
                    keys=("proof.rise", "proof.within"),
                ),
            )
        proved = f"Held, then proved by breaking the seal on purpose: {one.proof_reason}."
        shown = (
            (Reason("proved", proved, "held verdict, common practice", "note", keys=PROVED),)
            if one.proof_reason
            else ()
        )
        notes = (*(note for note in notes if note.code != "near_zero"), *shown)
    if visit.attempt != one.attempt:
        return "unfinished", (
            *notes,
            Reason(
                "left_open", "The questions at the end were never answered.", "unknown is never a pass", "put_right"
            ),
        )
    open_ones = list(screen_reasons(visit, one))
    moment = visit.last_at or one.started_at
    for item in items_that_apply(visit):
        if item.act or item.before == "release":
            continue
        here = step_state(visit, item, moment)
        if here.status == "done":
            continue
        sentence = f"{item.title} Not fine." if here.status == "not_fine" else f"{item.title} Not asked yet."
        open_ones.append(
            Reason(
                code=item.id,
                sentence=sentence,
                rule=item.source,
                gravity="stop" if here.status == "not_fine" and item.gravity == "stop" else "put_right",
                remedy=item.remedy,
                keys=item.keys,
            )
        )
    for block in visit_blocks(visit):
        open_ones.append(
            Reason(
                code=block.code,
                sentence=block.sentence,
                rule=block.rule,
                gravity="stop",
                remedy=block.detail,
                keys=block.keys,
            )
        )
    if open_ones:
        return "unfinished", tuple(open_ones) + notes
    return "pass", notes
