"""Records: one search over people, models, kit, testers, codes and days, and the tests that are found by it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from typing import Annotated, Literal
from zoneinfo import ZoneInfo

from pydantic import Field
from sqlalchemy import Select, and_, or_, select
from sqlalchemy.orm import Session

from moorfog.core.advice.methods import method_words
from moorfog.core.events.payloads import instant, parse_instant
from moorfog.core.kernel.codec import DataError
from moorfog.data import shipped_books, shipped_protocols
from moorfog.platform.db.scope import within
from moorfog.platform.log.same import same_person
from moorfog.platform.log.summaries import TryKit, TryResult
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import DomainError
from moorfog.platform.web.fields import Label, MaybeId, day_of
from moorfog.platform.web.paging import PAGE
from moorfog.rooms.accounts.tables import Account
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.sites import find_site
from moorfog.rooms.sites.tables import Employer, Site

Cursor = Annotated[str, Field(max_length=120)]
AT_ONCE = 500
"""Rows that are read in one go where all of them are wanted."""


@dataclass(frozen=True)
class RecordsAsked:
    """Which tests are meant: of whom, in which model and size, with which kit, by which tester, at which site, on which
    days there (UTC without a site), with which outcome; empty: any. Practice is never among them."""

    person: MaybeId = ""
    model: MaybeId = ""
    size: Label = ""
    kit: MaybeId = ""
    tester: MaybeId = ""
    site: MaybeId = ""
    since: Label = ""
    until: Label = ""
    outcome: Literal["", "pass", "fail", "void"] = ""


@dataclass(frozen=True)
class RecordRow:
    """A test: whose, in what, how it went, by whom, under which rule."""

    visit_id: str
    no: int
    person_id: str
    person: str
    number: str
    employer: str
    site: str
    model: str
    size: str
    method: str
    protocol: str
    rule_book: str
    level: str
    overall: str
    outcome: str
    is_signed: bool
    tester: str
    tested_at: str


@dataclass(frozen=True)
class RecordsPage:
    """Some of the tests that are meant, the latest first; ``after`` asks for those that follow, empty at the end."""

    rows: tuple[RecordRow, ...]
    after: str


def find_records(db: Session, actor: Actor, asked: RecordsAsked, after: str) -> RecordsPage:
    """Return a page of tests. Raises :class:`NotFound` for a site outside the scope, :class:`DomainError` for no date
    and no place to go on from."""
    rows = _rows(db, actor, asked, after, PAGE + 1)
    shown = rows[:PAGE]
    return RecordsPage(_shown(db, shown), _cursor(shown[-1]) if len(rows) > PAGE else "")


def every_record(db: Session, actor: Actor, asked: RecordsAsked) -> Iterator[RecordRow]:
    """Yield all of them, however many there are; some at a time are read and kept."""
    after = ""
    while rows := _rows(db, actor, asked, after, AT_ONCE):
        yield from _shown(db, rows)
        after = _cursor(rows[-1])
        db.expunge_all()


def _query(db: Session, actor: Actor, asked: RecordsAsked) -> Select[TryResult]:
    """Return the query of the tests that are meant, within the actor's scope; those with a piece of kit are read from
    what it was used for."""
    scope = actor.require(*READERS)
    query = within(select(TryResult).where(TryResult.is_practice == 0), scope, TryResult.employer_id)
    zone = "UTC"
    if asked.site:
        zone = find_site(db, scope, asked.site).zone
        query = query.where(TryResult.site_id == asked.site)
    if asked.since:
        query = query.where(TryResult.tested_at >= _midnight(asked.since, "since", zone))
    if asked.until:
        query = query.where(TryResult.tested_at < _midnight(asked.until, "until", zone, 1))
    if asked.person:
        query = query.where(TryResult.person_id.in_(same_person(db, asked.person)))
    if asked.model:
        query = query.where(TryResult.model_id == asked.model)
    if asked.size:
        query = query.where(TryResult.size == asked.size)
    if asked.tester:
        query = query.where(TryResult.tester_id == asked.tester)
    if asked.outcome:
        query = query.where(TryResult.outcome == asked.outcome)
    if asked.kit:
        of_it = and_(TryResult.visit_id == TryKit.visit_id, TryResult.no == TryKit.no)
        query = query.select_from(TryKit).join(TryResult, of_it).where(TryKit.kit_id == asked.kit)
        query = query.prefix_with("STRAIGHT_JOIN")
    return query


def _midnight(day: str, what: str, zone: str, later: int = 0) -> datetime:
    found: date = day_of(day, what) + timedelta(days=later)
    return datetime.combine(found, time(), ZoneInfo(zone)).astimezone(UTC)


def _rows(db: Session, actor: Actor, asked: RecordsAsked, after: str, most: int) -> list[TryResult]:
    query, by = _query(db, actor, asked), TryKit if asked.kit else TryResult
    if after:
        at, visit, no = _place(after)
        same = and_(by.visit_id == visit, by.no < no)
        later = and_(by.tested_at == at, or_(by.visit_id < visit, same))
        query = query.where(by.tested_at <= at, or_(by.tested_at < at, later))
    return list(db.scalars(query.order_by(by.tested_at.desc(), by.visit_id.desc(), by.no.desc()).limit(most)))


def _cursor(row: TryResult) -> str:
    return f"{instant(row.tested_at)}~{row.visit_id}~{row.no}"


def _place(after: str) -> tuple[datetime, str, int]:
    try:
        at, visit, no = after.split("~")
        return parse_instant(at, "after"), visit, int(no)
    except (ValueError, DataError) as error:
        raise DomainError("no_place", "This is no place in the list to go on from. Begin at its top.") from error


def _shown(db: Session, rows: list[TryResult]) -> tuple[RecordRow, ...]:
    people = {one.id: one for one in db.scalars(select(Person).where(Person.id.in_({row.person_id for row in rows})))}
    sites, employers = dict[str, str](), dict[str, str]()
    for key, name in db.execute(select(Site.id, Site.name).where(Site.id.in_({one.site_id for one in rows}))):
        sites[key] = name
    whose = select(Employer.id, Employer.name).where(Employer.id.in_({one.employer_id for one in rows}))
    for key, name in db.execute(whose):
        employers[key] = name
    testers = names_of(db, {one.tester_id for one in rows})
    protocols, books = {one.id: one for one in shipped_protocols()}, shipped_books()
    out = []
    for one in rows:
        person, protocol, book = people.get(one.person_id), protocols.get(one.protocol_id), books.get(one.book)
        out.append(
            RecordRow(
                visit_id=one.visit_id,
                no=one.no,
                person_id=one.person_id,
                person=person.name if person is not None else "",
                number=person.number if person is not None else "",
                employer=employers.get(one.employer_id, ""),
                site=sites.get(one.site_id or "", ""),
                model=one.model,
                size=one.size,
                method=method_words(one.method),
                protocol=protocol.title if protocol is not None else one.protocol_id,
                rule_book=book.title if book is not None else one.book,
                level=one.level,
                overall=one.overall,
                outcome=one.outcome,
                is_signed=one.is_signed,
                tester=testers.get(one.tester_id, ""),
                tested_at=instant(one.tested_at),
            )
        )
    return tuple(out)


def names_of(db: Session, accounts: set[str]) -> dict[str, str]:
    """Return the names of accounts by id, as they are now."""
    query = select(Account.id, Account.name).where(Account.id.in_(accounts))
    return {one.id: one.name for one in db.execute(query)}
