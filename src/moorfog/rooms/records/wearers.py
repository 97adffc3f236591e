"""Everyone in a model and size on a test that still counts, with the rule and the level it was passed under."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date
from typing import Any

from sqlalchemy import Select, and_, or_, select
from sqlalchemy.orm import Session

from moorfog.core.kernel.days import day_in, day_or_none
from moorfog.data import shipped_books, shipped_protocols
from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import within
from moorfog.platform.log.summaries import TryResult, WearPermission
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import DomainError
from moorfog.platform.web.fields import Id, Label, MaybeId
from moorfog.platform.web.paging import PAGE
from moorfog.rooms.people.tables import Person
from moorfog.rooms.records.searching import AT_ONCE
from moorfog.rooms.sites.sites import find_site
from moorfog.rooms.sites.tables import Site
from moorfog.rooms.wear.permissions import Permissions, WhyView, at_work, judge_people


@dataclass(frozen=True)
class WearersAsked:
    """In which model and size (empty: any), at which site (empty: all of the actor's)."""

    model: Id
    size: Label = ""
    site: MaybeId = ""


@dataclass(frozen=True)
class WearerRow:
    """Somebody with a signed pass whose time has not run out, and whether they may wear it now; if not, why."""

    person_id: str
    person: str
    number: str
    site: str
    task: str
    model: str
    size: str
    setup: str
    tested_on: str
    test_until: str
    protocol: str
    rule_book: str
    level: str
    overall: str
    visit_id: str
    may: bool
    until: str
    reasons: tuple[WhyView, ...]


@dataclass(frozen=True)
class WearersPage:
    """Some of them, whose test ends first; ``after`` asks for those that follow, empty at the end."""

    rows: tuple[WearerRow, ...]
    after: str


Pass = tuple[WearPermission, TryResult | None]


def find_wearers(db: Session, clock: Clock, actor: Actor, asked: WearersAsked, after: str) -> WearersPage:
    """Return a page of those who wear a model. Raises :class:`NotFound` for a site outside the scope,
    :class:`DomainError` for no place to go on from."""
    rows = _rows(db, _query(db, clock, actor, asked), after, PAGE + 1)
    shown = rows[:PAGE]
    return WearersPage(_shown(db, clock, shown), _cursor(shown[-1][0]) if len(rows) > PAGE else "")


def every_wearer(db: Session, clock: Clock, actor: Actor, asked: WearersAsked) -> Iterator[WearerRow]:
    """Yield all of them, some at a time."""
    query, after = _query(db, clock, actor, asked), ""
    while rows := _rows(db, query, after, AT_ONCE):
        yield from _shown(db, clock, rows)
        after = _cursor(rows[-1][0])
        db.expunge_all()


def _query(db: Session, clock: Clock, actor: Actor, asked: WearersAsked) -> Select[WearPermission, TryResult]:
    scope = actor.require(*READERS)
    today = clock.now(db).date()
    query: Any = (
        select(WearPermission, TryResult)
        .prefix_with("STRAIGHT_JOIN")  # from the passes, in the order of their index
        .outerjoin(TryResult, and_(TryResult.visit_id == WearPermission.visit_id, TryResult.no == WearPermission.no))
        .where(WearPermission.model_id == asked.model, WearPermission.valid_until >= today)
    )
    if asked.size:
        query = query.where(WearPermission.size == asked.size)
    if asked.site:
        site = find_site(db, scope, asked.site)
        query = query.join(Person, Person.id == WearPermission.person_id).where(Person.site_id == site.id)
    found: Select[WearPermission, TryResult] = within(query, scope, WearPermission.employer_id)
    return found


def _rows(db: Session, query: Select[WearPermission, TryResult], after: str, most: int) -> list[Pass]:
    if after:
        until, visit, configuration = _place(after)
        same = and_(WearPermission.visit_id == visit, WearPermission.configuration > configuration)
        later = and_(WearPermission.valid_until == until, or_(WearPermission.visit_id > visit, same))
        query = query.where(WearPermission.valid_until >= until, or_(WearPermission.valid_until > until, later))
    order = (WearPermission.valid_until, WearPermission.visit_id, WearPermission.configuration)
    return [(row[0], row[1]) for row in db.execute(query.order_by(*order).limit(most))]


def _cursor(row: WearPermission) -> str:
    return f"{row.valid_until.isoformat()}~{row.visit_id}~{row.configuration}"


def _place(after: str) -> tuple[date, str, str]:
    parts = after.split("~")
    until = day_or_none(parts[0])
    if until is None or len(parts) != 3:
        raise DomainError("no_place", "This is no place in the list to go on from. Begin at its top.")
    return until, parts[1], parts[2]


def _shown(db: Session, clock: Clock, rows: list[Pass]) -> tuple[WearerRow, ...]:
    """Return passes with whom they are of, each asked of the one permission for today at the person's site."""
    of = {one.person_id for one, _ in rows}
    entered = {one.id: one for one in db.scalars(select(Person).where(Person.id.in_(of)))}
    into = {one.merged_into for one in entered.values() if one.merged_into is not None} - entered.keys()
    entered |= {one.id: one for one in db.scalars(select(Person).where(Person.id.in_(into)))}
    people = {key: entered.get(one.merged_into or key, one) for key, one in entered.items()}
    sites = {one.id: one for one in db.scalars(select(Site).where(Site.id.in_({p.site_id for p in people.values()})))}
    now, judged = clock.now(db), dict[str, Permissions]()
    for zone in {one.zone for one in sites.values()}:
        today = day_in(zone, now).isoformat()
        here = {one.id: one for one in people.values() if sites[one.site_id].zone == zone}
        judged |= judge_people(db, list(here.values()), today, at_work(db))
    protocols, books = {one.id: one.title for one in shipped_protocols()}, shipped_books()
    out = []
    for row, tried in rows:
        person = people[row.person_id]
        found = next(
            (
                one
                for one in judged[person.id].rows
                if (one.visit_id, one.configuration) == (row.visit_id, row.configuration)
            ),
            None,
        )
        gone = () if person.left_on is None else (WhyView("has_left", f"Left on {person.left_on}.", "administrator"),)
        may = found is not None and found.may and not gone
        out.append(
            WearerRow(
                person_id=person.id,
                person=person.name,
                number=person.number,
                site=sites[person.site_id].name,
                task=person.task,
                model=row.model,
                size=row.size,
                setup=row.setup,
                tested_on=row.valid_from.isoformat(),
                test_until=row.valid_until.isoformat(),
                protocol=protocols.get(tried.protocol_id, tried.protocol_id) if tried is not None else "",
                rule_book=books[tried.book].title if tried is not None and tried.book in books else "",
                level=tried.level if tried is not None else "",
                overall=row.overall,
                visit_id=row.visit_id,
                may=may,
                until=found.until if found is not None and may else "",
                reasons=(*gone, *(found.reasons if found is not None else ())),
            )
        )
    return tuple(out)
