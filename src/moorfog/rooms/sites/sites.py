"""What a site decides: its rule book, what it lays over it, and its tasks."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar, Literal
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.events.facts import STRICT
from moorfog.core.kernel.days import day_in
from moorfog.core.rules.book import Book, Value
from moorfog.core.rules.in_force import SiteBooks
from moorfog.core.rules.overlay import Overlay, check
from moorfog.data import shipped_books, shipped_protocols, value_shapes
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock, DatabaseClock
from moorfog.platform.db.scope import Scope, within
from moorfog.platform.log.deeds import Note, changed, note
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import DomainError, NotFound
from moorfog.platform.web.fields import Label, Line, Why, day_of
from moorfog.rooms.sites.tables import Employer, Site, SiteRule


@dataclass(frozen=True)
class ValueView:
    """A value of a rule book as a site uses it, with where it comes from and what the site did to it; ``choices``: the
    words it may be, the strictest first, where it is one of a list."""

    key: str
    value: str
    kind: Literal["yes_no", "list", "text"]
    unit: str
    source: str
    standing: str
    strict: str
    in_force: str
    note: str
    changed: str
    checked: str
    choices: tuple[str, ...]


@dataclass(frozen=True)
class BlankView:
    """A value the book does not state; tests that need it are not permitted until the site enters it."""

    key: str
    unit: str
    why: str


@dataclass(frozen=True)
class ProtocolView:
    """A protocol, and whether this book allows it here; ``waits`` for the site to confirm it."""

    id: str
    title: str
    source: str
    standing: str
    state: str
    waits: bool


@dataclass(frozen=True)
class BookName:
    """A rule book that is shipped."""

    id: str
    title: str


@dataclass(frozen=True)
class BookView:
    """A rule book as a site uses it; ``unsettled``: values for which the site has an entry that cannot be read."""

    site_id: str
    site: str
    id: str
    title: str
    edition: str
    country: str
    is_in_use: bool
    values: tuple[ValueView, ...]
    blanks: tuple[BlankView, ...]
    protocols: tuple[ProtocolView, ...]
    books: tuple[BookName, ...]
    unsettled: tuple[str, ...]


@dataclass(frozen=True)
class RuleEntry:
    """A site's entry: ``value`` as text, yes/no or a list; null only checks the shipped one against the site's copy."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    book: Label
    key: Label
    value: str | int | bool | tuple[str, ...] | None
    reason: Why
    edition: Line
    begins: str = ""
    """From which day on it counts, YYYY-MM-DD; empty: at once."""


def find_site(db: Session, scope: Scope, site_id: str) -> Site:
    """Return a site within the scope. Raises :class:`NotFound`."""
    site = db.get(Site, site_id)
    if site is None or not scope.allows(site.employer_id):
        raise NotFound("site")
    return site


def _overlays(db: Session, site: Site, book: str) -> list[Overlay]:
    zone = ZoneInfo(site.zone)
    rows = db.scalars(
        select(SiteRule)
        .where(SiteRule.site_id == site.id, SiteRule.book == book)
        .order_by(SiteRule.entered_at, SiteRule.id)
    )
    return [
        Overlay(
            key=row.key,
            value=tuple(row.value) if isinstance(row.value, list) else row.value,
            reason=row.reason,
            edition=row.edition,
            on=row.entered_at.astimezone(zone).date().isoformat(),
            by=row.by_name,
            begins=row.begins_on.isoformat() if row.begins_on is not None else "",
        )
        for row in rows
    ]


def site_books(db: Session, site: Site, book_id: str = "", protocols: tuple[str, ...] = ()) -> SiteBooks:
    """Return a book as a site uses it, by the day; an empty ``book_id`` is the one in use. ``protocols``: those the
    site added. Raises :class:`NotFound` for a book that is not shipped."""
    book = shipped_books().get(book_id or site.rule_book)
    if book is None:
        raise NotFound("rule book")
    return SiteBooks(book, tuple(_overlays(db, site, book.id)), value_shapes(), protocols)


def site_book(db: Session, site: Site, book_id: str, day: str = "") -> Book:
    """Return a book as a site uses it on a day (empty: today there). Raises :class:`NotFound` for a book that is not
    shipped."""
    return site_books(db, site, book_id).on(day or today_at(db, site))


def today_at(db: Session, site: Site) -> str:
    """Return the date at a site by the database's clock, YYYY-MM-DD."""
    return day_in(site.zone, DatabaseClock().now(db)).isoformat()


def _value(key: str, one: Value) -> ValueView:
    words = (
        ", ".join(one.value)
        if isinstance(one.value, tuple)
        else {True: "yes", False: "no"}.get(one.value, str(one.value))
        if isinstance(one.value, bool)
        else str(one.value)
    )
    return ValueView(
        key=key,
        value=words,
        kind="yes_no" if isinstance(one.value, bool) else "list" if isinstance(one.value, tuple) else "text",
        unit=one.unit,
        source=one.source,
        standing=one.standing,
        strict=one.strict,
        in_force=one.in_force,
        note=one.note,
        changed=one.changed,
        checked=one.checked,
        choices=value_shapes().words(key),
    )


def _blanks(book: Book) -> tuple[BlankView, ...]:
    """Return what a site must enter or confirm from its own copy: blanks, and what is remembered too vaguely."""
    vague = (
        BlankView(key, one.unit, f"shipped switched off, remembered vaguely as {one.value} ({one.source})")
        for key, one in sorted(book.values.items())
        if not one.is_on
    )
    return (*(BlankView(one.key, one.unit, one.why) for one in book.blank), *vague)


def view_book(db: Session, actor: Actor, site_id: str, book_id: str) -> BookView:
    """Return a rule book as a site uses it, its blanks and protocols. An empty ``book_id`` is the one in use."""
    site = find_site(db, actor.require(*READERS), site_id)
    book = site_book(db, site, book_id or site.rule_book)
    protocols = []
    for one in shipped_protocols(book.country):
        state = (
            "allowed"
            if one.id in book.protocols
            else "off until the site confirms it"
            if one.id in book.protocols_on_confirmation
            else "not in this book"
        )
        protocols.append(
            ProtocolView(
                id=one.id,
                title=one.title,
                source=one.source,
                standing=one.standing,
                state=state,
                waits=one.id in book.protocols_on_confirmation and one.id not in book.protocols,
            )
        )
    return BookView(
        site_id=site.id,
        site=site.name,
        id=book.id,
        title=book.title,
        edition=book.edition,
        country=book.country,
        is_in_use=book.id == site.rule_book,
        values=tuple(_value(key, one) for key, one in sorted(book.values.items()) if one.is_on),
        blanks=_blanks(book),
        protocols=tuple(protocols),
        books=tuple(BookName(one.id, one.title) for one in shipped_books().values()),
        unsettled=book.unsettled,
    )


def choose_book(db: Session, actor: Actor, site_id: str, book_id: str) -> None:
    """Choose the rule book of a site. Visits that are open keep theirs. Raises :class:`NotFound`."""
    site = find_site(db, actor.require("administrator"), site_id)
    if book_id not in shipped_books():
        raise NotFound("rule book")
    note(db, Note("site", site.id, site.employer_id, changed({"rule book": site.rule_book}, {"rule book": book_id})))
    site.rule_book = book_id


def enter_rule(db: Session, clock: Clock, actor: Actor, site_id: str, one: RuleEntry) -> None:
    """Lay a value over a site's rule book, fill a blank, or note that a value was checked.

    Raises :class:`DomainError` with what is wrong: unknown key, wrong type, a looser value without its reason.
    """
    site = find_site(db, actor.require("administrator"), site_id)
    book = shipped_books().get(one.book)
    if book is None:
        raise NotFound("rule book")
    if one.value is None and not one.edition.strip():
        raise DomainError("edition_missing", "Say which edition of your copy you checked it against.")
    begins = day_of(one.begins, "begins") if one.begins else None
    said = Overlay(key=one.key, value=one.value, reason=one.reason, edition=one.edition, on="", by=actor.name)
    problem = check(book, said, value_shapes())
    if problem is not None:
        raise DomainError(problem.code, problem.sentence)
    db.add(
        SiteRule(
            id=new_id(),
            site_id=site.id,
            book=one.book,
            key=one.key,
            value=list(one.value) if isinstance(one.value, tuple) else one.value,
            reason=one.reason.strip(),
            edition=one.edition.strip(),
            by_name=actor.name,
            entered_at=clock.now(db),
            begins_on=begins,
        )
    )
    db.flush()
    words = one.value if one.value is not None else f"checked against {one.edition.strip()}"
    note(
        db,
        Note(
            kind="site", id=site.id, employer=site.employer_id, changes={one.key: ["", words]}, why=one.reason.strip()
        ),
    )


@dataclass(frozen=True)
class SiteView:
    """A site with its benches."""

    id: str
    name: str
    employer_id: str
    employer: str
    zone: str
    benches: tuple[str, ...]
    rule_book: str


def list_sites(db: Session, actor: Actor) -> tuple[SiteView, ...]:
    """Return all sites within the actor's scope, to choose one from."""
    scope = actor.require(*READERS)
    rows = db.execute(
        within(select(Site, Employer.name).join(Employer, Employer.id == Site.employer_id), scope, Site.employer_id)
        .where(Site.archived_at.is_(None), Employer.archived_at.is_(None))
        .order_by(Employer.name, Site.name)
    )
    return tuple(
        SiteView(
            id=site.id,
            name=site.name,
            employer_id=site.employer_id,
            employer=employer,
            zone=site.zone,
            benches=tuple(site.benches),
            rule_book=site.rule_book,
        )
        for site, employer in rows
    )
