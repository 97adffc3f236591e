"""Who is due: by the earliest of test, clearance and training, asked of the one permission; and as a calendar."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from icalendar import Calendar, Event
from sqlalchemy import func, or_, select
from sqlalchemy.orm import Session

from moorfog.core.permission.may_wear import EndsBy
from moorfog.core.rules.book import Book
from moorfog.core.rules.validity import valid_until
from moorfog.documents.code import initials
from moorfog.operations.accounts.journal import Note, note
from moorfog.operations.accounts.sessions import READERS, Actor, digest_of, load_actor
from moorfog.operations.errors import NotFound
from moorfog.operations.paging import page_of
from moorfog.operations.people.crews import NO_PASS
from moorfog.operations.people.permissions import PermissionRow, WhyView, judge_people
from moorfog.operations.sites.sites import find_site, site_book, tasks_of
from moorfog.operations.sites.words import notice_of
from moorfog.store.clock import Clock
from moorfog.store.models import (
    Account,
    ClearanceRow,
    PermissionEnd,
    Person,
    Site,
    TrainingRow,
    VisitSummary,
    WearPermission,
)
from moorfog.store.models_programme import CalendarFeed, ChangeReport

MOST = 400
"""People that are looked at one by one."""
ENDS: dict[EndsBy, str] = {"test": "the fit test", "clearance": "the clearance", "training": "the training"}


@dataclass(frozen=True)
class DueLine:
    """Somebody who can wear something no longer than ``until`` (empty: already nothing), in which set-up, what ends
    then, in how many days (below zero: gone by), and whether it is their only set-up."""

    person_id: str
    name: str
    number: str
    task: str
    contact: str
    set_up: str
    until: str
    ends_by: str
    days: int
    is_only: bool
    reasons: tuple[WhyView, ...]


@dataclass(frozen=True)
class DuePage:
    """Who is due at a site within so many days, who can wear nothing already first, then the soonest."""

    site_id: str
    site: str
    today: str
    within: int
    notice: int
    rows: tuple[DueLine, ...]
    unable: int
    soon: int
    total: int
    page: int
    pages: int
    is_cut: bool
    """Whether there are more people than were looked at."""


@dataclass(frozen=True)
class FeedView:
    """The address of a calendar, shown once; a new one ends it."""

    path: str


def _passed_once(site: Site) -> Any:
    """Return the people of a site who passed in something once, with the last day that any test of theirs counts;
    another entry of the same person counts as theirs."""
    root = func.coalesce(Person.merged_into, Person.id)
    return (
        select(root.label("person_id"), func.max(WearPermission.valid_until).label("until"))
        .join(Person, Person.id == WearPermission.person_id)
        .where(Person.employer_id == site.employer_id)
        .group_by(root)
    ).subquery()


def _looked_at(db: Session, site: Site, book: Book, last: date) -> tuple[list[Person], bool]:
    """Return whom to judge, and whether that is not everybody who passed once: then those of whom anything that has a
    day ends by ``last``, or of whom something was heard."""
    passed = _passed_once(site)
    here = (
        select(Person)
        .join(passed, passed.c.person_id == Person.id)
        .where(
            Person.site_id == site.id,
            Person.merged_into.is_(None),
            Person.left_on.is_(None),
            Person.erased_at.is_(None),
        )
        .order_by(Person.name)
        .limit(MOST + 1)
    )
    people = list(db.scalars(here))
    if len(people) <= MOST:
        return people, False
    months = book.ratio("training.interval")
    trained = select(TrainingRow.person_id)
    if months is not None:
        trained = trained.where(TrainingRow.trained_on > valid_until(last, -int(months)))
    limited = or_(
        ClearanceRow.valid_until <= last, ClearanceRow.status != "cleared", func.json_length(ClearanceRow.limits) > 0
    )
    reported = select(ChangeReport.person_id).where(ChangeReport.withdrawn_at.is_(None))
    questioned = select(VisitSummary.person_id).where(VisitSummary.under_question.is_(True))
    heard = select(PermissionEnd.person_id).union(reported, questioned)
    narrowed = here.where(
        or_(
            passed.c.until <= last,
            Person.id.in_(select(ClearanceRow.person_id).where(limited)),
            Person.id.not_in(trained),
            Person.id.in_(heard),
        )
    )
    return list(db.scalars(narrowed))[:MOST], True


@dataclass(frozen=True)
class Due:
    """Everybody who is due at a site within so many days of a day."""

    site: Site
    today: date
    within: int
    notice: int
    lines: tuple[DueLine, ...]
    is_cut: bool


def due_at(db: Session, clock: Clock, actor: Actor, site_id: str, within: int = 0) -> Due:
    """Return who is due at a site within so many days (0: the site's notice). Raises :class:`NotFound`."""
    return _due(db, clock, find_site(db, actor.require(*READERS), site_id), within)


def due_page(due: Due, page: int) -> DuePage:
    """Return a page of who is due."""
    shown, total, page, pages = page_of(due.lines, page)
    return DuePage(
        site_id=due.site.id,
        site=due.site.name,
        today=due.today.isoformat(),
        within=due.within,
        notice=due.notice,
        rows=shown,
        unable=sum(not one.until for one in due.lines),
        soon=sum(bool(one.until) for one in due.lines),
        total=total,
        page=page,
        pages=pages,
        is_cut=due.is_cut,
    )


def _due(db: Session, clock: Clock, site: Site, within: int) -> Due:
    today, notice = clock.now(db).astimezone(ZoneInfo(site.zone)).date(), notice_of(db, site)
    within = within or notice
    last, book = today + timedelta(days=within), site_book(db, site, site.rule_book)
    people, is_cut = _looked_at(db, site, book, last)
    tasks = {one.name: one for one in tasks_of(db, site)}
    lines = []
    judged = judge_people(db, people, today.isoformat(), lambda one: tasks.get(one.task))
    for person in people:
        line = _line(person, judged[person.id].rows, today)
        if not line.until or date.fromisoformat(line.until) <= last:
            lines.append(line)
    lines.sort(key=lambda one: (one.until, not one.is_only, one.name))
    return Due(site=site, today=today, within=within, notice=notice, lines=tuple(lines), is_cut=is_cut)


def _line(person: Person, rows: tuple[PermissionRow, ...], today: date) -> DueLine:
    """Return until when somebody can wear anything: the set-up that lasts longest decides."""
    good = [one for one in rows if one.may]
    best = max(good, key=lambda one: one.until, default=None)
    nearest = best or min(rows, key=lambda one: len(one.reasons), default=None)
    return DueLine(
        person_id=person.id,
        name=person.name,
        number=person.number,
        task=person.task,
        contact=person.contact,
        set_up=f"{nearest.model} {nearest.size}" if nearest is not None else "",
        until=best.until if best is not None else "",
        ends_by=ENDS[best.ends_by] if best is not None else "",  # type: ignore[index]
        days=(date.fromisoformat(best.until) - today).days if best is not None else -1,
        is_only=len(good) == 1,
        reasons=() if best is not None else nearest.reasons if nearest is not None else (NO_PASS,),
    )


def renew_feed(db: Session, clock: Clock, actor: Actor, site_id: str) -> FeedView:
    """Make the secret address of a site's calendar for whoever asks; the one they had before ends."""
    site = find_site(db, actor.require(*READERS), site_id)
    secret = secrets.token_urlsafe(24)
    row = db.get(CalendarFeed, (actor.id, site.id))
    if row is None:
        row = CalendarFeed(account_id=actor.id, site_id=site.id, digest="", made_at=clock.now(db))
        db.add(row)
    row.digest, row.made_at = digest_of(secret), clock.now(db)
    note(db, Note("site", site.id, site.employer_id, {"calendar": ["", "a new address"]}))
    return FeedView(f"/api/calendar/{secret}.ics")


def calendar_of(db: Session, clock: Clock, secret: str) -> bytes:
    """Return a site's calendar: a day for each person who is due within its notice. It names nobody but by initials
    and number. Raises :class:`NotFound` for an address that ended, or an account that may no longer read."""
    row = db.scalar(select(CalendarFeed).where(CalendarFeed.digest == digest_of(secret)))
    site = db.get(Site, row.site_id) if row is not None else None
    if row is None or site is None or not _still_may(db, row, site):
        raise NotFound("calendar")
    out = Calendar()
    out.add("prodid", "-//Moorfog//Due//EN")
    out.add("version", "2.0")
    out.add("x-wr-calname", f"Fit tests due, {site.name}")
    due = _due(db, clock, site, 0)
    for one in due.lines:
        event = Event()
        event.add("uid", f"{one.person_id}@moorfog")
        event.add("dtstamp", row.made_at)
        day = date.fromisoformat(one.until) if one.until else due.today
        event.add("dtstart", day)
        event.add("dtend", day + timedelta(days=1))
        ends = f"{one.ends_by} ends" if one.until else "may wear nothing now"
        event.add("summary", f"{initials(one.name)} {one.number}: {ends}")
        out.add_component(event)
    content: bytes = out.to_ical()
    return content


def _still_may(db: Session, row: CalendarFeed, site: Site) -> bool:
    account = db.get(Account, row.account_id)
    return (
        account is not None
        and account.off_at is None
        and load_actor(db, account).scope(*READERS).allows(site.employer_id)
    )
