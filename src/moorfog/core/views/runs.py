"""Tries and runs as a screen or a page shows them: numbers cut and marked, doses and detections in words."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from fractions import Fraction

from moorfog.core.events.payloads import instant
from moorfog.core.kernel.arithmetic import cut, whole_or_cut
from moorfog.core.rules.protocols import Cue
from moorfog.core.rules.reason import Reason
from moorfog.core.views.qualitative import SensesView, SensingView, senses_view, sensing_view
from moorfog.core.views.telling import tell
from moorfog.core.visit.outcomes import outcome
from moorfog.core.visit.state import Try, Visit

UNITS = {"photometer": "µg/m³", "pressure": "ml/min"}
"""Units of outside and inside by family of protocol; particles per cm³ for the others."""


CLASSIFIED = "one size of particle only, so far fewer than in the room"
"""What the outside figure of the size-classified mode is of."""


def moment(at: datetime | None) -> str | None:
    """Write a moment for a screen, or None."""
    return instant(at) if at is not None else None


@dataclass(frozen=True)
class ExerciseView:
    """One exercise of the running protocol, in ms from t0."""

    id: str
    name: str
    short: str
    say: str
    wearer: str
    pace: str
    look_at: str
    start_ms: int
    end_ms: int
    in_sum: bool


@dataclass(frozen=True)
class RunView:
    """The run that is going on.

    ``cues`` have words of their own; ``values`` names what is typed where numbers are; ``unit`` is that of the ladder;
    ``counts_words``: why the outside reads far lower than the room's, where only some particles are counted;
    ``says_numbers``: the tester says fit factors aloud as they come.
    """

    run_id: str
    try_no: int
    source: str
    t0: str | None
    ends_at: str | None
    is_over: bool
    level: str
    protocol_title: str
    instrument_name: str
    resolution: str
    """One step of what its display shows, as it is entered; nobody types it."""
    unit: str
    counts_words: str
    exercises: tuple[ExerciseView, ...]
    cues: tuple[Cue, ...]
    values: tuple[str, ...]
    says_numbers: bool
    sensing: SensingView | None


@dataclass(frozen=True)
class ExerciseResultView:
    """One exercise of a judged run, cut for display. ``reaches``: its own fit factor reaches the level."""

    name: str
    outside: str
    inside: str
    factor: str
    counts: int | None
    bound: str
    reaches: bool


@dataclass(frozen=True)
class ReasonView:
    """A reason as shown."""

    code: str
    sentence: str
    rule: str
    gravity: str
    remedy: str


@dataclass(frozen=True)
class TryView:
    """A try with its outcome, kept whatever came of it. ``worst``: which of ``exercises``, from 0, had the lowest fit
    factor, None where they were all alike or none was measured; ``tell`` is the sentence that says to the wearer what
    it means; ``hidden`` what practice hid by chance, once the visit is closed."""

    no: int
    run_id: str
    outcome: str
    overall: str
    level: str
    bound: str
    is_marginal: bool
    source: str
    protocol_title: str
    facepiece: str
    size: str
    started_at: str
    chosen_seq: int
    instrument: str
    reasons: tuple[ReasonView, ...]
    unit: str
    exercises: tuple[ExerciseResultView, ...]
    worst: int | None
    tell: str
    hidden: str
    senses: SensesView | None


def reason_view(one: Reason) -> ReasonView:
    """Return a reason for display."""
    return ReasonView(code=one.code, sentence=one.sentence, rule=one.rule, gravity=one.gravity, remedy=one.remedy)


def try_view(visit: Visit, one: Try) -> TryView:
    """Return a try for display: its numbers cut and marked, or what was sensed."""
    result, reasons = outcome(visit, one)
    protocol = visit.rules.protocol(one.started.protocol_id)
    numbers, counted = one.numbers, one.counted
    names = [exercise.name for exercise in protocol.exercises()] if protocol else []
    exercises = tuple(
        ExerciseResultView(
            name=names[row.exercise] + (f", {row.place}" if row.place else ""),
            outside=cut(row.outside) if row.outside is not None else "–",
            inside=cut(row.inside, 3) if row.inside is not None else "–",
            factor=("≥ " if row.at_least else "") + cut(row.factor),
            counts=row.counts,
            bound=cut(Fraction(row.bound)) if row.bound is not None else "unknown",
            reaches=counted is not None and row.factor >= Fraction(counted.level),
        )
        for row in numbers.exercises
    )
    factors = [row.factor for row in numbers.exercises]
    level = whole_or_cut(Fraction(counted.level)) if counted is not None else ""
    total = ("≥ " if numbers.at_least else "") + cut(numbers.overall) if numbers.overall is not None else ""
    return TryView(
        no=one.no,
        run_id=one.started.run_id,
        outcome=result,
        overall=total,
        level=level,
        bound=cut(Fraction(numbers.bound)) if numbers.bound is not None else "unknown" if counted is not None else "",
        is_marginal=numbers.is_marginal,
        source=one.started.source,
        protocol_title=protocol.title if protocol else one.started.protocol_id,
        facepiece=f"{one.facepiece.maker} {one.facepiece.model}",
        size=one.facepiece.size,
        started_at=instant(one.started_at),
        chosen_seq=one.chosen_seq,
        instrument=counted.instrument.name if counted is not None else "",
        reasons=tuple(reason_view(reason) for reason in reasons),
        unit=UNITS.get(protocol.family if protocol else "", "per cm³"),
        exercises=exercises,
        worst=factors.index(min(factors)) if len(set(factors)) > 1 else None,
        tell=tell(result, reasons, overall=total, level=level, is_sensed=one.sensed is not None),
        hidden=counted.hidden if counted is not None and visit.closed else "",
        senses=senses_view(visit, one),
    )


def run_view(visit: Visit, one: Try, now: datetime) -> RunView | None:
    """Return the run that is going on, or None where its protocol is not known."""
    protocol = visit.rules.protocol(one.started.protocol_id)
    if protocol is None:
        return None
    counted, bends = one.counted, one.sensed.bends if one.sensed is not None else True
    exercises = tuple(
        ExerciseView(
            id=exercise.id,
            name=exercise.name,
            short=exercise.short or exercise.name,
            say=exercise.say,
            wearer=exercise.wearer,
            pace=exercise.pace,
            look_at=exercise.look_at,
            start_ms=start,
            end_ms=start + exercise.seconds * 1000,
            in_sum=exercise.in_sum,
        )
        for exercise, start in zip(protocol.exercises(bends), protocol.starts_ms(), strict=True)
    )
    level = Fraction(counted.level) if counted is not None else None
    ends = visit.run_ends_at(one)
    return RunView(
        run_id=one.started.run_id,
        try_no=one.no,
        source=one.started.source,
        t0=moment(one.t0),
        ends_at=moment(ends),
        is_over=ends is not None and now >= ends,
        level=whole_or_cut(level) if level is not None else "",
        protocol_title=protocol.title,
        instrument_name=counted.instrument.name if counted is not None else "",
        resolution=counted.instrument.resolution if counted is not None else "",
        unit=UNITS.get(protocol.family, "per cm³"),
        counts_words=CLASSIFIED if counted is not None and counted.mode == "classified" else "",
        exercises=exercises,
        cues=protocol.cues(),
        values=tuple(each.name for each in protocol.measurements()),
        says_numbers=visit.rules.book.text("coaching.numbers") == "aloud",
        sensing=sensing_view(visit, one, now),
    )
