"""Today at the benches: who is here, what is open, what was finished, and which seal checks failed."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import ColumnElement, and_, false, not_, or_, select, text, true, update
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import instant
from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import within
from moorfog.platform.log.summaries import SealNotice, VisitSummary
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import NotFound
from moorfog.platform.web.fields import Page
from moorfog.platform.web.paging import cut_to_page
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.tables import Employer, Site


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
    alterations_open: int
    is_practice: bool
    is_signed: bool
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

    seal_notices: Page = 1
    questions: Page = 1
    here: Page = 1
    unfinished: Page = 1
    done: Page = 1
    practice: Page = 1


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


def visit_query() -> Any:
    """Return the query of visits in a line, read from the visits to whose they are: never the other way round, which
    would read all people."""
    return (
        select(VisitSummary, Person.name, Person.number, Employer.name, Site.name)
        .prefix_with("STRAIGHT_JOIN")
        .join(Person, Person.id == VisitSummary.person_id)
        .join(Employer, Employer.id == VisitSummary.employer_id)
        .join(Site, Site.id == VisitSummary.site_id)
    )


def visit_row(row: Any) -> VisitRow:
    one, person, number, employer, site = row
    return VisitRow(
        visit_id=one.visit_id,
        person_id=one.person_id,
        person=person,
        number=number,
        employer=employer,
        site=site,
        bench=one.bench,
        step=one.step,
        doing=one.doing,
        verdict=one.verdict,
        tries=one.tries,
        facepiece=one.facepiece,
        alterations_open=one.alterations_open,
        is_practice=one.is_practice,
        is_signed=one.is_signed,
        closed=one.closed,
        opened_at=instant(one.opened_at),
        last_at=instant(one.last_at),
        ready_at=instant(one.ready_at) if one.ready_at else None,
        seal_fails=one.seal_fails,
    )


def today(db: Session, clock: Clock, actor: Actor, pages: TodayPages) -> Today:
    """Return open visits (of today and older), those finished on this day, and failed seal checks, page by page."""
    scope, now = actor.require(*READERS), clock.now(db)
    query = within(visit_query(), scope, VisitSummary.employer_id)
    mine = query.where(VisitSummary.closed == "", VisitSummary.is_practice == false())
    midnights = _midnights(db, now)
    opened_today = _on_this_day(midnights, VisitSummary.opened_at)
    notices = query.where(VisitSummary.seal_open == true())
    finished = query.where(
        VisitSummary.closed.in_(("released", "turned_away")),
        VisitSummary.is_practice == false(),
        _on_this_day(midnights, VisitSummary.last_at),
    )
    questions = query.where(VisitSummary.under_question == true())
    practice = query.where(VisitSummary.closed == "", VisitSummary.is_practice == true())
    return Today(
        seal_notices=_visit_page(db, notices, pages.seal_notices, VisitSummary.last_at),
        questions=_visit_page(db, questions, pages.questions, VisitSummary.last_at),
        here=_visit_page(db, mine.where(opened_today), pages.here, VisitSummary.opened_at),
        unfinished=_visit_page(db, mine.where(not_(opened_today)), pages.unfinished, VisitSummary.opened_at),
        done=_visit_page(db, finished, pages.done, VisitSummary.last_at),
        practice=_visit_page(db, practice, pages.practice, VisitSummary.opened_at),
    )


def _midnights(db: Session, now: datetime) -> dict[str, datetime]:
    """Return when the day that it is now began, by the zones of all sites."""
    zones = db.scalars(select(Site.zone).distinct())
    return {zone: now.astimezone(ZoneInfo(zone)).replace(hour=0, minute=0, second=0, microsecond=0) for zone in zones}


def _on_this_day(midnights: dict[str, datetime], column: Any) -> ColumnElement[bool]:
    """Return the condition that a moment lies in the day that it is now where its site is."""
    earliest = min(midnights.values(), default=datetime.max.replace(tzinfo=UTC))
    here = or_(false(), *(and_(Site.zone == zone, column >= start) for zone, start in midnights.items()))
    return and_(column >= earliest, here)  # the first by an index, the second of what is left


def _visit_page(db: Session, query: Any, page: int, newest_by: Any) -> VisitPage:
    shown = cut_to_page(db, query, page, newest_by.desc(), VisitSummary.visit_id)
    return VisitPage(tuple(map(visit_row, shown.rows)), shown.total, shown.page, shown.pages)


def acknowledge_seal(db: Session, clock: Clock, actor: Actor, visit_id: str) -> None:
    """Note that a supervisor knows of a visit's failed seal checks. Raises :class:`NotFound` outside the scope."""
    row = db.get(VisitSummary, visit_id)
    if row is None or not actor.require("supervisor", "administrator").allows(row.employer_id):
        raise NotFound("visit")
    db.merge(SealNotice(visit_id=visit_id, account_id=actor.id, acknowledged_at=clock.now(db), fails=row.seal_fails))
    seen = {"seal_open": False, "changed_at": text("CURRENT_TIMESTAMP(3)")}
    db.execute(update(VisitSummary).where(VisitSummary.visit_id == visit_id).values(seen))
    db.flush()
