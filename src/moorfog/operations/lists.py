"""Lists and look-ups: today, people, a person, pass results. Every list is paged."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from functools import cache
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import ColumnElement, Integer, Select, and_, bindparam, case, false, func, not_, or_, select
from sqlalchemy.orm import Session, aliased

from moorfog.core.advice.methods import QUALITATIVE, WORDS
from moorfog.core.events.payloads import Clearance, instant
from moorfog.operations.accounts import READERS, Actor
from moorfog.operations.errors import NotFound
from moorfog.operations.paging import PAGE, cut_to_page, turn_to
from moorfog.operations.people import file_on, matching, search_words
from moorfog.operations.permissions import Permissions, judge_permissions, usual_task
from moorfog.store.base import Clock
from moorfog.store.models import (
    Employer,
    Person,
    SealNotice,
    Site,
    TryResult,
    VisitSummary,
)
from moorfog.store.scope import within


@dataclass(frozen=True)
class PersonRow:
    """A wearer in a list."""

    id: str
    name: str
    number: str
    job: str
    task: str
    employer: str
    site: str
    site_id: str


@dataclass(frozen=True)
class PeoplePage:
    """One page of people."""

    rows: tuple[PersonRow, ...]
    total: int
    page: int
    pages: int


@dataclass(frozen=True)
class VisitRow:
    """A visit in a list."""

    visit_id: str
    person_id: str
    person: str
    number: str
    employer: str
    site: str
    bench: str
    step: str
    doing: str
    verdict: str
    tries: int
    facepiece: str
    loops_open: int
    is_practice: bool
    is_sealed: bool
    closed: str
    opened_at: str
    last_at: str
    ready_at: str | None
    seal_fails: int


@dataclass(frozen=True)
class VisitPage:
    """One page of visits, the newest first."""

    rows: tuple[VisitRow, ...]
    total: int
    page: int
    pages: int


@dataclass(frozen=True)
class TodayPages:
    """Which page of each list of the day, from 1."""

    seal_notices: int = 1
    questions: int = 1
    here: int = 1
    unfinished: int = 1
    done: int = 1
    practice: int = 1


@dataclass(frozen=True)
class Today:
    """Who is here, what was left unfinished on an earlier day, what was finished today, failed seal checks that no
    supervisor has acknowledged yet, closed records that came under question, and open practice, which counts nowhere.
    """

    seal_notices: VisitPage
    questions: VisitPage
    here: VisitPage
    unfinished: VisitPage
    done: VisitPage
    practice: VisitPage


@dataclass(frozen=True)
class TryRow:
    """A try in a person's history."""

    visit_id: str
    no: int
    model: str
    size: str
    method: str
    outcome: str
    overall: str
    level: str
    tested_at: str
    is_practice: bool
    is_sealed: bool


@dataclass(frozen=True)
class PersonView:
    """A person: what they may wear, their visits and tries. Face measures in mm, None where not measured."""

    person: PersonRow
    face_length: str | None
    face_width: str | None
    permissions: Permissions
    visits: tuple[VisitRow, ...]
    tries: tuple[TryRow, ...]
    visits_total: int
    contact: str
    clearance: Clearance | None
    trained_on: str


@dataclass(frozen=True)
class ResultRow:
    """Pass results of a model in a size. One person × model × size × visit counts once; ``sensed`` of them were
    judged by taste, smell or irritation, without a number."""

    model: str
    size: str
    tested: int
    passed: int
    passed_first: int
    sensed: int


@dataclass(frozen=True)
class ResultsPage:
    """One page of pass results by mask model and size."""

    rows: tuple[ResultRow, ...]
    total: int
    page: int
    pages: int


@dataclass(frozen=True)
class SiteView:
    """A site with its benches."""

    id: str
    name: str
    employer: str
    zone: str
    benches: tuple[str, ...]
    rule_book: str


def _person_row(person: Person, employer: str, site: str) -> PersonRow:
    return PersonRow(person.id, person.name, person.number, person.job, person.task, employer, site, person.site_id)


@cache
def _people_query(words: int, is_limited: bool) -> tuple[Select[Any], Select[Any]]:
    """Return the query of a page of people, and that of how many there are, built once for a number of words."""
    found = matching(words, is_limited).subquery()
    columns: Any = select(
        Person.id,
        Person.name,
        Person.number,
        Person.job,
        Person.task,
        Employer.name.label("employer"),
        Site.name.label("site"),
        Person.site_id,
    )
    query = columns.select_from(found).join(Person, Person.id == found.c.person_id)
    if words:  # from the matches to the people; the other way round all people are read in the order of names
        query = query.prefix_with("STRAIGHT_JOIN")
    query = query.join(Employer, Employer.id == Person.employer_id).join(Site, Site.id == Person.site_id)
    page = query.order_by(Person.name, Person.id).limit(PAGE + 1).offset(bindparam("skip", type_=Integer))
    return page, select(func.count()).select_from(found)


def find_people(db: Session, actor: Actor, q: str, page: int) -> PeoplePage:
    """Return people each word of ``q`` begins a name word or the number of, by name; accents do not matter."""
    scope = actor.require(*READERS)
    words, given = search_words(scope, q)
    query, count = _people_query(words, scope.employers is not None)
    shown = turn_to(
        page,
        lambda skip: db.execute(query, {**given, "skip": skip}).all(),
        lambda: db.scalar(count, given) or 0,
    )
    return PeoplePage(tuple(PersonRow(*row) for row in shown.rows), shown.total, shown.page, shown.pages)


def _visit_query() -> Any:
    return (
        select(VisitSummary, Person.name, Person.number, Employer.name, Site.name)
        .join(Person, Person.id == VisitSummary.person_id)
        .join(Employer, Employer.id == VisitSummary.employer_id)
        .join(Site, Site.id == VisitSummary.site_id)
    )


def _visit_row(row: Any) -> VisitRow:
    one, person, number, employer, site = row
    return VisitRow(
        one.visit_id,
        one.person_id,
        person,
        number,
        employer,
        site,
        one.bench,
        one.step,
        one.doing,
        one.verdict,
        one.tries,
        one.facepiece,
        one.loops_open,
        one.is_practice,
        one.is_sealed,
        one.closed,
        instant(one.opened_at),
        instant(one.last_at),
        instant(one.ready_at) if one.ready_at else None,
        one.seal_fails,
    )


def today(db: Session, clock: Clock, actor: Actor, pages: TodayPages) -> Today:
    """Return open visits (of today and older), those finished on this day, and failed seal checks, page by page."""
    scope, now = actor.require(*READERS), clock.now(db)
    query = within(_visit_query(), scope, VisitSummary.employer_id)
    mine = query.where(VisitSummary.closed == "", VisitSummary.is_practice.is_(False))
    midnights = _midnights(db, now)
    opened_today = _on_this_day(midnights, VisitSummary.opened_at)
    notices = query.outerjoin(SealNotice, SealNotice.visit_id == VisitSummary.visit_id).where(
        VisitSummary.seal_fails > func.coalesce(SealNotice.fails, 0), VisitSummary.is_practice.is_(False)
    )
    finished = query.where(
        VisitSummary.closed.in_(("released", "turned_away")),
        VisitSummary.is_practice.is_(False),
        _on_this_day(midnights, VisitSummary.last_at),
    )
    questions = query.where(VisitSummary.under_question.is_(True))
    practice = query.where(VisitSummary.closed == "", VisitSummary.is_practice.is_(True))
    return Today(
        _visit_page(db, notices, pages.seal_notices, VisitSummary.last_at),
        _visit_page(db, questions, pages.questions, VisitSummary.last_at),
        _visit_page(db, mine.where(opened_today), pages.here, VisitSummary.opened_at),
        _visit_page(db, mine.where(not_(opened_today)), pages.unfinished, VisitSummary.opened_at),
        _visit_page(db, finished, pages.done, VisitSummary.last_at),
        _visit_page(db, practice, pages.practice, VisitSummary.opened_at),
    )


def _midnights(db: Session, now: datetime) -> dict[str, datetime]:
    """Return when the day that it is now began, by the zones of all sites."""
    zones = db.scalars(select(Site.zone).distinct())
    return {zone: now.astimezone(ZoneInfo(zone)).replace(hour=0, minute=0, second=0, microsecond=0) for zone in zones}


def _on_this_day(midnights: dict[str, datetime], column: Any) -> ColumnElement[bool]:
    """Return the condition that a moment lies in the day that it is now where its site is."""
    return or_(false(), *(and_(Site.zone == zone, column >= start) for zone, start in midnights.items()))


def _visit_page(db: Session, query: Any, page: int, newest_by: Any) -> VisitPage:
    shown = cut_to_page(db, query, page, newest_by.desc(), VisitSummary.visit_id)
    return VisitPage(tuple(map(_visit_row, shown.rows)), shown.total, shown.page, shown.pages)


def acknowledge_seal(db: Session, clock: Clock, actor: Actor, visit_id: str) -> None:
    """Note that a supervisor knows of a visit's failed seal checks. Raises :class:`NotFound` outside the scope."""
    row = db.get(VisitSummary, visit_id)
    if row is None or not actor.require("supervisor", "administrator").allows(row.employer_id):
        raise NotFound("visit")
    db.merge(SealNotice(visit_id=visit_id, account_id=actor.id, acknowledged_at=clock.now(db), fails=row.seal_fails))
    db.flush()


def view_person(db: Session, clock: Clock, actor: Actor, person_id: str, page: int = 1) -> PersonView:
    """Return a person with permissions, a page of visits and the latest tries. Raises :class:`NotFound`."""
    scope = actor.require(*READERS)
    person = db.get(Person, person_id)
    if person is None or not scope.allows(person.employer_id):
        raise NotFound("person")
    site, employer = db.get(Site, person.site_id), db.get(Employer, person.employer_id)
    on = clock.now(db).astimezone(ZoneInfo(site.zone if site else "UTC")).date()
    file = file_on(db, person.id, on.isoformat())
    mine = and_(VisitSummary.person_id == person_id, VisitSummary.closed != "mistaken")
    total = db.scalar(select(func.count()).select_from(VisitSummary).where(mine)) or 0
    visits = db.execute(
        _visit_query().where(mine).order_by(VisitSummary.opened_at.desc()).limit(PAGE).offset((max(page, 1) - 1) * PAGE)
    )
    tries = db.scalars(
        select(TryResult)
        .where(TryResult.person_id == person_id)
        .order_by(TryResult.tested_at.desc(), TryResult.no.desc())
        .limit(PAGE)
    )
    millimetres = [
        f"{value / 10:.1f}" if value is not None else None for value in (person.face_length, person.face_width)
    ]
    return PersonView(
        _person_row(person, employer.name if employer else "", site.name if site else ""),
        millimetres[0],
        millimetres[1],
        judge_permissions(db, person, on.isoformat(), usual_task(db, person)),
        tuple(_visit_row(row) for row in visits),
        tuple(
            TryRow(
                one.visit_id,
                one.no,
                one.model,
                one.size,
                WORDS.get(one.method, one.method),  # type: ignore[call-overload]
                one.outcome,
                one.overall,
                one.level,
                instant(one.tested_at),
                one.is_practice,
                one.is_sealed,
            )
            for one in tries
        ),
        total,
        person.contact,
        file.clearance,
        file.trained_on,
    )


def pass_results(db: Session, actor: Actor, page: int, site_id: str | None = None) -> ResultsPage:
    """Return tested, passed, passed first time by mask model and size, as counts.

    The unit is one person × model × size × visit with at least one pass or fail in a signed record; void-only is
    left out; passed means that the last judged run passed, first time that the first did. Practice never counts.
    """
    scope = actor.require(*READERS)
    judged = within(
        select(
            TryResult.visit_id,
            TryResult.model_id,
            TryResult.size,
            func.min(TryResult.no).label("first"),
            func.max(TryResult.no).label("last"),
        ).where(
            TryResult.is_practice.is_(False), TryResult.is_sealed.is_(True), TryResult.outcome.in_(("pass", "fail"))
        ),
        scope,
        TryResult.employer_id,
    )
    if site_id:
        judged = judged.join(VisitSummary, VisitSummary.visit_id == TryResult.visit_id).where(
            VisitSummary.site_id == site_id
        )
    units = judged.group_by(TryResult.visit_id, TryResult.model_id, TryResult.size).subquery()
    first, last = aliased(TryResult), aliased(TryResult)
    query = (
        select(
            func.max(last.model).label("model"),
            units.c.size,
            func.count(),
            func.sum(case((last.outcome == "pass", 1), else_=0)),
            func.sum(case((first.outcome == "pass", 1), else_=0)),
            func.sum(case((last.method.in_(sorted(QUALITATIVE)), 1), else_=0)),
        )
        .select_from(units)
        .join(first, and_(first.visit_id == units.c.visit_id, first.no == units.c.first))
        .join(last, and_(last.visit_id == units.c.visit_id, last.no == units.c.last))
        .group_by(units.c.model_id, units.c.size)
    )
    shown = cut_to_page(db, query, page, "model", units.c.size)
    rows = tuple(ResultRow(m, s, *map(int, counts)) for m, s, *counts in shown.rows)
    return ResultsPage(rows, shown.total, shown.page, shown.pages)


def list_sites(db: Session, actor: Actor) -> tuple[SiteView, ...]:
    """Return all sites within the actor's scope, to choose one from."""
    scope = actor.require(*READERS)
    rows = db.execute(
        within(
            select(Site, Employer.name).join(Employer, Employer.id == Site.employer_id), scope, Site.employer_id
        ).order_by(Employer.name, Site.name)
    )
    return tuple(
        SiteView(site.id, site.name, employer, site.zone, tuple(site.benches), site.rule_book)
        for site, employer in rows
    )
