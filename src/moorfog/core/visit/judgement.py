"""Judgement: what stands between this person and a pass, what comes next, and when that changes."""

from __future__ import annotations

from datetime import datetime, timedelta

from moorfog.core.rules.book import Item
from moorfog.core.visit.blocks import ACT_WORDS, DISTRESS, Block, run_blocks, visit_blocks
from moorfog.core.visit.outcomes import awaits_readings, outcome, waits_for_screens
from moorfog.core.visit.screens import AWAITED
from moorfog.core.visit.state import Try, Visit
from moorfog.core.visit.steps import StepState, step_states

SIGNATURES = ("sign_wearer", "sign_tester")


def pass_blocks(visit: Visit, now: datetime) -> list[Block]:
    """Return everything between this person and a pass at ``now``; empty only when nothing is."""
    current = visit.current_try
    if visit.distress:
        return [DISTRESS]
    if current is None or current.is_running:
        out = run_blocks(visit, now) if current is None else visit_blocks(visit)
        out.append(Block("run", ACT_WORDS["run"], "" if current is None else "running", "unanswered"))
        later = [one for one in visit.rules.procedure.item if one.id == "after_comfort"]
        return out + [Block(one.id, "Comfort, asked again at the end", "", "unanswered") for one in later]
    result, reasons = outcome(visit, current)
    if result == "pass":
        return []
    if awaits_readings(visit, current):
        return [Block(one.code, one.sentence, "a moment", "waiting") for one in reasons]
    return [
        Block(one.code, one.sentence, one.remedy, "waiting" if one.code == AWAITED else one.gravity)
        for one in reasons
        if one.gravity != "note"
    ] + visit_blocks(visit)


def needs_decision(visit: Visit) -> bool:
    """True when the attempt's run is over without a pass and the tester has not said what comes next.

    After distress, and for the wrong person, there is nothing to decide: they are looked after, and the visit ends.
    """
    current = visit.current_try
    if current is None or current.is_running or visit.ending or visit.closed or visit.distress or visit.wrong_person:
        return False
    result, reasons = outcome(visit, current)
    if result == "unfinished":
        return current.numbers.state not in ("reached", "held") or any(reason.gravity == "stop" for reason in reasons)
    return result != "pass"


def queue(visit: Visit, now: datetime) -> list[StepState]:
    """Return the items that can be dealt with now, in order: everything open up to the next undone act.

    Items that only wait for time do not hold up what follows, except the run itself, a screening while something
    eaten is in the mouth, and donning before what was sensed has cleared.
    """
    if visit.closed:
        return []
    out: list[StepState] = []
    only_back = visit.ending or bool(visit.turned_away) or visit.distress or visit.wrong_person
    every = [one for one in step_states(visit, now) if not only_back or one.item.before == "release"]
    if visit.wrong_person:
        every = [one for one in every if one.item.act in ("doff", "put_back", "mistaken")]
    if not only_back:
        stops = [one for one in every if one.status == "not_fine" and one.item.gravity == "stop"]
        if stops:
            return stops
    waiting: list[Item] = []
    for one in every:
        if one.status == "waiting":
            waiting.append(one.item)
        if one.status in ("done", "waiting"):
            continue
        if one.item.act == "run" and run_blocks(visit, now):
            break
        if _is_held_up(one.item, waiting) or (one.item.act in SIGNATURES and waits_for_screens(visit)):
            break
        out.append(one)
        if one.item.act:
            break
    return out


def _is_held_up(item: Item, waiting: list[Item]) -> bool:
    if item.act == "screen":
        return any(one.wait for one in waiting)
    return item.act == "don" and any(one.after_clear for one in waiting)


def changes_at(visit: Visit, now: datetime) -> datetime | None:
    """Return the next moment after ``now`` at which the view changes by time alone."""
    moments = [one.until for one in step_states(visit, now) if one.until is not None and one.until > now]
    ready = visit.wear_ready_at()
    if ready is not None and ready > now:
        moments.append(ready)
    if visit.running is not None:
        moments += [one for one in _run_moments(visit, visit.running) if one > now]
    return min(moments, default=None)


def _run_moments(visit: Visit, one: Try) -> list[datetime]:
    """Return when a running run changes by time alone: its start, its end, each dose that is missed by then."""
    protocol, end = visit.rules.protocol(one.started.protocol_id), visit.run_ends_at(one)
    if protocol is None or one.t0 is None or end is None:
        return []
    soon = timedelta(milliseconds=50)
    late = protocol.dosing.late_s if protocol.dosing is not None else 0
    slots = protocol.slots(one.sensed.threshold) if one.sensed is not None else ()
    return [one.t0, end + soon, *(visit.after(one.t0, slot.at_ms / 1000 + late) + soon for slot in slots)]


def step_of(visit: Visit, now: datetime) -> str:
    """Return the waymark the visit stands at."""
    if visit.closed:
        return "back"
    if visit.running is not None:
        return "test"
    if visit.screening_running is not None:
        return "size"
    if needs_decision(visit):
        return "result"
    if waits_for_screens(visit) and not queue(visit, now):
        return "back"
    ahead = queue(visit, now)
    if ahead:
        return ahead[0].item.step
    waiting = [one for one in step_states(visit, now) if one.status == "waiting"]
    return waiting[0].item.step if waiting else "test"
