"""Who may wear what on a day: gathers the facts for the core's one answer, and judges nothing itself."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from fractions import Fraction
from functools import lru_cache

import orjson
from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.advice.methods import method_words
from moorfog.core.events.facts import Facepiece
from moorfog.core.events.payloads import Task, instant
from moorfog.core.kernel.codec import decode
from moorfog.core.kernel.days import day_in
from moorfog.core.permission.from_before import Accepted
from moorfog.core.permission.may_wear import (
    End,
    Held,
    NoTask,
    Permission,
    PersonFacts,
    Who,
    Why,
    may_wear,
    without_a_pass,
)
from moorfog.core.permission.way_out import Way, length, ways_out
from moorfog.core.rules.in_force import Books
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.same import entries_of
from moorfog.platform.log.summaries import PermissionEnd, VisitSummary, WearPermission
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import DomainError, NotFound
from moorfog.platform.web.fields import day_of
from moorfog.rooms.kit.found_wrong import suspensions_of
from moorfog.rooms.people.on_file import on_file
from moorfog.rooms.people.people import find_person
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.protocols import books_in_use
from moorfog.rooms.sites.tables import Site, SiteTask
from moorfog.rooms.sites.tasks import task_of, tasks_by_id
from moorfog.rooms.wear.from_before import FromBefore, as_judged_today, before_of

MOST = 200
"""Passes of one person that are looked at, the latest first."""
ENDS: dict[str, str] = {"test": "the fit test", "clearance": "the clearance", "training": "the training"}
"""What ends what may be worn, in words."""


@dataclass(frozen=True)
class WhyView:
    """A reason against wearing it, and who settles it."""

    code: str
    sentence: str
    settled_by: str


@dataclass(frozen=True)
class PermissionRow:
    """A set-up somebody has passed in, and whether they may wear it on the day asked for: with every reason if not.

    ``visit_id`` is empty for a pass of before that counts because the site says so in writing.
    """

    visit_id: str
    configuration: str
    model: str
    size: str
    setup: str
    overall: str
    method: str
    limits: tuple[str, ...]
    tested_on: str
    test_until: str
    may: bool
    until: str
    ends_by: str
    reasons: tuple[WhyView, ...]

    @property
    def is_before(self) -> bool:
        """Whether it rests on a pass of before, which nobody here judged."""
        return not self.visit_id


def set_up_words(one: PermissionRow) -> str:
    """Return a set-up in words: model, size, and how it is worn."""
    return f"{one.model} {one.size}, {one.setup}"


@dataclass(frozen=True)
class Permissions:
    """What a person may wear on a day, at a task: what they may first, then what they may not and why. ``without``:
    every reason where they have passed in nothing."""

    person_id: str
    day: str
    task_id: str
    task: str
    rows: tuple[PermissionRow, ...]
    without: tuple[WhyView, ...]


def lacking(reasons: Sequence[WhyView]) -> tuple[Way, ...]:
    """Return what is lacking where these stand against it, the shortest way out first."""
    return ways_out((one.code, one.settled_by) for one in reasons)


def nearest_of(judged: Permissions) -> tuple[PermissionRow | None, tuple[WhyView, ...]]:
    """Return of somebody who may wear nothing the set-up with the shortest way out, None where they have passed in
    none, and every reason against."""
    against = [one for one in judged.rows if not one.may]
    nearest = min(against, key=lambda one: (length(lacking(one.reasons)), len(one.reasons)), default=None)
    return nearest, judged.without if nearest is None else nearest.reasons


QUESTIONED = "Its record is under question: something was heard after it was closed. A tester settles it."


@dataclass(frozen=True)
class PassWords:
    """A pass in words: which set-up, what was reached by which method, and the limits it brings."""

    model: str
    size: str
    setup: str
    overall: str
    method: str
    limits: tuple[str, ...]


@dataclass(frozen=True)
class Known:
    """Of one person: their passes in words, in the order of the facts, the latest first; and everything that decides
    about them."""

    words: tuple[PassWords, ...]
    facts: PersonFacts


def known_of(db: Session, asked: Sequence[Person], books: Mapping[str, Books], day: str) -> dict[str, Known]:
    """Return what is known of these people on a day, by the books of their sites; of many in as many questions as of
    one."""
    people = entries_of(db, [one.id for one in asked])
    passes = select(WearPermission).where(WearPermission.person_id.in_(people.entries))
    rows = people.sort(db.scalars(passes.order_by(WearPermission.tested_at.desc(), WearPermission.visit_id)))
    ended = people.sort(db.scalars(select(PermissionEnd).where(PermissionEnd.person_id.in_(people.entries))))
    questioned = select(VisitSummary.visit_id).where(
        VisitSummary.person_id.in_(people.entries), VisitSummary.under_question.is_(True)
    )
    doubtful, suspended, files = set(db.scalars(questioned)), suspensions_of(db, people), on_file(db, people)
    before = before_of(db, people, {one.id: one.site_id for one in asked}, books, day)
    out = {}
    for one in people.asked:
        ends = [End(row.configuration, instant(row.ended_at), row.why, "tester") for row in ended[one]]
        ends += [_suspended(each.visit_id, each.no, each.what, "administrator") for each in suspended[one]]
        ends += [
            _suspended(row.visit_id, row.no, QUESTIONED, "tester") for row in rows[one] if row.visit_id in doubtful
        ]
        file, shown, earlier = files[one], rows[one][:MOST], before.get(one, FromBefore())
        facts = PersonFacts(
            clearances=file.clearances,
            trained=file.trained,
            ends=(*ends, *earlier.ends),
            passes=(*map(_held, shown), *(each.held for each in earlier.passes)),
            reports=file.reports,
            cleared=file.cleared,
        )
        out[one] = Known((*map(_words, shown), *map(_words_before, earlier.passes)), facts)
    return out


def _words(row: WearPermission) -> PassWords:
    return PassWords(
        model=row.model,
        size=row.size,
        setup=row.setup,
        overall=row.overall,
        method=method_words(row.method),
        limits=tuple(row.limits),
    )


def _words_before(one: Accepted) -> PassWords:
    piece = one.word.piece
    return PassWords(
        model=f"{piece.maker} {piece.model}",
        size=piece.size,
        setup=piece.worn_as,
        overall=one.result.factor,
        method=one.result.method,
        limits=(one.words,),
    )


def _suspended(visit_id: str, no: int, why: str, by: Who) -> End:
    return End("", "", why, by, is_suspension=True, visit_id=visit_id, no=no)


@lru_cache(4096)
def _piece(content: bytes) -> Facepiece:
    return as_judged_today(decode(Facepiece, orjson.loads(content), "facts.piece"))


def _held(row: WearPermission) -> Held:
    facts = row.facts or {}
    piece = _piece(orjson.dumps(facts["piece"]))
    up_to, overall, lowest = (facts.get(name) for name in ("up_to", "overall", "lowest"))
    return Held(
        visit_id=row.visit_id,
        no=row.no,
        piece=piece,
        tested_at=instant(row.tested_at),
        valid_from=row.valid_from.isoformat(),
        valid_until=row.valid_until.isoformat(),
        up_to=Fraction(up_to) if up_to else None,
        method=row.method,
        protocol=facts.get("protocol", ""),
        overall=Fraction(overall) if overall else None,
        lowest=Fraction(lowest) if lowest else None,
    )


def usual_task(db: Session, person: Person) -> Task | NoTask:
    """Return the task a person does, as their site has it; none of them where it is none."""
    return at_work(db)(person)


def task_tested_for(db: Session, person: Person, passed: WearPermission) -> Task | NoTask:
    """Return the task that a pass was tested for, as the person's site has it now; their usual one where it has it no
    more."""
    row = db.get(SiteTask, (passed.facts or {}).get("task") or "")
    site = db.get(Site, person.site_id)
    found = tasks_by_id(db, site).get(row.task_id) if row is not None and site is not None else None
    return found if found is not None else usual_task(db, person)


def today_at(db: Session, person: Person, now: datetime) -> str:
    """Return the date at a person's site, YYYY-MM-DD."""
    site = db.get(Site, person.site_id)
    return day_in(site.zone if site is not None else "UTC", now).isoformat()


def permissions_of(
    db: Session, clock: Clock, actor: Actor, person_id: str, day: str = "", task_id: str = ""
) -> Permissions:
    """Return what a person may wear on a day (empty: today) at a task (empty: their usual one).

    Raises :class:`NotFound` outside the scope or for a task of another site, :class:`DomainError` for no date.
    """
    person = find_person(db, actor.require(*READERS), person_id)
    on = day_of(day, "day").isoformat() if day else today_at(db, person, clock.now(db))
    task = usual_task(db, person)
    if task_id:
        row = db.get(SiteTask, task_id)
        if row is None or row.site_id != person.site_id or not row.is_current:
            raise NotFound("task")
        task = task_of(row)
    return judge_permissions(db, person, on, task)


def judge_permissions(db: Session, person: Person, day: str, task: Task | NoTask) -> Permissions:
    """Return every signed pass of a person, judged for a day and a task by the core."""
    return judge_people(db, [person], day, lambda _: task)[person.id]


@dataclass(frozen=True)
class Answered:
    """What the core answered of one person: of each pass, in the order in which they are known, or of having none."""

    known: Known
    found: tuple[Permission, ...]
    without: tuple[Why, ...]
    task: Task | NoTask
    books: Books


def answers_for(
    db: Session,
    people: Sequence[Person],
    day: str,
    task_for: Callable[[Person], Task | NoTask],
    given: Mapping[str, Books] | None = None,
) -> dict[str, Answered]:
    """Ask the core of every signed pass of these people, for a day, each under the book of their site, at the task that
    ``task_for`` names; ``given``: other books of some sites, to see what they would do. Raises :class:`DomainError`
    for somebody who is at no site."""
    books: dict[str, Books] = dict(given or {})
    for person in people:
        if person.site_id not in books:
            site = db.get(Site, person.site_id)
            if site is None:
                raise DomainError("no_site", f"{person.name} is at no site. Move them to one first.")
            books[site.id] = books_in_use(db, site)
    out, known = {}, known_of(db, people, books, day)
    for one in people:
        task, facts, book = task_for(one), known[one.id].facts, books[one.site_id]
        found = tuple(may_wear(held, facts, task, book, day) for held in facts.passes)
        without = () if found else without_a_pass(facts, book, day)
        out[one.id] = Answered(known=known[one.id], found=found, without=without, task=task, books=book)
    return out


def at_work(db: Session, task: Task | None = None) -> Callable[[Person], Task | NoTask]:
    """Return what names the task somebody is judged for: the one given, else the work they do at their own site."""
    if task is not None:
        return lambda _: task
    tasks: dict[str, dict[str, Task]] = {}

    def of(person: Person) -> Task | NoTask:
        if person.site_id not in tasks:
            site = db.get(Site, person.site_id)
            tasks[person.site_id] = tasks_by_id(db, site) if site is not None else {}
        return tasks[person.site_id].get(person.task_id or "") or NoTask(person.task)

    return of


def judge_people(
    db: Session, people: Sequence[Person], day: str, task_for: Callable[[Person], Task | NoTask]
) -> dict[str, Permissions]:
    """Return every signed pass of these people with what the core answered, for whoever reads it."""
    return {one: _shown(one, answer, day) for one, answer in answers_for(db, people, day, task_for).items()}


def _shown(person_id: str, answer: Answered, day: str) -> Permissions:
    out, task = [], answer.task
    for words, held, found in zip(answer.known.words, answer.known.facts.passes, answer.found, strict=True):
        out.append(
            PermissionRow(
                visit_id=held.visit_id,
                configuration=held.piece.configuration,
                model=words.model,
                size=words.size,
                setup=words.setup,
                overall=words.overall,
                method=words.method,
                limits=tuple(dict.fromkeys((*words.limits, *found.limits))),
                tested_on=held.valid_from,
                test_until=held.valid_until,
                may=found.may,
                until=found.until,
                ends_by=found.ends_by,
                reasons=_whys(found.reasons),
            )
        )
    out.sort(key=lambda one: (not one.may, one.tested_on))
    return Permissions(
        person_id=person_id,
        day=day,
        task_id=task.id if isinstance(task, Task) else "",
        task=task.name,
        rows=tuple(out),
        without=_whys(answer.without),
    )


def _whys(reasons: Iterable[Why]) -> tuple[WhyView, ...]:
    return tuple(WhyView(one.code, one.sentence, one.settled_by) for one in reasons)
