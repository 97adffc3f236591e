"""Tries and runs as a screen or a page shows them: numbers cut and marked, doses and detections in words."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from fractions import Fraction

from moorfog.core.events.payloads import instant
from moorfog.core.kernel.arithmetic import cut, whole_or_cut
from moorfog.core.measuring.ambient import Reason
from moorfog.core.rules.protocols import Cue
from moorfog.core.views.qualitative import SensesView, SensingView, senses_view, sensing_view
from moorfog.core.visit.judgement import outcome
from moorfog.core.visit.state import Try, Visit

UNITS = {"photometer": "µg/m³", "pressure": "ml/min"}
"""Units of outside and inside by family of protocol; particles per cm³ for the others."""


def moment(at: datetime | None) -> str | None:
    """Write a moment for a screen, or None."""
    return instant(at) if at is not None else None


@dataclass(frozen=True)
class ExerciseView:
    """One exercise of the running protocol, in ms from t0."""

    id: str
    name: str
    say: str
    wearer: str
    pace: str
    look_at: str
    start_ms: int
    end_ms: int
    in_sum: bool


@dataclass(frozen=True)
class RunView:
    """The run that is going on. ``budget_percent`` is N ÷ level: what all exercises together may let in.

    ``cues`` have words of their own; ``values`` names what is typed where numbers are; ``unit`` is that of the ladder;
    ``says_numbers``: the tester says fit factors aloud as they come.
    """

    run_id: str
    try_no: int
    source: str
    t0: str | None
    ends_at: str | None
    is_over: bool
    level: str
    budget_percent: str
    protocol_title: str
    instrument_name: str
    unit: str
    exercises: tuple[ExerciseView, ...]
    cues: tuple[Cue, ...]
    values: tuple[str, ...]
    says_numbers: bool
    sensing: SensingView | None


@dataclass(frozen=True)
class ExerciseResultView:
    """One exercise of a judged run, cut for display."""

    name: str
    outside: str
    inside: str
    factor: str
    counts: int | None
    bound: str


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
    """A try with its outcome, kept whatever came of it."""

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
    senses: SensesView | None


def reason_view(one: Reason) -> ReasonView:
    """Return a reason for display."""
    return ReasonView(one.code, one.sentence, one.rule, one.gravity, one.remedy)


def try_view(visit: Visit, one: Try) -> TryView:
    """Return a try for display: its numbers cut and marked, or what was sensed."""
    result, reasons = outcome(visit, one)
    protocol = visit.rules.protocol(one.started.protocol_id)
    numbers, counted = one.numbers, one.counted
    names = [exercise.name for exercise in protocol.exercises()] if protocol else []
    exercises = tuple(
        ExerciseResultView(
            names[row.exercise] + (f", {row.place}" if row.place else ""),
            cut(row.outside) if row.outside is not None else "–",
            cut(row.inside, 3) if row.inside is not None else "–",
            ("≥ " if row.at_least else "") + cut(row.factor),
            row.counts,
            cut(Fraction(row.bound)) if row.bound is not None else "unknown",
        )
        for row in numbers.exercises
    )
    total = ("≥ " if numbers.at_least else "") + cut(numbers.overall) if numbers.overall is not None else ""
    return TryView(
        one.no,
        one.started.run_id,
        result,
        total,
        whole_or_cut(Fraction(counted.level)) if counted is not None else "",
        cut(Fraction(numbers.bound)) if numbers.bound is not None else "unknown" if counted is not None else "",
        numbers.is_marginal,
        one.started.source,
        protocol.title if protocol else one.started.protocol_id,
        f"{one.facepiece.maker} {one.facepiece.model}",
        one.facepiece.size,
        instant(one.started_at),
        one.chosen_seq,
        counted.instrument.name if counted is not None else "",
        tuple(reason_view(reason) for reason in reasons),
        UNITS.get(protocol.family if protocol else "", "per cm³"),
        exercises,
        senses_view(visit, one),
    )


def run_view(visit: Visit, one: Try, now: datetime) -> RunView | None:
    """Return the run that is going on, or None where its protocol is not known."""
    protocol = visit.rules.protocol(one.started.protocol_id)
    if protocol is None:
        return None
    counted, bends = one.counted, one.sensed.bends if one.sensed is not None else True
    exercises = tuple(
        ExerciseView(
            exercise.id,
            exercise.name,
            exercise.say,
            exercise.wearer,
            exercise.pace,
            exercise.look_at,
            start,
            start + exercise.seconds * 1000,
            exercise.in_sum,
        )
        for exercise, start in zip(protocol.exercises(bends), protocol.starts_ms(), strict=True)
    )
    level = Fraction(counted.level) if counted is not None else None
    ends = visit.run_ends_at(one)
    return RunView(
        one.started.run_id,
        one.no,
        one.started.source,
        moment(one.t0),
        moment(ends),
        ends is not None and now >= ends,
        whole_or_cut(level) if level is not None else "",
        cut(protocol.n / level * 100, 2) if level is not None else "",
        protocol.title,
        counted.instrument.name if counted is not None else "",
        UNITS.get(protocol.family, "per cm³"),
        exercises,
        protocol.cues(),
        tuple(each.name for each in protocol.measurements()),
        visit.rules.book.text("coaching.numbers") == "aloud",
        sensing_view(visit, one, now),
    )
