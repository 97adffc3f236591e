"""Employers and their sites: entered, changed, archived when they are over; never deleted, as records name them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar
from zoneinfo import available_timezones

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from moorfog.core.events.facts import STRICT
from moorfog.data import shipped_books
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import within
from moorfog.platform.log.deeds import Note, changed, note
from moorfog.platform.log.summaries import VisitSummary
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.errors import Conflict, DomainError, Forbidden, NotFound
from moorfog.platform.web.fields import Label, Line
from moorfog.platform.web.paging import cut_to_page
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.sites import BookName, find_site
from moorfog.rooms.sites.tables import Employer, Site

MOST_BENCHES = 20


@dataclass(frozen=True)
class EmployerEntry:
    """An employer: its name."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    name: Line


@dataclass(frozen=True)
class SiteEntry:
    """A site: its name, its IANA time zone, its rule book and its benches."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    name: Line
    zone: Label
    rule_book: Label
    benches: tuple[Label, ...]


@dataclass(frozen=True)
class PlaceView:
    """A site of an employer as its administrator sees it."""

    id: str
    name: str
    zone: str
    rule_book: str
    benches: tuple[str, ...]
    is_archived: bool
    people: int


@dataclass(frozen=True)
class EmployerView:
    """An employer with its sites."""

    id: str
    name: str
    is_archived: bool
    sites: tuple[PlaceView, ...]


@dataclass(frozen=True)
class PlacesPage:
    """A page of employers with their sites, and the rule books there are; ``may_add`` employers."""

    rows: tuple[EmployerView, ...]
    total: int
    page: int
    pages: int
    books: tuple[BookName, ...]
    may_add: bool


def list_places(db: Session, actor: Actor, page: int) -> PlacesPage:
    """Return the employers of the administrator, those in use first, with their sites."""
    scope = actor.require("administrator")
    query = within(select(Employer), scope, Employer.id)
    cut = cut_to_page(db, query, page, Employer.archived_at.is_not(None), Employer.name, Employer.id)
    ids = [row[0].id for row in cut.rows]
    sites = db.scalars(select(Site).where(Site.employer_id.in_(ids)).order_by(Site.name)).all()
    counted = db.execute(
        select(Person.site_id, func.count().label("people"))
        .where(Person.site_id.in_([one.id for one in sites]), Person.left_on.is_(None))
        .group_by(Person.site_id)
    ).all()
    heads = {one.site_id: one.people for one in counted}
    views = tuple(
        EmployerView(
            id=one.id,
            name=one.name,
            is_archived=one.archived_at is not None,
            sites=tuple(_view(site, heads.get(site.id, 0)) for site in sites if site.employer_id == one.id),
        )
        for (one,) in cut.rows
    )
    books = tuple(BookName(one.id, one.title) for one in shipped_books().values())
    return PlacesPage(
        rows=views,
        total=cut.total,
        page=cut.page,
        pages=cut.pages,
        books=books,
        may_add=scope.employers is None,
    )


def _view(site: Site, people: int) -> PlaceView:
    return PlaceView(
        id=site.id,
        name=site.name,
        zone=site.zone,
        rule_book=site.rule_book,
        benches=tuple(site.benches),
        is_archived=site.archived_at is not None,
        people=people,
    )


def _name(text: str, what: str) -> str:
    name = " ".join(text.split())
    if not name:
        raise DomainError("name_missing", f"{what} needs a name.")
    return name


def _find(db: Session, actor: Actor, employer_id: str) -> Employer:
    scope = actor.require("administrator")
    employer = db.get(Employer, employer_id)
    if employer is None or not scope.allows(employer.id):
        raise NotFound("employer")
    return employer


def add_employer(db: Session, actor: Actor, one: EmployerEntry) -> str:
    """Enter an employer. Returns its id. Raises :class:`Conflict` for a name that is taken."""
    if actor.require("administrator").employers is not None:
        raise Forbidden("all_employers", "An employer is entered by an administrator of all employers.")
    name = _name(one.name, "An employer")
    _must_be_free(db, name, "")
    row = Employer(id=new_id(), name=name)
    db.add(row)
    db.flush()
    note(db, Note("employer", row.id, row.id, {"name": ["", name]}))
    return row.id


def _must_be_free(db: Session, name: str, own: str) -> None:
    if db.scalar(select(Employer.id).where(Employer.name == name, Employer.id != own)) is not None:
        raise Conflict("name_taken", f"{name} is entered already.")


def rename_employer(db: Session, actor: Actor, employer_id: str, one: EmployerEntry) -> None:
    """Give an employer another name; records of before keep the one they were made under."""
    employer, name = _find(db, actor, employer_id), _name(one.name, "An employer")
    _must_be_free(db, name, employer_id)
    note(db, Note("employer", employer.id, employer.id, changed({"name": employer.name}, {"name": name})))
    employer.name = name


def archive_employer(db: Session, clock: Clock, actor: Actor, employer_id: str, *, archived: bool) -> None:
    """Put an employer away, or take it out again. Raises :class:`DomainError` while somebody is at a bench there."""
    employer = _find(db, actor, employer_id)
    if archived:
        _nobody_at_the_bench(db, VisitSummary.employer_id == employer_id, employer.name)
    was = employer.archived_at is not None
    employer.archived_at = clock.now(db) if archived else None
    note(db, Note("employer", employer.id, employer.id, changed({"archived": was}, {"archived": archived})))


def _nobody_at_the_bench(db: Session, where: Any, name: str) -> None:
    if db.scalar(select(VisitSummary.visit_id).where(where, VisitSummary.closed == "").limit(1)) is not None:
        raise DomainError("somebody_here", f"A visit at {name} is not over. Close it at the bench first.")


def _checked(one: SiteEntry) -> dict[str, Any]:
    """Return what a site is to be, checked; every fault is named at once. Raises :class:`DomainError`."""
    name, benches = " ".join(one.name.split()), [" ".join(bench.split()) for bench in one.benches]
    problems = []
    if not name:
        problems.append("a site needs a name")
    if one.zone not in available_timezones():
        problems.append(f"{one.zone!r} is no time zone; write one such as Europe/London")
    if one.rule_book not in shipped_books():
        problems.append(f"{one.rule_book!r} is no rule book; there are {', '.join(shipped_books())}")
    if not [bench for bench in benches if bench]:
        problems.append("a site needs a bench, if only one called Bench")
    if len(set(benches)) != len(benches) or "" in benches:
        problems.append("each bench needs a name of its own")
    if len(benches) > MOST_BENCHES:
        problems.append(f"more than {MOST_BENCHES} benches")
    if problems:
        words = "; ".join(problems)
        raise DomainError("site_wrong", f"Not entered: {words}.", {"problems": problems})
    return {"name": name, "zone": one.zone, "rule_book": one.rule_book, "benches": benches}


def add_site(db: Session, actor: Actor, employer_id: str, one: SiteEntry) -> str:
    """Enter a site of an employer. Returns its id. Raises :class:`DomainError` with everything that is wrong."""
    employer, checked = _find(db, actor, employer_id), _checked(one)
    if db.scalar(select(Site.id).where(Site.employer_id == employer.id, Site.name == checked["name"])) is not None:
        raise Conflict("name_taken", f"{checked['name']} is entered already at {employer.name}.")
    row = Site(id=new_id(), employer_id=employer.id, **checked)
    db.add(row)
    db.flush()
    note(db, Note("site", row.id, employer.id, changed({}, checked)))
    return row.id


def change_site(db: Session, actor: Actor, site_id: str, one: SiteEntry) -> None:
    """Change a site. Visits that are open keep the rules they began with."""
    site, checked = find_site(db, actor.require("administrator"), site_id), _checked(one)
    same = select(Site.id).where(Site.employer_id == site.employer_id, Site.name == checked["name"], Site.id != site.id)
    if db.scalar(same) is not None:
        raise Conflict("name_taken", f"{checked['name']} is the name of another site there.")
    before = {key: getattr(site, key) for key in checked}
    for key, value in checked.items():
        setattr(site, key, value)
    note(db, Note("site", site.id, site.employer_id, changed(before, checked)))


def archive_site(db: Session, clock: Clock, actor: Actor, site_id: str, *, archived: bool) -> None:
    """Put a site away, or take it out again. Raises :class:`DomainError` while somebody is at a bench there."""
    site = find_site(db, actor.require("administrator"), site_id)
    if archived:
        _nobody_at_the_bench(db, VisitSummary.site_id == site_id, site.name)
    was = site.archived_at is not None
    site.archived_at = clock.now(db) if archived else None
    note(db, Note("site", site.id, site.employer_id, changed({"archived": was}, {"archived": archived})))
