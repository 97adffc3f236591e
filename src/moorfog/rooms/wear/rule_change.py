"""A change of a site's rules is asked about first: whom would it stop, of those who may wear something today."""

from __future__ import annotations

from dataclasses import dataclass, replace

from sqlalchemy import func, or_, select, true
from sqlalchemy.orm import Session

from moorfog.core.rules.in_force import Books, SiteBooks
from moorfog.core.rules.overlay import Overlay, check
from moorfog.data import shipped_books, value_shapes
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.summaries import Standing
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.errors import Conflict
from moorfog.platform.web.fields import day_of
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.protocols import books_in_use
from moorfog.rooms.sites.sites import RuleEntry, choose_book, enter_rule, find_site, site_books, today_at
from moorfog.rooms.sites.tables import Site
from moorfog.rooms.wear.permissions import answers_for, at_work

MOST, NAMED, AT_ONCE = 500, 12, 100
"""People that are asked about while somebody waits, and named; so many in one go."""


@dataclass(frozen=True)
class Stopped:
    """Whom a change would stop: how many of those asked about, some of them by name, and how many there are in all."""

    stops: int
    names: tuple[str, ...]
    asked: int
    people: int

    @property
    def words(self) -> str:
        """Return it as it is said before anything is changed."""
        more = f" and {self.stops - len(self.names)} more" if self.stops > len(self.names) else ""
        whole = "" if self.asked == self.people else f" Only {self.asked} of {self.people} people were asked about."
        verb = "person who may wear something now may" if self.stops == 1 else "people who may wear something now may"
        return f"{self.stops} {verb} not any more by this: {', '.join(self.names)}{more}.{whole}"


def enter_rule_asked(
    db: Session, clock: Clock, actor: Actor, site_id: str, one: RuleEntry, confirmed: int | None
) -> None:
    """Lay a value over a site's rule book once whoever enters it has been told whom that stops and has said so.

    ``confirmed``: how many were shown. Raises :class:`Conflict` (``would_stop``) naming them where it is another
    number, and as :func:`enter_rule` does.
    """
    site = find_site(db, actor.require("administrator"), site_id)
    book = shipped_books().get(one.book)
    begins = day_of(one.begins, "begins").isoformat() if one.begins else today_at(db, site)
    entry = Overlay(
        key=one.key,
        value=one.value,
        reason=one.reason,
        edition=one.edition,
        on=begins,
        by=actor.name,
        begins=one.begins,
    )
    if book is not None and one.book == site.rule_book and check(book, entry, value_shapes()) is None:
        now = books_in_use(db, site)
        then = replace(now, overlays=(*now.overlays, entry))
        _must_be_confirmed(whom_it_stops(db, site, now, then, begins), confirmed)
    enter_rule(db, clock, actor, site_id, one)


def choose_book_asked(db: Session, actor: Actor, site_id: str, book_id: str, confirmed: int | None) -> None:
    """Choose the rule book of a site, as :func:`enter_rule_asked` enters a value."""
    site = find_site(db, actor.require("administrator"), site_id)
    if book_id in shipped_books() and book_id != site.rule_book:
        now = books_in_use(db, site)
        then: SiteBooks = site_books(db, site, book_id, now.protocols)
        _must_be_confirmed(whom_it_stops(db, site, now, then, today_at(db, site)), confirmed)
    choose_book(db, actor, site_id, book_id)


def _must_be_confirmed(found: Stopped, confirmed: int | None) -> None:
    if found.stops and found.stops != confirmed:
        said = {"stops": found.stops, "names": list(found.names), "people": found.people}
        raise Conflict("would_stop", f"{found.words} Enter it again to say that this is meant.", said)


def whom_it_stops(db: Session, site: Site, now: Books, then: Books, day: str) -> Stopped:
    """Return who at a site may wear something on a day by one set of rules and nothing by another."""
    here = select(Person).join(Standing, Standing.person_id == Person.id)
    passed = or_(Standing.has_passed == true(), Standing.is_stale == true())
    here = here.where(Standing.site_id == site.id, Standing.is_here == true(), passed)
    total = db.scalar(select(func.count()).select_from(here.subquery())) or 0
    people = db.scalars(here.order_by(Standing.until.desc(), Person.id).limit(MOST)).all()
    names, work = list[str](), at_work(db)
    for first in range(0, len(people), AT_ONCE):
        some = people[first : first + AT_ONCE]
        before, after = (answers_for(db, some, day, work, {site.id: books}) for books in (now, then))
        for one in some:
            if any(each.may for each in before[one.id].found) and not any(each.may for each in after[one.id].found):
                names.append(one.name)
    return Stopped(len(names), tuple(names[:NAMED]), len(people), total)
