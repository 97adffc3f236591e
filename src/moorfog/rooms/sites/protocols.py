"""Protocols that a site adds from a file: read strictly, tried out on the simulator, and pinned to its visits."""

from __future__ import annotations

from dataclasses import dataclass, replace

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import instant
from moorfog.core.kernel.codec import DataError, encode
from moorfog.core.rules.book import Book, Rules, pin
from moorfog.core.rules.former import present
from moorfog.core.rules.in_force import SiteBooks
from moorfog.core.rules.protocols import Protocol, read_protocol
from moorfog.core.simulation.dry_run import Trial, try_protocol
from moorfog.data import cited, facepiece_kinds, shipped_books, shipped_procedure, shipped_protocols
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.uploads import Unreadable, parse_apart
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import DomainError, NotFound
from moorfog.rooms.sites.sites import find_site, site_book, site_books
from moorfog.rooms.sites.tables import Site, SiteProtocol
from moorfog.rooms.sites.words import terms_of

MOST_TEXT = 200_000


@dataclass(frozen=True)
class ProtocolTrial:
    """A protocol file as it was understood, and what came of trying it out. ``is_stored``: visits may use it now."""

    id: str
    title: str
    method: str
    seconds: int
    n: int
    good: str
    bad: str
    problems: tuple[str, ...]
    is_stored: bool


@dataclass(frozen=True)
class SiteProtocolView:
    """A protocol that a site has added."""

    id: str
    title: str
    method: str
    source: str
    standing: str
    seconds: int
    by_name: str
    entered_at: str


def site_protocols(db: Session, site: Site) -> tuple[tuple[Protocol, SiteProtocol], ...]:
    """Return the protocols a site has added and not withdrawn, by id, with their rows."""
    rows = db.scalars(
        select(SiteProtocol).where(SiteProtocol.site_id == site.id).order_by(SiteProtocol.entered_at, SiteProtocol.id)
    )
    latest = {row.protocol_id: row for row in rows}
    kept = [row for _, row in sorted(latest.items()) if not row.is_withdrawn]
    return tuple((read_protocol(present(row.content), row.protocol_id), row) for row in kept)


def books_in_use(db: Session, site: Site) -> SiteBooks:
    """Return the book of a site by the day, with the protocols it added."""
    return site_books(db, site, protocols=tuple(one.id for one, _ in site_protocols(db, site)))


def protocols_in_use(db: Session, site: Site) -> tuple[Protocol, ...]:
    """Return every protocol a site may run: shipped ones, and those it added."""
    country = shipped_books()[site.rule_book].country
    return (*shipped_protocols(country), *(one for one, _ in site_protocols(db, site)))


def rules_of_site(db: Session, site: Site, day: str = "") -> Rules:
    """Return the rules a visit at this site is pinned to when it opens on a day (empty: today there): its book as it
    is in force then, and what it added to it."""
    book, added = site_book(db, site, site.rule_book, day), site_protocols(db, site)
    names = tuple(one.id for one, _ in added)
    protocols = (*shipped_protocols(book.country), *(one for one, _ in added))
    procedure, own = shipped_procedure(book.country), terms_of(db, site.id)
    if own is not None and own.text:
        procedure = replace(procedure, terms=own.text)
    return pin(with_protocols(book, names), procedure, protocols)


def with_protocols(book: Book, names: tuple[str, ...]) -> Book:
    """Return a book that allows these protocols too, after its own."""
    return replace(book, protocols=(*book.protocols, *names)) if names else book


def read_text(text: str, country: str = "") -> Protocol:
    """Read a protocol from the text of a TOML file, with the sources that hold in a country.

    Raises :class:`DomainError` saying where and what is wrong.
    """
    if len(text) > MOST_TEXT:
        raise DomainError("too_long", f"{len(text)} characters; a protocol file has at most {MOST_TEXT}.")
    try:
        found = parse_apart("toml", text.encode("utf-8"))
    except Unreadable as error:
        raise DomainError(error.code, error.message) from error
    try:
        return read_protocol(present(cited(found, country)), "protocol")
    except DataError as error:
        raise DomainError("bad_protocol", f"{error.where}: {error.problem}.") from error


def _trial(protocol: Protocol, found: Trial, is_stored: bool) -> ProtocolTrial:
    return ProtocolTrial(
        id=protocol.id,
        title=protocol.title,
        method=protocol.method,
        seconds=found.seconds,
        n=found.n,
        good=found.good,
        bad=found.bad,
        problems=found.problems,
        is_stored=is_stored,
    )


def try_file(db: Session, actor: Actor, site_id: str, text: str) -> ProtocolTrial:
    """Read a protocol file and run it on the simulator; nothing is stored."""
    site = find_site(db, actor.require("administrator"), site_id)
    book = site_book(db, site, site.rule_book)
    protocol = read_text(text, book.country)
    found = try_protocol(protocol, book, facepiece_kinds())
    if any(one.id == protocol.id for one in shipped_protocols()):
        problem = f"{protocol.id!r} is the id of a shipped protocol; give it one of your own"
        found = Trial(
            seconds=found.seconds, n=found.n, good=found.good, bad=found.bad, problems=(*found.problems, problem)
        )
    return _trial(protocol, found, is_stored=False)


def add_file(db: Session, clock: Clock, actor: Actor, site_id: str, text: str) -> ProtocolTrial:
    """Add a protocol to a site, if nothing is wrong with it; visits opened from now on may use it.

    One of the same id takes the place of the former, which stays with the visits that were pinned to it.
    """
    tried = try_file(db, actor, site_id, text)
    if tried.problems:
        raise DomainError("bad_protocol", f"Not added: {tried.problems[0]}.", {"problems": list(tried.problems)})
    site = find_site(db, actor.require("administrator"), site_id)
    protocol = read_text(text, site_book(db, site, site.rule_book).country)
    row = SiteProtocol(
        id=new_id(),
        site_id=site_id,
        protocol_id=protocol.id,
        content=encode(protocol),
        is_withdrawn=False,
        by_name=actor.name,
        entered_at=clock.now(db),
    )
    db.add(row)
    db.flush()
    return replace(tried, is_stored=True)


def withdraw(db: Session, clock: Clock, actor: Actor, site_id: str, protocol_id: str) -> None:
    """Withdraw a protocol a site has added; visits opened before keep it. Raises :class:`NotFound`."""
    site = find_site(db, actor.require("administrator"), site_id)
    found = next((row for one, row in site_protocols(db, site) if one.id == protocol_id), None)
    if found is None:
        raise NotFound("protocol")
    db.add(
        SiteProtocol(
            id=new_id(),
            site_id=site_id,
            protocol_id=protocol_id,
            content=found.content,
            is_withdrawn=True,
            by_name=actor.name,
            entered_at=clock.now(db),
        )
    )
    db.flush()


def list_protocols(db: Session, actor: Actor, site_id: str) -> tuple[SiteProtocolView, ...]:
    """Return the protocols a site has added."""
    site = find_site(db, actor.require(*READERS), site_id)
    return tuple(
        SiteProtocolView(
            id=one.id,
            title=one.title,
            method=one.method,
            source=one.source,
            standing=one.standing,
            seconds=one.total_s,
            by_name=row.by_name,
            entered_at=instant(row.entered_at),
        )
        for one, row in site_protocols(db, site)
    )
