"""Qualitative tests as a screen or a page shows them: screening, what is planned, doses due, what was sensed."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from zoneinfo import ZoneInfo

from moorfog.core.events.payloads import Lot, Nebuliser, instant
from moorfog.core.events.qualitative import QualitativeStarted, ScreeningStarted
from moorfog.core.qualitative.fold import faults_so_far
from moorfog.core.qualitative.judgement import counted_doses, elapsed_ms, later_doses
from moorfog.core.rules.protocols import Protocol
from moorfog.core.visit.state import Try, Visit


@dataclass(frozen=True)
class ScreeningView:
    """The screening of this try: how it is done, how far it is, what came of it. ``id`` empty before it began."""

    id: str
    by: str
    agent: str
    say: str
    wearer: str
    sensed: str
    source: str
    role: str
    lots: tuple[str, ...]
    sets: tuple[int, ...]
    beat_ms: int
    squeezes: int
    odour_jar: str
    result: str
    again_at: str | None


@dataclass(frozen=True)
class TestPlan:
    """What the run of the chosen method needs and how it begins."""

    agent: str
    role: str
    lots: tuple[str, ...]
    begin: str
    begin_say: str
    first_dose: str
    doses: str
    has_other: bool
    exercises: tuple[str, ...]
    threshold: int
    minutes: int


@dataclass(frozen=True)
class DoseView:
    """A dose of the run: due when (ms from t0), what, whether it was given, is to come, or was missed, and of how many
    squeezes (0 where none are counted)."""

    due_ms: int
    what: str
    state: str
    squeezes: int


@dataclass(frozen=True)
class SensingView:
    """A qualitative run that is going on. ``faults`` are what voids it already."""

    agent: str
    family: str
    sensed: str
    wearer: str
    first_dose: str
    doses: tuple[DoseView, ...]
    extra_doses: int
    announce_s: int
    unwatched_max_s: int
    end: str
    end_say: str
    reading: str
    faults: tuple[str, ...]
    started_at: str
    eyes_shut: bool


@dataclass(frozen=True)
class SensesView:
    """What a qualitative try was made with and what came of it, in words; never a number for the fit."""

    agent: str
    title: str
    threshold: int
    doses: tuple[str, ...]
    exercises: tuple[str, ...]
    seconds: int
    lots: tuple[str, ...]
    nebuliser: str
    detection: str
    detected_by: str
    proof: str


def screening_view(visit: Visit) -> ScreeningView | None:
    """Return the screening of the present try, planned or begun; None where the method has none."""
    protocol = visit.protocol_for(visit.method)
    if protocol is None or protocol.screening is None or protocol.words is None or visit.current_try is not None:
        return None
    plan, now = protocol.screening, visit.screening
    clear = visit.clear_at() if now is not None and not now.is_passed else None
    return ScreeningView(
        id=now.started.screening_id if now is not None and now.ended_at is None else "",
        by=plan.by,
        agent=protocol.method,
        say=plan.say,
        wearer=protocol.words.wearer,
        sensed=protocol.words.sensed,
        source=plan.source,
        role=plan.role,
        lots=plan.lots,
        sets=plan.sets,
        beat_ms=round(plan.beat_ms / visit.speed),
        squeezes=now.squeezes if now is not None else 0,
        odour_jar=now.started.odour_jar if now is not None and now.ended_at is None else "",
        result=now.result if now is not None else "",
        again_at=instant(clear) if clear is not None else None,
    )


def test_plan(visit: Visit) -> TestPlan | None:
    """Return what the chosen method's run needs; None where nothing is sensed."""
    protocol = visit.protocol_for(visit.method)
    if protocol is None or protocol.dosing is None or protocol.words is None:
        return None
    threshold = visit.screening.threshold if visit.screening is not None else 0
    slots = protocol.slots(threshold)
    doses = ""
    if slots and protocol.dosing.count:
        doses = f"then {slots[0].what} every {protocol.dosing.every_s} s, {len(slots)} times"
    elif slots:
        doses = f"then {len(slots)} more, the first: {slots[0].what.lower()}"
    return TestPlan(
        agent=protocol.method,
        role=protocol.dosing.role,
        lots=protocol.dosing.lots,
        begin=protocol.words.begin,
        begin_say=protocol.words.begin_say,
        first_dose=protocol.first_dose(threshold),
        doses=doses,
        has_other=any(one.stands_for for one in protocol.exercise),
        exercises=tuple(one.name for one in protocol.exercises()),
        threshold=threshold,
        minutes=(protocol.total_s + protocol.dosing.fill_s) // 60,
    )


def _doses(visit: Visit, protocol: Protocol, one: Try, now: datetime) -> tuple[tuple[DoseView, ...], int]:
    dosing, sensed = protocol.dosing, one.sensed
    if dosing is None or sensed is None:
        return (), 0
    slots = protocol.slots(sensed.threshold)
    given = later_doses(one, visit.speed)
    counted = counted_doses(slots, dosing, given)
    t = elapsed_ms(one.t0, now, visit.speed) if one.t0 is not None else 0
    views = tuple(
        DoseView(
            slot.at_ms,
            slot.what,
            "given" if dose is not None else "missed" if t > slot.at_ms + dosing.late_s * 1000 else "due",
            slot.squeezes,
        )
        for slot, dose in zip(slots, counted, strict=True)
    )
    return views, len(given) - sum(1 for dose in counted if dose is not None)


def sensing_view(visit: Visit, one: Try, now: datetime) -> SensingView | None:
    """Return a running qualitative run for display, None for another."""
    protocol = visit.rules.protocol(one.started.protocol_id)
    if one.sensed is None or protocol is None or protocol.dosing is None or protocol.words is None:
        return None
    doses, extra = _doses(visit, protocol, one, now)
    return SensingView(
        agent=one.sensed.agent,
        family=protocol.family,
        sensed=protocol.words.sensed,
        wearer=protocol.words.wearer,
        first_dose=protocol.first_dose(one.sensed.threshold),
        doses=doses,
        extra_doses=extra,
        announce_s=protocol.dosing.announce_s,
        unwatched_max_s=protocol.dosing.unwatched_max_s,
        end=protocol.words.end,
        end_say=protocol.words.end_say,
        reading=protocol.words.reading.strip(),
        faults=tuple(reason.sentence for reason in faults_so_far(visit, one, now)),
        started_at=instant(one.started_at),
        eyes_shut=protocol.family == "smoke",
    )


def lot_words(lot: Lot) -> str:
    """Return a lot as a record names it."""
    made = f", made {lot.made_on}" if lot.made_on else ""
    by = f" by {lot.made_by}" if lot.made_by else ""
    return f"{lot.role.replace('_', ' ')}: lot {lot.number}{made}{by}, use by {lot.use_by}"


def nebuliser_words(one: Nebuliser | None) -> str:
    """Return a nebuliser as a record names it, empty where there is none."""
    if one is None:
        return ""
    return f"{one.name}, filled {one.filled_at[11:16]} UTC, seen to spray {one.checked_at[11:16]} UTC"


def senses_view(visit: Visit, one: Try) -> SensesView | None:
    """Return what a qualitative try was made with and came to, None for another."""
    sensed, protocol = one.sensed, visit.rules.protocol(one.started.protocol_id)
    if sensed is None or protocol is None:
        return None
    exercises = protocol.exercises(sensed.bends)
    doses = []
    if one.t0 is not None and one.doses:
        zone = ZoneInfo(visit.opened.zone if visit.opened is not None else "UTC")
        doses = [f"first dose, {protocol.first_dose(sensed.threshold)}: {one.doses[0].astimezone(zone):%H:%M:%S}"]
        doses += [f"{ms / 1000:.0f} s" for ms in later_doses(one, visit.speed)]
    screened = next((each.started for each in reversed(visit.screenings) if each.attempt == one.attempt), None)
    made_with: list[ScreeningStarted | QualitativeStarted] = [sensed] if screened is None else [screened, sensed]
    lots = list(
        dict.fromkeys(
            lot
            for each in made_with
            for lot in (*each.lots, *([each.nebuliser.lot] if each.nebuliser is not None else ()))
        )
    )
    found = one.detection
    place = (
        "" if found is None else exercises[found.exercise].name.lower() if found.exercise >= 0 else "before the start"
    )
    word = protocol.words.sensed if protocol.words is not None else "detected"
    proof = ""
    if protocol.dosing is not None and protocol.dosing.proof != "none" and one.proof is not None:
        kind = "seal broken on purpose" if protocol.dosing.proof == "seal_break" else "second whiff, facepiece off"
        proof = f"{kind}: {word if one.proof else 'not ' + word}"
    return SensesView(
        agent=sensed.agent,
        title=protocol.title,
        threshold=sensed.threshold,
        doses=tuple(doses),
        exercises=tuple(one.name for one in exercises),
        seconds=exercises[0].seconds,
        lots=tuple(lot_words(lot) for lot in lots),
        nebuliser=nebuliser_words(sensed.nebuliser),
        detection=f"{word}: {place}, second {max(0, found.second)}" if found is not None else "",
        detected_by=found.by if found is not None else "",
        proof=proof,
    )
