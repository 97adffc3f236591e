"""Qualitative runs judged: screening by sets, doses by their slots, kit by role and date. Pure; moments are handed in.

Source of the rules: 29 CFR 1910.134 App. A Part I.B (recalled); each number stands in the protocol's file.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from moorfog.core.events.facts import Lot, Nebuliser
from moorfog.core.measuring.results import RunNumbers
from moorfog.core.rules.book import Book
from moorfog.core.rules.kit_gate import lot_is_over, nebuliser_blocks
from moorfog.core.rules.protocols import Dosing, Protocol, Slot
from moorfog.core.rules.reason import Reason
from moorfog.core.visit.state import ScreeningResult, Try

KIT_WORDS = {
    "nebuliser_missing": ("No nebuliser was named.", "Fill and check one on the Kit page, then name it."),
    "nebuliser_role": (
        "Wrong nebuliser: 1 holds the threshold solution, 2 the fit-test solution; they are never swapped.",
        "Take the other one.",
    ),
    "lot_missing": ("A lot this test needs was not named.", "Enter it on the Kit page, then name it."),
    "lot_agent": ("The lot is of another agent.", "Take the solution of the agent that is tested with."),
    "lot_role": ("The lot is of another role.", "Take the solution made for this step."),
    "lot_expired": ("The lot is past its use-by date.", "Make or open a fresh one and enter it."),
    "refill": ("The nebuliser was filled too long ago.", "Rinse and refill it; then check that it sprays."),
    "spray_check": (
        "The nebuliser has not been seen to spray since it was filled.",
        "Spray once, look, and enter the check.",
    ),
}


def threshold_set(sets: Sequence[int], squeezes: int) -> int:
    """Return the set in which it was tasted: the least number of ``sets`` not below ``squeezes``, 0 where none is.

    No squeeze yet, or more than the last set, gives 0: that is no threshold.
    """
    return next((one for one in sorted(sets) if 0 < squeezes <= one), 0)


def screening_result(protocol: Protocol, squeezes: int) -> ScreeningResult:
    """Return what a detection in a screening makes of it."""
    screening = protocol.screening
    if screening is None or not screening.sets:
        return "sensed"
    found = threshold_set(screening.sets, squeezes)
    words: dict[int, ScreeningResult] = {10: "10", 20: "20", 30: "30"}
    return words.get(found, "spoilt")


def kit_blocks(
    protocol: Protocol,
    book: Book,
    step: str,
    nebuliser: Nebuliser | None,
    lots: Sequence[Lot],
    day: str,
    at: datetime,
) -> list[str]:
    """Return codes of what is wrong with the kit for ``step`` ("screening" or "test"), see ``KIT_WORDS``.

    ``day`` is the date at the site, YYYY-MM-DD; ``at`` the moment of use.
    """
    plan = protocol.screening if step == "screening" else protocol.dosing
    if plan is None:
        return ["lot_missing"]
    out: list[str] = []
    if plan.role:
        out += nebuliser_blocks(book, plan.role, nebuliser, at)
    held = [*lots, *([nebuliser.lot] if nebuliser is not None and plan.role else [])]
    for role in plan.lots:
        if not any(one.role == role for one in lots):
            out.append("lot_missing")
    for one in held:
        if one.agent != protocol.method:
            out.append("lot_agent")
        if one.role not in (plan.role, *plan.lots):
            out.append("lot_role")
        if lot_is_over(one.use_by, day):
            out.append("lot_expired")
    return list(dict.fromkeys(out))


def elapsed_ms(t0: datetime, at: datetime, speed: int) -> int:
    """Return protocol milliseconds from t0 to ``at``."""
    return round((at - t0).total_seconds() * 1000 * speed)


def counted_doses(slots: Sequence[Slot], dosing: Dosing, doses_ms: Sequence[int]) -> tuple[int | None, ...]:
    """Return per slot the dose (ms from t0) that counts for it, None where it was missed.

    A dose counts for its slot from ``early_s`` before to ``late_s`` after it; the first such one counts, others are
    extra. A dose outside every slot moves nothing.
    """
    out: list[int | None] = []
    left = sorted(doses_ms)
    for slot in slots:
        begin, end = slot.at_ms - dosing.early_s * 1000, slot.at_ms + dosing.late_s * 1000
        found = next((one for one in left if begin <= one <= end), None)
        if found is not None:
            left.remove(found)
        out.append(found)
    return tuple(out)


def dose_faults(protocol: Protocol, threshold: int, doses_ms: Sequence[int], until_ms: int) -> tuple[Reason, ...]:
    """Return why the doses void the run: missed by ``until_ms``, or too far apart. ``doses_ms`` without the first."""
    dosing = protocol.dosing
    slots = protocol.slots(threshold)
    if dosing is None or not slots:
        return ()
    counted = counted_doses(slots, dosing, doses_ms)
    missed: list[tuple[int, Slot]] = []
    out: list[Reason] = []
    before: int | None = 0
    for number, (slot, dose) in enumerate(zip(slots, counted, strict=True), start=1):
        if dose is None:
            if until_ms > slot.at_ms + dosing.late_s * 1000:
                missed.append((number, slot))
            before = None
            continue
        if before is not None and dosing.gap_max_s and dose - before > dosing.gap_max_s * 1000:
            out.append(
                Reason(
                    code="dose_gap",
                    sentence=f"{(dose - before) // 1000} s between dose starts before dose {number}.",
                    rule=f"at most {dosing.gap_max_s} s, common practice",
                    gravity="put_right",
                    remedy="A new try: the concentration was not kept up.",
                )
            )
        before = dose
    return (*((_missed(missed, dosing),) if missed else ()), *out)


def _missed(missed: Sequence[tuple[int, Slot]], dosing: Dosing) -> Reason:
    (number, slot), *others = missed
    more = f"; nor were {len(others)} more" if others else ""
    return Reason(
        code="dose_missed",
        sentence=f"Dose {number} ({slot.what}), due at {slot.at_ms // 1000} s, was not pressed{more}.",
        rule=dosing.source,
        gravity="put_right",
        remedy="A new try: a dose that was not pressed was not given.",
    )


def judge_end(protocol: Protocol, one: Try, at: datetime, speed: int) -> tuple[RunNumbers, tuple[Reason, ...]]:
    """Return what a run that came to its end says, and what voids it. ``at`` is when the hood came off."""
    dosing = protocol.dosing
    if one.t0 is None or dosing is None or one.sensed is None:
        return RunNumbers("unfinished"), ()
    until = elapsed_ms(one.t0, at, speed)
    faults = list(dose_faults(protocol, one.sensed.threshold, later_doses(one, speed), until))
    if until < protocol.total_s * 1000:
        faults.append(
            Reason(
                code="too_early",
                sentence=f"Ended after {max(0, until) // 1000} of {protocol.total_s} s.",
                rule="protocol length",
                gravity="put_right",
                remedy="A new try from the first exercise.",
            )
        )
    if one.longest_gap_ms > dosing.unwatched_max_s * 1000:
        faults.append(
            Reason(
                code="unwatched",
                sentence=f"The screen was away for {one.longest_gap_ms // 1000} s: what was sensed then is not known.",
                rule=f"at most {dosing.unwatched_max_s} s, choice of this product",
                gravity="put_right",
                remedy="A new try from the first exercise.",
            )
        )
    if faults:
        return RunNumbers("unfinished"), tuple(faults)
    words = protocol.words
    nothing = (words.nothing if words else "") or f"Nothing was {words.sensed if words else 'detected'}"
    note = Reason("not_detected", f"{nothing} from start to end.", protocol.source, "note")
    return RunNumbers("reached" if dosing.proof == "none" else "held", reasons=(note,)), ()


def later_doses(one: Try, speed: int) -> tuple[int, ...]:
    """Return the doses after the first one, in protocol milliseconds from t0."""
    if one.t0 is None:
        return ()
    return tuple(elapsed_ms(one.t0, dose, speed) for dose in one.doses[1:])


def exercise_at(protocol: Protocol, bends: bool, ms: int) -> tuple[int, str]:
    """Return the exercise going on at ``ms`` from t0: index and name; before t0 −1, after the end the last."""
    exercises = protocol.exercises(bends)
    if ms < 0:
        return -1, "before the first exercise"
    starts = protocol.starts_ms()
    index = max(number for number, start in enumerate(starts) if start <= ms)
    over = ms >= protocol.total_s * 1000
    return index, "after the last exercise" if over else exercises[index].name
