"""The picture of a visit at a moment: everything a screen or a page needs, in words, with nothing left to judge."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from fractions import Fraction

from moorfog.core.arithmetic import cut, whole_or_cut
from moorfog.core.events import instant, level_key
from moorfog.core.judge import (
    Block,
    Standing,
    changes_at,
    is_sealed,
    needs_decision,
    outcome,
    pass_blocks,
    queue,
    run_blocks,
    standings,
    step_of,
)
from moorfog.core.measure import Reason
from moorfog.core.protection import protection
from moorfog.core.rules import Item
from moorfog.core.visit import Outcome, Try, Visit, facts_digest, loops_needed, repeated_leak, seal_fails, seal_rule

BACK_STEPS = 6


def moment(at: datetime | None) -> str | None:
    """Write a moment for a screen, or None."""
    return instant(at) if at is not None else None


@dataclass(frozen=True)
class Waymark:
    """One step on the walk: behind, here or ahead; ``again`` counts how often the path bent back to it."""

    id: str
    name: str
    state: str
    again: int


@dataclass(frozen=True)
class Card:
    """One thing to ask, look at or do: words to say, remedy, source, and where it stands."""

    id: str
    step: str
    act: str
    mode: str
    title: str
    say: str
    remedy: str
    consequence: str
    gravity: str
    source: str
    standing: str
    drawing: str
    school: str
    status: str
    until: str | None
    timed_min: int
    facts: str
    answer: str | None


@dataclass(frozen=True)
class Between:
    """A line of what stands between this person and a pass."""

    code: str
    sentence: str
    detail: str
    gravity: str
    until: str | None


@dataclass(frozen=True)
class LoopView:
    """Something to be put back before they go."""

    id: str
    opened: str
    put_back: str
    say: str
    since: str


@dataclass(frozen=True)
class SealCheckView:
    """A seal check this facepiece allows: how it is done and how it went on this donning."""

    check: str
    how: str
    result: str


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


@dataclass(frozen=True)
class RunView:
    """The run that is going on. ``budget_percent`` is N ÷ level: what all exercises together may let in."""

    run_id: str
    try_no: int
    source: str
    t0: str
    ends_at: str
    is_over: bool
    level: str
    budget_percent: str
    protocol_title: str
    instrument_name: str
    exercises: tuple[ExerciseView, ...]


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
    exercises: tuple[ExerciseResultView, ...]


@dataclass(frozen=True)
class Offer:
    """Something that may be done next after a try that did not pass."""

    next: str
    label: str
    detail: str


@dataclass(frozen=True)
class FacepieceView:
    """The facepiece in use."""

    model_id: str
    label: str
    maker: str
    model: str
    kind: str
    size: str
    setup: str


@dataclass(frozen=True)
class TaskView:
    """The task this is for: what it needs, up to which concentrations the facepiece may be used, its work filters."""

    id: str
    name: str
    required: str
    worst: str
    limits: tuple[str, ...]
    work_filters: str


@dataclass(frozen=True)
class SignatureView:
    """A signature given on this revision."""

    role: str
    at: str


@dataclass(frozen=True)
class Picture:
    """A visit at a moment. ``queue`` holds what can be dealt with now; ``behind`` what was answered last."""

    seq: int
    revision: int
    at: str
    changes_at: str | None
    step: str
    steps: tuple[Waymark, ...]
    is_practice: bool
    speed: int
    closed: str
    is_sealed: bool
    turned_away: str
    queue: tuple[Card, ...]
    behind: tuple[Card, ...]
    waiting_for: tuple[Between, ...]
    between: tuple[Between, ...]
    not_asked: int
    loops: tuple[LoopView, ...]
    worn_since: str | None
    wear_ready_at: str | None
    facepiece: FacepieceView | None
    loops_to_open: tuple[str, ...]
    seal_word: str
    seal_checks: tuple[SealCheckView, ...]
    seal_fails: int
    seal_fails_allowed: int
    seal_remedy: str
    hold_s: int
    tape: str
    task: TaskView | None
    on_file: str
    starts_at: str | None
    run: RunView | None
    offers: tuple[Offer, ...]
    tries: tuple[TryView, ...]
    verdict: str
    signatures: tuple[SignatureView, ...]
    limits_of_use: tuple[str, ...]
    terms: str


def card_of(visit: Visit, one: Standing) -> Card:
    """Return the card of an item as it stands."""
    item = one.item
    answer = visit.answers.get(item.id)
    minutes = int(visit.rules.book.number(item.wait)) if item.wait else 0
    return Card(
        item.id,
        item.step,
        item.act,
        item.mode,
        item.title,
        item.say,
        item.remedy,
        item.consequence,
        item.gravity,
        item.source,
        item.standing,
        item.drawing,
        visit.rules.book.text(item.school) if item.school else "",
        one.status,
        moment(one.until),
        minutes,
        facts_digest(visit, item),
        answer.answer if answer else None,
    )


def _between(blocks: list[Block]) -> tuple[tuple[Between, ...], int]:
    shown = [one for one in blocks if one.gravity != "unanswered" or not one.detail.startswith("not ")]
    hidden = len(blocks) - len(shown)
    return tuple(Between(one.code, one.sentence, one.detail, one.gravity, moment(one.until)) for one in shown), hidden


def _waymarks(visit: Visit, here: str) -> tuple[Waymark, ...]:
    steps = visit.rules.procedure.step
    index = next((number for number, one in enumerate(steps) if one.id == here), 0)
    out = []
    for number, one in enumerate(steps):
        state = "behind" if number < index or visit.closed else "here" if number == index else "ahead"
        again = visit.attempt - 1 if one.id in ("don", "seal", "test") else 0
        out.append(Waymark(one.id, one.name, state, again))
    return tuple(out)


def reason_view(one: Reason) -> ReasonView:
    """Return a reason for display."""
    return ReasonView(one.code, one.sentence, one.rule, one.gravity, one.remedy)


def try_view(visit: Visit, one: Try) -> TryView:
    """Return a try for display, its numbers cut and marked."""
    result, reasons = outcome(visit, one)
    protocol = visit.rules.protocol(one.started.protocol_id)
    numbers = one.numbers
    names = [exercise.name for exercise in protocol.exercise] if protocol else []
    exercises = tuple(
        ExerciseResultView(
            names[row.exercise],
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
        whole_or_cut(Fraction(one.started.level)),
        cut(Fraction(numbers.bound)) if numbers.bound is not None else "unknown",
        numbers.is_marginal,
        one.started.source,
        protocol.title if protocol else one.started.protocol_id,
        f"{one.facepiece.maker} {one.facepiece.model}",
        one.facepiece.size,
        instant(one.started_at),
        one.chosen_seq,
        one.started.instrument.name,
        tuple(reason_view(reason) for reason in reasons),
        exercises,
    )


def _run_view(visit: Visit, one: Try, now: datetime) -> RunView | None:
    protocol = visit.rules.protocol(one.started.protocol_id)
    if protocol is None:
        return None
    exercises = []
    for exercise, start in zip(protocol.exercise, protocol.starts_ms(), strict=True):
        exercises.append(
            ExerciseView(
                exercise.id,
                exercise.name,
                exercise.say,
                exercise.wearer,
                exercise.pace,
                exercise.look_at,
                start,
                start + exercise.seconds * 1000,
            )
        )
    level = Fraction(one.started.level)
    ends = visit.run_ends_at(one)
    return RunView(
        one.started.run_id,
        one.no,
        one.started.source,
        instant(one.t0),
        instant(ends),
        now >= ends,
        whole_or_cut(level),
        cut(protocol.n / level * 100, 2),
        protocol.title,
        one.started.instrument.name,
        tuple(exercises),
    )


def _offers(visit: Visit) -> tuple[Offer, ...]:
    if not needs_decision(visit):
        return ()
    if visit.distress:
        return (Offer("end", "End here", "Distress: the clinician decides."),)
    current = visit.current_try
    out: list[Offer] = []
    if current is not None:
        limit = visit.rules.book.number("tries.per_facepiece")
        made = visit.tries_with(current.facepiece)
        comfort = any(reason.code == "after_comfort" for reason in outcome(visit, current)[1])
        if made < limit and not comfort:
            out.append(
                Offer(
                    "same_again", "Refit the same and run again", f"try {made + 1} of at most {limit} on this facepiece"
                )
            )
    out.append(Offer("other_size", "Another size", "same model"))
    out.append(Offer("other_facepiece", "Another facepiece", "another model or kind"))
    out.append(Offer("end", "End without a pass", "put back, sign, release"))
    return tuple(out)


def _verdict(visit: Visit) -> Outcome | str:
    current = visit.current_try
    return outcome(visit, current)[0] if current is not None and not current.is_running else ""


def _seal_checks(visit: Visit) -> tuple[SealCheckView, ...]:
    rule = seal_rule(visit)
    if rule is None:
        return ()
    out = []
    for name in rule.checks:
        made = [
            one
            for one in visit.seals
            if one.check.check == name and one.donning == visit.donning and one.adjustment == visit.adjustment
        ]
        result = "" if not made else "holds" if made[-1].holds else "leaks"
        out.append(SealCheckView(name, rule.positive if name == "positive" else rule.negative, result))
    return tuple(out)


def _facepiece(visit: Visit) -> FacepieceView | None:
    one = visit.facepiece
    if one is None:
        return None
    parts = [one.suspension, one.clip, f"{one.filter_class} {one.filter_kind}" if one.filter_class else "", *one.ppe]
    return FacepieceView(
        one.model_id,
        f"{one.model} {one.size}",
        one.maker,
        one.model,
        one.kind,
        one.size,
        ", ".join(part for part in parts if part),
    )


def seal_remedy(visit: Visit) -> str:
    """Return what to do about the last leak, by kind and place of the facepiece; the same place twice: inspect."""
    failed = [one for one in visit.seals if not one.holds]
    if not failed or visit.facepiece is None:
        return ""
    place, family = failed[-1].check.place, visit.facepiece.family
    if repeated_leak(visit):
        return f"The {place} again: take it off and inspect it there; suspect damage or a missing part, not the straps."
    for one in visit.rules.procedure.leak_remedy:
        if place in one.places and (not one.families or family in one.families):
            return one.remedy
    return "Reseat it, straps along the head, both sides alike; then check again."


def _tape(visit: Visit) -> str:
    """Return the loop that taping the valve opens, where this facepiece's valve cannot be covered by hand."""
    piece = visit.facepiece
    if piece is None or any(one.rule == "tape" for one in visit.loops):
        return ""
    found = (one.id for one in visit.rules.procedure.loop if one.by_hand and piece.cover in one.covers)
    return next(found, "")


def task_view(visit: Visit) -> TaskView | None:
    """Return the task with what it needs and the limits of the chosen facepiece, or None."""
    task, piece = visit.task, visit.facepiece
    if task is None:
        return None
    found = protection(task, visit.rules.book, piece.filter_class if piece else "")
    kind = next((one for one in found.kinds if piece is not None and one.kind == piece.kind), None)
    return TaskView(
        task.id,
        task.name,
        cut(found.required) if found.required is not None else "unknown",
        found.worst,
        kind.limits if kind is not None else (),
        " with ".join(part for part in (task.work_filter, task.work_cartridge) if part),
    )


def on_file(visit: Visit) -> str:
    """Return what is on file about clearance and training, in words; never a medical detail."""
    if visit.opened is None:
        return ""
    one, parts = visit.opened.clearance, []
    if one is None:
        parts.append("no clearance on file")
    else:
        until = f", until {one.valid_until}" if one.valid_until else ""
        limits = f", {', '.join(one.limits)}" if one.limits else ""
        parts.append(f"{one.status}{until}{limits}, by {one.by}")
    parts.append(f"trained {visit.opened.trained_on}" if visit.opened.trained_on else "no training on file")
    return "; ".join(parts)


def starts_at(visit: Visit, now: datetime) -> datetime | None:
    """Return the earliest moment this person's run could start, as far as clocks decide it; None where none runs."""
    if visit.current_try is not None or visit.closed:
        return None
    return max((one.until for one in run_blocks(visit, now) if one.until is not None), default=None)


def picture(visit: Visit, now: datetime) -> Picture:
    """Return the picture of ``visit`` at ``now``. Pure: the same visit and moment give the same picture."""
    here = step_of(visit, now)
    between, hidden = _between(pass_blocks(visit, now)) if not visit.closed else ((), 0)
    ahead = () if visit.running is not None or needs_decision(visit) else tuple(queue(visit, now))
    by_id = {one.item.id: one for one in standings(visit, now)}
    recent: list[Item] = []
    for answer in reversed(visit.asked):
        item = visit.rules.procedure.find(answer.question)
        if item is not None and item.id in by_id and item not in recent:
            recent.append(item)
        if len(recent) == BACK_STEPS:
            break
    words = {one.id: one for one in visit.rules.procedure.loop}
    loops = tuple(
        LoopView(one.id, words[one.rule].opened, words[one.rule].put_back, words[one.rule].say, instant(one.opened_at))
        for one in visit.loops
        if one.rule in words
    )
    waiting = tuple(one for one in between if one.gravity == "waiting")
    return Picture(
        visit.seq,
        visit.revision,
        instant(now),
        moment(changes_at(visit, now)),
        here,
        _waymarks(visit, here),
        visit.is_practice,
        visit.speed,
        visit.closed,
        is_sealed(visit),
        visit.turned_away,
        tuple(card_of(visit, one) for one in ahead),
        tuple(card_of(visit, by_id[item.id]) for item in recent),
        waiting,
        between,
        hidden,
        loops,
        moment(visit.worn_since),
        moment(visit.wear_ready_at()),
        _facepiece(visit),
        loops_needed(visit),
        visit.rules.book.seal_check_word,
        _seal_checks(visit),
        seal_fails(visit),
        int(visit.rules.book.number("seal_check.repeats")) + 1,
        seal_remedy(visit),
        int(visit.rules.book.ratio("seal_check.hold") or 10),
        _tape(visit),
        task_view(visit),
        on_file(visit),
        moment(starts_at(visit, now)),
        _run_view(visit, visit.running, now) if visit.running else None,
        _offers(visit),
        tuple(try_view(visit, one) for one in visit.tries),
        _verdict(visit),
        tuple(SignatureView(one.role, instant(one.at)) for one in visit.signatures if one.revision == visit.revision),
        visit.rules.procedure.limits_of_use,
        visit.rules.procedure.terms,
    )


def valid_until(tested_on: date, months: int) -> date:
    """Return the last valid day: the anniversary in the site's time zone, 29 February → 28 February."""
    total = tested_on.month - 1 + months
    year, month = tested_on.year + total // 12, total % 12 + 1
    day = tested_on.day
    while True:
        try:
            return date(year, month, day)
        except ValueError:
            day -= 1


def level_for(visit: Visit) -> Fraction | None:
    """Return the pass level for the chosen facepiece, or None where the book is silent."""
    return visit.rules.book.ratio(level_key(visit.facepiece.kind)) if visit.facepiece else None
