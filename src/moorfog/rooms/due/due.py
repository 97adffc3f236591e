"""Who is due: by the earliest of test, clearance and training, asked of the one permission; and as a calendar."""

from __future__ import annotations

import secrets
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

from icalendar import Calendar, Event
from sqlalchemy import func, or_, select, true
from sqlalchemy.orm import Session

from moorfog.core.kernel.days import day_in
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.log.summaries import Standing
from moorfog.platform.printing.plain import one_line
from moorfog.platform.web.actor import READERS, Actor, digest_of
from moorfog.platform.web.errors import NotFound
from moorfog.platform.web.paging import PAGE, pages_of
from moorfog.rooms.accounts.sessions import load_actor
from moorfog.rooms.accounts.tables import Account
from moorfog.rooms.due.tables import CalendarFeed
from moorfog.rooms.papers.code import initials
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.sites import find_site
from moorfog.rooms.sites.tables import Site
from moorfog.rooms.sites.words import notice_of
from moorfog.rooms.wear.permissions import ENDS, Permissions, WhyView, at_work, judge_people, nearest_of
from moorfog.rooms.wear.standing import AT_ONCE, WHILE_WAITING, freshen, pending


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
    pending: int
    """People who are still being worked out: ask again, somebody may be missing."""


@dataclass(frozen=True)
class FeedView:
    """The address of a calendar, shown once; a new one ends it."""

    path: str


@dataclass(frozen=True)
class Due:
    """Everybody who is due at a site within so many days of a day, to be read page by page; ``pending``: people who
    are still being worked out, so that somebody may be missing."""

    site: Site
    today: date
    within: int
    notice: int
    pending: int

    @property
    def last(self) -> date:
        """The last day that is looked at."""
        return self.today + timedelta(days=self.within)


def due_at(db: Session, clock: Clock, actor: Actor, site_id: str, within: int = 0, *, whole: bool = False) -> Due:
    """Return who is due at a site within so many days (0: the site's notice); ``whole``: wait until everybody is worked
    out. Raises :class:`NotFound`."""
    return _due(db, clock, find_site(db, actor.require(*READERS), site_id), within, whole=whole)


def _due(db: Session, clock: Clock, site: Site, within: int, *, whole: bool) -> Due:
    today, notice = day_in(site.zone, clock.now(db)), notice_of(db, site)
    freshen(db, site, today, WHILE_WAITING)
    left = pending(db, site, today)
    while whole and left:
        freshen(db, site, today, left)
        left = pending(db, site, today)
    return Due(site=site, today=today, within=within or notice, notice=notice, pending=left)


def _due_now(due: Due) -> Any:
    """Return the conditions on how somebody stands: they work there, passed once, and can wear something no longer than
    the last day that is looked at."""
    return (
        Standing.site_id == due.site.id,
        Standing.is_here == true(),
        Standing.has_passed == true(),
        or_(Standing.until.is_(None), Standing.until <= due.last),
    )


def _lines(db: Session, due: Due, skip: int, most: int) -> tuple[DueLine, ...]:
    """Return so many of those who are due, each asked of the one permission once more."""
    order = (Standing.until, Standing.is_only.desc(), Standing.person_id)
    ids = db.scalars(select(Standing.person_id).where(*_due_now(due)).order_by(*order).limit(most).offset(skip)).all()
    entered = {one.id: one for one in db.scalars(select(Person).where(Person.id.in_(ids)))}
    people = [entered[one] for one in ids if one in entered]
    judged = judge_people(db, people, due.today.isoformat(), at_work(db))
    return tuple(_line(one, judged[one.id], due.today) for one in people)


def due_lines(db: Session, due: Due) -> Iterator[DueLine]:
    """Yield everybody who is due, some at a time."""
    skip = 0
    while lines := _lines(db, due, skip, AT_ONCE):
        yield from lines
        skip += len(lines)


def due_page(db: Session, due: Due, page: int) -> DuePage:
    """Return a page of who is due."""
    counted = select(func.count(), func.count(Standing.until)).where(*_due_now(due))
    total, soon = db.execute(counted).one()
    pages = pages_of(total)
    page = min(max(page, 1), pages)
    return DuePage(
        site_id=due.site.id,
        site=due.site.name,
        today=due.today.isoformat(),
        within=due.within,
        notice=due.notice,
        rows=_lines(db, due, (page - 1) * PAGE, PAGE),
        unable=total - soon,
        soon=soon,
        total=total,
        page=page,
        pages=pages,
        pending=due.pending,
    )


def _line(person: Person, judged: Permissions, today: date) -> DueLine:
    """Return until when somebody can wear anything: the set-up that lasts longest decides."""
    good = [one for one in judged.rows if one.may]
    best = max(good, key=lambda one: one.until, default=None)
    nearest, reasons = (best, ()) if best is not None else nearest_of(judged)
    return DueLine(
        person_id=person.id,
        name=person.name,
        number=person.number,
        task=person.task,
        contact=person.contact,
        set_up=f"{nearest.model} {nearest.size}" if nearest is not None else "",
        until=best.until if best is not None else "",
        ends_by=ENDS.get(best.ends_by, "") if best is not None else "",
        days=(date.fromisoformat(best.until) - today).days if best is not None else -1,
        is_only=len(good) == 1,
        reasons=reasons,
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
    out.add("x-wr-calname", f"Fit tests due, {one_line(site.name)}")
    due = _due(db, clock, site, 0, whole=True)
    for one in due_lines(db, due):
        event = Event()
        event.add("uid", f"{one.person_id}@moorfog")
        event.add("dtstamp", row.made_at)
        day = date.fromisoformat(one.until) if one.until else due.today
        event.add("dtstart", day)
        event.add("dtend", day + timedelta(days=1))
        ends = f"{one.ends_by} ends" if one.until else "may wear nothing now"
        event.add("summary", one_line(f"{initials(one.name)} {one.number}: {ends}"))
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
