"""What the bench is advised when a facepiece is chosen: task, size, method, and what this person wore before."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.advice.faces import Cell, panel_cell
from moorfog.core.advice.methods import METHODS, WORDS, Kit, Method, Wearer, advise
from moorfog.core.advice.protection import apf, protection, suffices
from moorfog.core.advice.sizing import SizeAdvice, SizeRange, size_advice
from moorfog.core.events.payloads import Facepiece, Task
from moorfog.core.kernel.arithmetic import parse_decimal
from moorfog.core.transitions.next_steps import suggested
from moorfog.core.views.visit_view import setup_words
from moorfog.core.visit.outcomes import outcome
from moorfog.core.visit.state import Visit
from moorfog.data import face_rules, facepiece_kinds, shipped_protocols
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.log import load_visit
from moorfog.platform.log.same import same_person
from moorfog.platform.log.summaries import PermissionEnd, TryResult, WearPermission
from moorfog.platform.log.tables import VisitHead
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.paging import page_of
from moorfog.rooms.bench.competence import competence_required, steps_outside
from moorfog.rooms.bench.visits import find_head
from moorfog.rooms.facepieces.facepieces import FacepieceOption, offered
from moorfog.rooms.facepieces.pieces import piece_of
from moorfog.rooms.kit.instruments import kinds_ready
from moorfog.rooms.kit.nebulisers import list_nebulisers
from moorfog.rooms.kit.solutions import lots_at_hand
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.tasks import TaskLine, find_task, list_tasks
from moorfog.rooms.wear.permissions import usual_task


@dataclass(frozen=True)
class SizeAdviceView:
    """Which sizes of a model to try on this face, best first, and why: passed, failed, within the maker's range."""

    state: str
    suggested: tuple[str, ...]
    failed: tuple[str, ...]
    sentence: str
    passed: tuple[str, ...]
    within: tuple[str, ...]


@dataclass(frozen=True)
class MethodView:
    """A fit-test method for a facepiece: may, not permitted, or not here, with its reasons."""

    method: str
    words: str
    verdict: str
    is_best: bool
    reasons: tuple[str, ...]
    limits: tuple[str, ...]
    mode: str


@dataclass(frozen=True)
class Choice:
    """A facepiece with the advice for this person and task."""

    option: FacepieceOption
    suffices: str
    why: str
    size: SizeAdviceView
    methods: tuple[MethodView, ...]


@dataclass(frozen=True)
class ChoicesPage:
    """As many facepieces as there are digits, those that are enough for the task first."""

    rows: tuple[Choice, ...]
    total: int
    page: int
    pages: int


@dataclass(frozen=True)
class SameAgain:
    """What this person last passed in, set-up and all, if it is still offered and has not failed since; and by which
    method, for which task. ``method`` is empty where it cannot be done now, and ``without`` says why."""

    version_id: str
    label: str
    size: str
    suspension: str
    clip: str
    filter_class: str
    ppe: tuple[str, ...]
    is_own: bool
    passed_on: str
    setup: str
    task_id: str
    task: str
    method: str
    method_words: str
    without: str


@dataclass(frozen=True)
class NextPiece:
    """A facepiece and size to try after one that failed: nothing that failed in the same set-up is among them."""

    version_id: str
    label: str
    size: str
    why: str


@dataclass(frozen=True)
class NoTestView:
    """Something people do in the place of a fit test: why it is none, and what there is instead."""

    name: str
    why: str
    instead: str


@dataclass(frozen=True)
class Advice:
    """Everything the bench is advised for a visit. Measures in mm; ``cell`` is the panel's, a hint."""

    tasks: tuple[TaskLine, ...]
    usual_task: str
    length: str | None
    width: str | None
    cell: int | None
    panel: tuple[Cell, ...]
    same_again: SameAgain | None
    methods: tuple[MethodView, ...]
    cautions: tuple[str, ...]
    no_tests: tuple[NoTestView, ...]
    next: tuple[NextPiece, ...]


def advice_for(db: Session, clock: Clock, actor: Actor, visit_id: str) -> Advice:
    """Return the advice for a visit as it stands. Raises :class:`NotFound` outside the scope."""
    head = find_head(db, actor.require(*READERS), visit_id)
    visit = load_visit(db, head)
    person = db.get(Person, visit.person_id)
    tasks = list_tasks(db, actor, head.site_id)
    known = usual_task(db, person) if person is not None else None
    usual = known.id if isinstance(known, Task) else ""
    chooser = Chooser.of(db, clock, actor, visit)
    length, width = chooser.length, chooser.width
    options = offered(db)
    return Advice(
        tasks=tasks,
        usual_task=usual,
        length=f"{float(length):.1f}" if length is not None else None,
        width=f"{float(width):.1f}" if width is not None else None,
        panel=face_rules().panel.cell,
        cell=panel_cell(face_rules(), length, width) if length is not None and width is not None else None,
        same_again=_same_again(db, head, chooser, options, usual),
        methods=_methods_now(visit, chooser),
        cautions=next((one.cautions for one in visit.rules.protocols if one.method == "smoke"), ()),
        no_tests=tuple(NoTestView(one.name, one.why, one.instead) for one in visit.rules.procedure.no_test),
        next=_next(chooser, options),
    )


RANK = {"yes": 0, "no": 2}
"""Facepieces that are enough for the task come first, the least that is enough before more, those that are not last."""
DIGITS = 9


def choices_for(db: Session, clock: Clock, actor: Actor, visit_id: str, words: str, page: int) -> ChoicesPage:
    """Return a page of the facepieces offered, with advice. Raises :class:`NotFound` outside the scope."""
    visit = load_visit(db, find_head(db, actor.require(*READERS), visit_id))
    chooser = Chooser.of(db, clock, actor, visit)
    ranked = sorted(offered(db, words), key=chooser.rank)
    rows, *rest = page_of(ranked, page, DIGITS)
    return ChoicesPage(tuple(chooser.choice(one) for one in rows), *rest)


NEXT_SHOWN = 3


def _methods_now(visit: Visit, chooser: Chooser) -> tuple[MethodView, ...]:
    """Return the methods for the facepiece as it is chosen, set-up and all; nothing before one is."""
    piece = visit.facepiece
    if piece is None:
        return ()
    required = _suffices(visit.task, visit, piece)[2]
    return _method_views(piece, visit, required, chooser)


def _method_views(
    piece: Facepiece, visit: Visit, required: Fraction | None, chooser: Chooser
) -> tuple[MethodView, ...]:
    out = frozenset(one for one in METHODS if one in visit.out)
    return tuple(
        MethodView(
            method=one.method,
            words=WORDS[one.method],
            verdict="not permitted" if one.method in chooser.stopped else one.verdict,
            is_best=one.is_best and one.method not in chooser.stopped,
            reasons=(*one.reasons, *chooser.words_of(one.method, stopping=True)),
            limits=(*one.limits, *chooser.words_of(one.method, stopping=False)),
            mode=one.mode,
        )
        for one in advise(piece, visit.rules, required, chooser.kit, Wearer(out))
    )


def _next(chooser: Chooser, options: tuple[FacepieceOption, ...]) -> tuple[NextPiece, ...]:
    """Return what to try after the last try failed: enough for the task, allowed by clearance, not failed before."""
    visit = chooser.visit
    last = visit.tries[-1] if visit.tries else None
    if last is None or outcome(visit, last)[0] == "pass":
        return ()
    failed = {configuration for (_, _, configuration), result in chooser.tried.items() if result == "fail"}
    enough = {one.version_id for one in options if chooser.suffices(one)[0] != "no"}
    by_version = {one.version_id: one for one in options}
    pieces = [
        piece_of(one, size.name, *_setup(one)) for one in options if one.version_id in enough for size in one.sizes
    ]
    pieces = [one for one in pieces if not visit.ruled_out(one)]
    advice = {one.version_id: chooser.size(one) for one in options if one.version_id in enough}

    def holds(piece: Facepiece) -> bool | None:
        said = advice[piece.version_id]
        return None if said.state == "not measured" else piece.size in said.suggested

    ranked = suggested(pieces, last.facepiece, failed, holds)
    return tuple(
        NextPiece(
            one.version_id,
            f"{one.maker} {one.model} {one.size}",
            one.size,
            "same model, another size" if one.model_id == last.facepiece.model_id else by_version[one.version_id].kind,
        )
        for one in ranked[:NEXT_SHOWN]
    )


BY_INSTRUMENT: dict[str, Method] = {
    "counter": "ambient_count",
    "photometer": "aerosol",
    "pressure": "negative_pressure",
}
"""Which method an instrument at hand makes possible."""


def kit_at_hand(db: Session, clock: Clock, actor: Actor) -> Kit:
    """Return the methods with a sound kit today: a checked counter, or every lot and nebuliser a test needs."""
    methods: set[Method] = set()
    ready = kinds_ready(db, clock, actor)
    methods.update(method for kind, method in BY_INSTRUMENT.items() if kind in ready)
    held = {(one.agent, one.role) for one in list_nebulisers(db, clock, actor) if not one.blocked_by}
    held |= lots_at_hand(db, clock, actor)
    for protocol in shipped_protocols():
        plans = [one for one in (protocol.screening, protocol.dosing) if one is not None]
        needed = {(protocol.method, role) for one in plans for role in (one.role, *one.lots) if role}
        if plans and needed <= held:
            methods.add(next(one for one in METHODS if one == protocol.method))
    return Kit(frozenset(methods))


def _tried(db: Session, visit: Visit) -> dict[tuple[str, str, str], str]:
    """Return the latest judged outcome of this person by model, size and configuration, this visit's tries on top."""
    rows = db.execute(
        select(TryResult.model_id, TryResult.size, TryResult.configuration, TryResult.outcome)
        .where(
            TryResult.person_id.in_(same_person(db, visit.person_id)),
            TryResult.is_practice.is_(False),
            TryResult.outcome.in_(("pass", "fail")),
        )
        .order_by(TryResult.tested_at)
    )
    found = {(model, size, configuration): result for model, size, configuration, result in rows}
    for one in visit.tries:
        result = outcome(visit, one)[0]
        if result in ("pass", "fail"):
            found[(one.facepiece.model_id, one.facepiece.size, one.facepiece.configuration)] = result
    return found


def _first(values: tuple[str, ...]) -> str:
    return values[0] if values else ""


def _setup(option: FacepieceOption) -> tuple[str, str, str]:
    """Return the set-up a model is offered in first: suspension, clip, filter class."""
    return _first(option.suspensions), _first(option.clips), _first(option.filter_classes)


@dataclass(frozen=True)
class Chooser:
    """Everything advice on a facepiece needs: the visit, the kit at hand, the face in mm, and what was tried before."""

    visit: Visit
    kit: Kit
    length: Fraction | None
    width: Fraction | None
    tried: dict[tuple[str, str, str], str]
    outside: dict[str, str]
    """Methods the tester has not shown competence in, each with why."""
    stops: bool
    """Whether the rule book stops them."""

    @property
    def stopped(self) -> frozenset[str]:
        """Return the methods that the rule book stops this tester from using."""
        return frozenset(self.outside) if self.stops else frozenset()

    def words_of(self, method: str, *, stopping: bool) -> tuple[str, ...]:
        """Return what is said of the tester's competence in a method, where it stops, or where it is only said."""
        found = self.outside.get(method)
        return (found,) if found is not None and stopping is self.stops else ()

    @classmethod
    def of(cls, db: Session, clock: Clock, actor: Actor, visit: Visit) -> Chooser:
        """Return the chooser for a visit as it stands."""
        person = db.get(Person, visit.person_id)
        length, width = (
            Fraction(value, 10) if value is not None else None
            for value in ((person.face_length, person.face_width) if person else (None, None))
        )
        return cls(
            visit=visit,
            kit=kit_at_hand(db, clock, actor),
            length=length,
            width=width,
            tried=_tried(db, visit),
            outside=steps_outside(db, actor.id, visit),
            stops=competence_required(visit),
        )

    def suffices(self, option: FacepieceOption) -> tuple[str, str, Fraction | None]:
        """Return whether a model is enough for the task, why, and the factor the task needs."""
        return _suffices(self.visit.task, self.visit, piece_of(option, option.sizes[0].name, *_setup(option)))

    def rank(self, option: FacepieceOption) -> tuple[int, Fraction]:
        """Return where a model stands in the list: by :data:`RANK`, then the least factor that is enough first."""
        enough = self.suffices(option)[0]
        kind, filter_class = facepiece_kinds()[option.kind], _first(option.filter_classes)
        factor = apf(self.visit.rules.book, kind, filter_class) if enough == "yes" else None
        return RANK.get(enough, 1), factor or Fraction(0)

    def size(self, option: FacepieceOption) -> SizeAdvice:
        """Return which sizes of a model to try on this face, and which have failed on it in the same set-up."""
        pieces = {one.name: piece_of(option, one.name, *_setup(option)) for one in option.sizes}
        results = {name: self.tried.get((option.model_id, name, one.configuration)) for name, one in pieces.items()}
        ranges = [
            SizeRange(one.name, _span(one.length_from, one.length_to), _span(one.width_from, one.width_to))
            for one in option.sizes
        ]
        passed = [name for name, result in results.items() if result == "pass"]
        failed = [name for name, result in results.items() if result == "fail"]
        return size_advice(ranges, self.length, self.width, passed, failed)

    def choice(self, option: FacepieceOption) -> Choice:
        """Return a model with all the advice on it."""
        suffices, why, required = self.suffices(option)
        size = self.size(option)
        piece = piece_of(option, option.sizes[0].name, *_setup(option))
        return Choice(
            option=option,
            suffices=suffices,
            why=why,
            size=SizeAdviceView(**vars(size)),
            methods=_method_views(piece, self.visit, required, self),
        )


def _span(low: str, high: str) -> tuple[Fraction, Fraction] | None:
    return (parse_decimal(low, "from"), parse_decimal(high, "to")) if low and high else None


def _suffices(task: Task | None, visit: Visit, piece: Facepiece) -> tuple[str, str, Fraction | None]:
    if task is None:
        return "no task", "no task is chosen yet", None
    verdict = suffices(task, visit.rules.book, piece)
    return verdict.suffices, verdict.why, protection(task, visit.rules.book).required


def _same_again(
    db: Session, head: VisitHead, chooser: Chooser, options: tuple[FacepieceOption, ...], usual: str
) -> SameAgain | None:
    visit = chooser.visit
    row = db.scalar(
        select(WearPermission)
        .where(WearPermission.person_id == visit.person_id)
        .order_by(WearPermission.tested_at.desc())
        .limit(1)
    )
    earlier = db.get(VisitHead, row.visit_id) if row is not None else None
    if row is None or earlier is None:
        return None
    failed = select(PermissionEnd.no).where(
        PermissionEnd.person_id == visit.person_id,
        PermissionEnd.configuration == row.configuration,
        PermissionEnd.ended_at > row.tested_at,
    )
    today = any(
        one.facepiece.configuration == row.configuration and outcome(visit, one)[0] == "fail" for one in visit.tries
    )
    if today or db.scalar(failed.limit(1)) is not None:
        return None
    then = load_visit(db, earlier)
    last = next((one for one in reversed(then.tries) if one.facepiece.configuration == row.configuration), None)
    made = last.facepiece if last is not None else None
    option = next((one for one in options if made is not None and one.model_id == made.model_id), None)
    if last is None or made is None or option is None or made.size not in [one.name for one in option.sizes]:
        return None
    task = visit.task if visit.task is not None or not usual else find_task(db, head.site_id, usual)
    enough, _, required = _suffices(task, visit, made)
    if enough == "no" or visit.ruled_out(made):
        return None
    protocol = then.rules.protocol(last.started.protocol_id)
    methods = _method_views(made, visit, required, chooser)
    method = next((one for one in methods if protocol is not None and one.method == protocol.method), None)
    may = method is not None and method.verdict == "may"
    return SameAgain(
        version_id=option.version_id,
        label=f"{made.maker} {made.model} {made.size}",
        size=made.size,
        suspension=made.suspension,
        clip=made.clip,
        filter_class=made.filter_class,
        ppe=made.ppe,
        is_own=made.is_own,
        passed_on=row.valid_from.isoformat(),
        setup=setup_words(made),
        task_id=task.id if task is not None else "",
        task=task.name if task is not None else "",
        method=method.method if method is not None and may else "",
        method_words=method.words if method is not None else "",
        without="" if method is None or may else "; ".join((*method.reasons, *method.limits)),
    )
