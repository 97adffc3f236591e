"""The view of a visit at a moment: everything a screen or a page needs, in words, with nothing left to judge."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from fractions import Fraction

from moorfog.core.advice.methods import method_words
from moorfog.core.events.facts import Facepiece, Outline
from moorfog.core.events.payloads import instant
from moorfog.core.kernel.arithmetic import whole_or_cut
from moorfog.core.rules.book import Item
from moorfog.core.rules.protocols import Protocol, instrument_of
from moorfog.core.simulation.faults import DRAWN, PRACTICE
from moorfog.core.transitions.next_steps import Offer, cause, offers
from moorfog.core.transitions.on_the_face import hold_of, must_be_held_s
from moorfog.core.views.qualitative import ScreeningView, TestPlan, screening_view, test_plan
from moorfog.core.views.runs import UNITS, ReasonView, RunView, TryView, moment, reason_view, run_view, try_view
from moorfog.core.views.terms import TaskView, limits_of_use, on_file, signed_under, task_view
from moorfog.core.visit.blocks import Block, file_blocks, known_before_worn, run_blocks
from moorfog.core.visit.circumstances import facts_digest, items_that_apply
from moorfog.core.visit.judgement import changes_at, needs_decision, pass_blocks, queue, step_of
from moorfog.core.visit.outcomes import outcome
from moorfog.core.visit.proof import WITHIN, is_read_by_link, least_risen, too_late
from moorfog.core.visit.seals import has_leaked, repeated_leak, seal_fails, seal_rule, seals_allowed
from moorfog.core.visit.state import Outcome, Visit, alterations_needed
from moorfog.core.visit.steps import StepState, is_signed, is_under_question, method_blocked_by, step_states

BACK_STEPS = 6


@dataclass(frozen=True)
class Waymark:
    """One step on the walk: behind, here, ahead, or left out where the visit ended before it; ``again`` counts how
    often the path bent back to it."""

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
    policy: str
    status: str
    until: str | None
    timed_min: int
    is_gate: bool
    facts: str
    answer: str | None
    points: tuple[str, ...]
    closes_senses: bool
    look: str
    line: str
    fine_words: str
    not_fine_words: str


@dataclass(frozen=True)
class LookView:
    """What is looked at or asked together, on one card: its title and the words to say."""

    id: str
    title: str
    say: str


@dataclass(frozen=True)
class InTheWay:
    """Said before anything is put on: what will let no run start, whether all of it can still be put on file, and the
    card on which it is chosen again."""

    stops: tuple[Between, ...]
    is_of_the_file: bool
    again: Card


@dataclass(frozen=True)
class Between:
    """A line of what stands between this person and a pass."""

    code: str
    sentence: str
    detail: str
    gravity: str
    until: str | None


@dataclass(frozen=True)
class AlterationView:
    """Something to be put back before they go."""

    id: str
    rule: str
    opened: str
    put_back: str
    say: str
    since: str


@dataclass(frozen=True)
class SealCheckView:
    """A seal check this facepiece allows: how it is done, how many seconds it is held (0: not timed), when a hold was
    begun, and how it went on this donning: holds, leaks, or short."""

    check: str
    how: str
    result: str
    held_s: int
    hold_since: str | None


@dataclass(frozen=True)
class FacepieceView:
    """The facepiece in use. ``outline``: how it sits on a face, for whoever draws it."""

    model_id: str
    version_id: str
    label: str
    maker: str
    model: str
    kind: str
    family: str
    outline: Outline
    size: str
    setup: str


@dataclass(frozen=True)
class ProtocolChoice:
    """A protocol that may be run: its length in seconds, the standing of what it says, the instrument it needs, and
    its exercises by name."""

    id: str
    title: str
    seconds: int
    standing: str
    instrument: str
    exercises: tuple[str, ...]


@dataclass(frozen=True)
class SignatureView:
    """A signature given on this revision."""

    role: str
    at: str


@dataclass(frozen=True)
class ProofView:
    """What the seal-break proof must show: the inside figure to be reached, in its unit, and until when; why it can
    show nothing any more, empty while it can. ``is_read``: the linked instrument reads it, nobody types it."""

    least: str
    unit: str
    until: str | None
    blocking: str
    is_read: bool


def proof_view(visit: Visit, now: datetime) -> ProofView | None:
    """Return what the proof of a held verdict must show, None where nothing is held."""
    one = visit.current_try
    if one is None or one.numbers.state != "held" or one.proof is not None or one.counted is None:
        return None
    protocol, least = visit.rules.protocol(one.started.protocol_id), least_risen(visit, one)
    within = visit.rules.book.ratio(WITHIN)
    until = visit.after(one.ended_at, float(within)) if one.ended_at is not None and within is not None else None
    unit = UNITS.get(protocol.family if protocol is not None else "", "per cm³")
    blocking = too_late(visit, one, now, on_face=True)
    shown = whole_or_cut(least, 3) if least is not None else ""
    return ProofView(least=shown, unit=unit, until=moment(until), blocking=blocking, is_read=is_read_by_link(one))


@dataclass(frozen=True)
class VisitView:
    """A visit at a moment. ``moved``: the entry that changed last what is decided on, not one made beside the work.
    ``queue`` holds what can be dealt with now; ``behind`` what was answered last."""

    seq: int
    moved: int
    revision: int
    at: str
    changes_at: str | None
    step: str
    steps: tuple[Waymark, ...]
    is_practice: bool
    speed: int
    closed: str
    is_signed: bool
    turned_away: str
    distress: bool
    wrong_person: bool
    under_question: tuple[ReasonView, ...]
    has_leaked: bool
    proof: ProofView | None
    queue: tuple[Card, ...]
    behind: tuple[Card, ...]
    looks: tuple[LookView, ...]
    waiting_for: tuple[Between, ...]
    between: tuple[Between, ...]
    in_the_way: InTheWay | None
    not_asked: int
    alterations: tuple[AlterationView, ...]
    worn_since: str | None
    wear_ready_at: str | None
    wear_minutes: str
    facepiece: FacepieceView | None
    alterations_to_make: tuple[str, ...]
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
    method: str
    method_words: str
    method_blocked_by: str
    screening: ScreeningView | None
    test_plan: TestPlan | None
    protocols: tuple[ProtocolChoice, ...]
    faults: tuple[str, ...]
    run: RunView | None
    offers: tuple[Offer, ...]
    cause: str
    tries: tuple[TryView, ...]
    verdict: str
    signatures: tuple[SignatureView, ...]
    signed_under: tuple[str, ...]
    limits_of_use: tuple[str, ...]
    terms: str


def _drawing_of(visit: Visit, look: str) -> str:
    """Return what the questions of a look show last for this facepiece, empty for no look."""
    drawn = (one.drawing for one in reversed(items_that_apply(visit)) if look and one.look == look and one.drawing)
    return next(drawn, "")


def card_of(visit: Visit, one: StepState) -> Card:
    """Return the card of an item as it stands."""
    item = one.item
    answer = visit.answers.get(item.id)
    minutes = int(visit.rules.book.number(item.wait)) if item.wait else 0
    protocol = visit.protocol_for(visit.method) if item.shows_cautions else None
    return Card(
        id=item.id,
        step=item.step,
        act=item.act,
        mode=item.mode,
        title=item.title,
        say=item.say,
        remedy=item.remedy,
        consequence=item.consequence,
        gravity=item.gravity,
        source=item.source,
        standing=item.standing,
        drawing=item.drawing or _drawing_of(visit, item.drawn_as),
        policy=visit.rules.book.text(item.policy) if item.policy else "",
        status=one.status,
        until=moment(one.until),
        timed_min=minutes,
        is_gate=item.gravity == "stop" and not item.act,
        facts=facts_digest(visit, item),
        answer=answer.answer if answer else None,
        points=protocol.cautions if protocol is not None and item.shows_cautions else (),
        closes_senses=item.closes_senses,
        look=item.look,
        line=item.line,
        fine_words=item.fine,
        not_fine_words=item.not_fine,
    )


def _in_the_way(visit: Visit, ahead: Sequence[StepState]) -> InTheWay | None:
    """Return what will let no run start, once nothing is left to ask before the facepiece is put on its way."""
    stops = known_before_worn(visit)
    if not stops or visit.worn_since is not None or visit.distress or visit.turned_away:
        return None
    order = {one.id: place for place, one in enumerate(visit.rules.procedure.item)}
    chosen = next(one for one in visit.rules.procedure.item if one.act == "choose_facepiece")
    if ahead and order[ahead[0].item.id] <= order[chosen.id]:
        return None
    of_file = {one.code for one in file_blocks(visit)} - {"clearance_limit"}
    is_of_the_file = all(one.code in of_file for one in stops)
    return InTheWay(_between(stops)[0], is_of_the_file, card_of(visit, StepState(chosen, "open")))


def _between(blocks: list[Block]) -> tuple[tuple[Between, ...], int]:
    shown = [one for one in blocks if one.gravity != "unanswered" or not one.detail.startswith("not ")]
    hidden = len(blocks) - len(shown)
    return tuple(
        Between(code=one.code, sentence=one.sentence, detail=one.detail, gravity=one.gravity, until=moment(one.until))
        for one in shown
    ), hidden


def _waymarks(visit: Visit, here: str) -> tuple[Waymark, ...]:
    steps = visit.rules.procedure.step
    index = next((number for number, one in enumerate(steps) if one.id == here), 0)
    out, left_out = [], _left_out(visit)
    for number, one in enumerate(steps):
        state = "behind" if number < index or visit.closed else "here" if number == index else "ahead"
        if state == "behind" and one.id in left_out:
            state = "left_out"
        again = visit.attempt - 1 if one.id in ("don", "seal", "test") else 0
        out.append(Waymark(one.id, one.name, state, again))
    return tuple(out)


def _left_out(visit: Visit) -> frozenset[str]:
    """Return the steps that were not done to their end, where the visit goes, or went, no further through them."""
    is_ending = visit.ending or visit.turned_away or visit.distress or visit.wrong_person
    if visit.last_at is None or not (is_ending or visit.closed not in ("", "released")):
        return frozenset()
    found = step_states(visit, visit.last_at)
    done = {one.item.step for one in found if one.status == "done"}
    undone = {one.item.step for one in found if one.status != "done"}
    return frozenset(one.id for one in visit.rules.procedure.step if one.id in undone or one.id not in done)


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
        result = "" if not made else "leaks" if any(x.leaks for x in made) else "holds" if made[-1].holds else "short"
        how = rule.positive if name == "positive" else rule.negative
        hold = hold_of(visit, name)
        since = moment(hold.at) if hold is not None else None
        out.append(
            SealCheckView(
                check=name,
                how=how,
                result=result,
                held_s=math.ceil(must_be_held_s(visit, name) / visit.speed),
                hold_since=since,
            )
        )
    return tuple(out)


def setup_words(piece: Facepiece) -> str:
    """Return the set-up of a facepiece in words: suspension, clip, filters, and what is worn beside it."""
    filters = f"{piece.filter_class} {piece.filter_kind}" if piece.filter_class else ""
    return ", ".join(part for part in (piece.suspension, piece.clip, filters, *piece.ppe) if part)


def _facepiece(visit: Visit) -> FacepieceView | None:
    one = visit.facepiece
    if one is None:
        return None
    return FacepieceView(
        model_id=one.model_id,
        version_id=one.version_id,
        label=f"{one.model} {one.size}",
        maker=one.maker,
        model=one.model,
        kind=one.kind,
        family=one.family,
        outline=one.traits.outline,
        size=one.size,
        setup=setup_words(one),
    )


def seal_remedy(visit: Visit) -> str:
    """Return what to do about the last leak, by kind and place of the facepiece; the same place twice: inspect."""
    failed = [one for one in visit.seals if one.leaks]
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
    """Return the alteration that taping the valve is, where this facepiece's valve cannot be covered by hand."""
    piece = visit.facepiece
    if piece is None or any(one.rule == "tape" for one in visit.alterations):
        return ""
    found = (one.id for one in visit.rules.procedure.alteration if one.by_hand and piece.cover in one.covers)
    return next(found, "")


def starts_at(visit: Visit, now: datetime) -> datetime | None:
    """Return the earliest moment this person's run could start, as far as clocks decide it; None where none runs."""
    if visit.current_try is not None or visit.closed:
        return None
    return max((one.until for one in run_blocks(visit, now) if one.until is not None), default=None)


def visit_view(visit: Visit, now: datetime) -> VisitView:
    """Return the view of ``visit`` at ``now``. Pure: the same visit and moment give the same view."""
    here = step_of(visit, now)
    between, hidden = _between(pass_blocks(visit, now)) if not visit.closed else ((), 0)
    ahead = () if visit.running is not None or needs_decision(visit) else tuple(queue(visit, now))
    by_id = {one.item.id: one for one in step_states(visit, now)}
    recent: list[Item] = []
    for answer in reversed(visit.asked):
        item = visit.rules.procedure.find(answer.question)
        if item is not None and item.id in by_id and item not in recent:
            recent.append(item)
        if len(recent) == BACK_STEPS:
            break
    words = {one.id: one for one in visit.rules.procedure.alteration}
    alterations = tuple(
        AlterationView(
            id=one.id,
            rule=one.rule,
            opened=words[one.rule].opened,
            put_back=words[one.rule].put_back,
            say=words[one.rule].say,
            since=instant(one.opened_at),
        )
        for one in visit.alterations
        if one.rule in words
    )
    waiting = tuple(one for one in between if one.gravity == "waiting")
    return VisitView(
        seq=visit.seq,
        moved=visit.moved,
        revision=visit.revision,
        at=instant(now),
        changes_at=moment(changes_at(visit, now)),
        step=here,
        steps=_waymarks(visit, here),
        is_practice=visit.is_practice,
        speed=visit.speed,
        closed=visit.closed,
        is_signed=is_signed(visit),
        turned_away=visit.turned_away,
        distress=visit.distress,
        wrong_person=visit.wrong_person,
        under_question=tuple(reason_view(one) for one in visit.questions) if is_under_question(visit) else (),
        has_leaked=has_leaked(visit),
        proof=proof_view(visit, now),
        queue=tuple(card_of(visit, one) for one in ahead),
        behind=tuple(card_of(visit, by_id[item.id]) for item in recent),
        looks=tuple(LookView(one.id, one.title, one.say) for one in visit.rules.procedure.look),
        waiting_for=waiting,
        between=between,
        in_the_way=_in_the_way(visit, ahead) if not visit.closed and not visit.ending else None,
        not_asked=hidden,
        alterations=alterations,
        worn_since=moment(visit.worn_since),
        wear_ready_at=moment(visit.wear_ready_at()),
        wear_minutes=visit.rules.book.minutes("wear.minimum"),
        facepiece=_facepiece(visit),
        alterations_to_make=tuple(words[one].opened for one in alterations_needed(visit) if one in words),
        seal_word=visit.rules.book.seal_check_word,
        seal_checks=_seal_checks(visit),
        seal_fails=seal_fails(visit),
        seal_fails_allowed=seals_allowed(visit),
        seal_remedy=seal_remedy(visit),
        hold_s=int(visit.rules.book.ratio("seal_check.hold") or 10),
        tape=_tape(visit),
        task=task_view(visit),
        on_file=on_file(visit),
        starts_at=moment(starts_at(visit, now)),
        method=visit.method,
        method_words=method_words(visit.method),
        method_blocked_by=method_blocked_by(visit),
        screening=screening_view(visit),
        test_plan=test_plan(visit),
        protocols=tuple(
            ProtocolChoice(
                id=one.id,
                title=one.title,
                seconds=one.total_s,
                standing=one.standing,
                instrument=instrument_of(one.family),
                exercises=tuple(each.name for each in one.exercises()),
            )
            for one in run_protocols(visit)
        ),
        faults=(*PRACTICE, DRAWN) if visit.is_practice else (),
        run=run_view(visit, visit.running, now) if visit.running else None,
        offers=offers(visit),
        cause=cause(visit, visit.current_try) if visit.current_try is not None and needs_decision(visit) else "",
        tries=tuple(try_view(visit, one) for one in visit.tries),
        verdict=_verdict(visit),
        signatures=tuple(
            SignatureView(one.role, instant(one.at)) for one in visit.signatures if one.revision == visit.revision
        ),
        signed_under=signed_under(visit),
        limits_of_use=limits_of_use(visit),
        terms=visit.rules.procedure.terms,
    )


def run_protocols(visit: Visit) -> tuple[Protocol, ...]:
    """Return the protocols of the quantitative method chosen that may be run on the facepiece, the usual one first."""
    piece = visit.facepiece
    if piece is None:
        return ()
    found = visit.rules.protocols_for(visit.method or "ambient_count", piece.kind)
    return tuple(one for one in found if not one.is_qualitative)


def level_for(visit: Visit) -> Fraction | None:
    """Return the pass level for the chosen facepiece, or None where the book is silent."""
    return visit.rules.book.ratio(visit.facepiece.level_key) if visit.facepiece else None
