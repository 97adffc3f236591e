"""Finding people: by words of their names and numbers, page by page."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import Any

from sqlalchemy import Integer, Select, bindparam, func, select
from sqlalchemy.orm import Session

from moorfog.platform.db.clock import Clock
from moorfog.platform.log.summaries import WearPermission
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.paging import COUNTED, PAGE, turn_to
from moorfog.rooms.people.on_file import clearances_on
from moorfog.rooms.people.people import everybody, matching, search_words
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.tables import Employer, Site

SORTED = 1000
"""So many people whom a search finds are put in order; of more, those come first whose words do."""


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
class FoundPerson(PersonRow):
    """A wearer in a list that is chosen from: what they passed in last and until when (YYYY-MM-DD), both empty where
    they never did, and the clearance on file: its status, or "ran out", or "none on file"; and the day they left."""

    passed_in: str
    until: str
    clearance: str
    left_on: str


@dataclass(frozen=True)
class PeoplePage:
    """One page of people."""

    rows: tuple[FoundPerson, ...]
    total: int
    page: int
    pages: int


def person_row(person: Person, employer: str, site: str) -> PersonRow:
    return PersonRow(
        id=person.id,
        name=person.name,
        number=person.number,
        job=person.job,
        task=person.task,
        employer=employer,
        site=site,
        site_id=person.site_id,
    )


@cache
def _people_query(words: int, is_limited: bool) -> tuple[Select[Any], Select[Any]]:
    """Return the query of a page of people, and that of how many there are, built once for a number of words."""
    columns: Any = select(
        Person.id,
        Person.name,
        Person.number,
        Person.job,
        Person.task,
        Employer.name.label("employer"),
        Site.name.label("site"),
        Person.site_id,
        Person.left_on,
    ).prefix_with("STRAIGHT_JOIN")  # from those who are meant to where they are; the other way round all are read
    found = matching(words, is_limited)
    if words:
        few = found.limit(SORTED).subquery()
        query = columns.select_from(few).join(Person, Person.id == few.c.person_id)
    else:
        hint = f"FORCE INDEX ({'ix_person_name' if is_limited else 'ix_person_all'})"
        query = columns.select_from(Person).where(*everybody(is_limited)).with_hint(Person, hint)
        found = found.with_hint(Person, hint).order_by(Person.name)  # so that no more are read than are counted
    query = query.join(Employer, Employer.id == Person.employer_id).join(Site, Site.id == Person.site_id)
    page = query.order_by(Person.name, Person.id).limit(PAGE + 1).offset(bindparam("skip", type_=Integer))
    return page, select(func.count()).select_from(found.limit(COUNTED + 1).subquery())


def find_people(db: Session, clock: Clock, actor: Actor, q: str, page: int) -> PeoplePage:
    """Return people each word of ``q`` begins a name word or the number of, by name; accents do not matter."""
    scope = actor.require(*READERS)
    words, given = search_words(scope, q)
    query, count = _people_query(words, scope.employers is not None)
    shown = turn_to(
        page,
        lambda skip: db.execute(query, {**given, "skip": skip}).all(),
        lambda: db.scalar(count, given) or 0,
    )
    ids = [row.id for row in shown.rows]
    passed, cleared = _passed_in(db, ids), _clearances(db, ids, clock.now(db).date().isoformat())
    rows = []
    for row in shown.rows:
        model, until = passed.get(row.id, ("", ""))
        clearance = cleared.get(row.id, "none on file")
        found = {**row._mapping, "left_on": row.left_on.isoformat() if row.left_on else ""}
        rows.append(FoundPerson(**found, passed_in=model, until=until, clearance=clearance))
    return PeoplePage(tuple(rows), shown.total, shown.page, shown.pages)


def _passed_in(db: Session, ids: list[str]) -> dict[str, tuple[str, str]]:
    """Return what each of these people passed in last, with its size, and until when."""
    found = db.execute(select(Person.id, Person.merged_into).where(Person.merged_into.in_(ids)))
    merged = {one: into for one, into in found if into is not None}
    rows = db.execute(
        select(WearPermission.person_id, WearPermission.model, WearPermission.size, WearPermission.valid_until)
        .where(WearPermission.person_id.in_([*ids, *merged]))
        .order_by(WearPermission.tested_at)
    )
    return {
        merged.get(row.person_id, row.person_id): (f"{row.model} {row.size}", row.valid_until.isoformat())
        for row in rows
    }


def _clearances(db: Session, ids: list[str], day: str) -> dict[str, str]:
    """Return how the clearance of each of these people stands on a day."""
    out: dict[str, str] = {}
    for person_id, one in clearances_on(db, ids, day).items():
        is_over = one.status == "cleared" and bool(one.valid_until) and one.valid_until < day
        out[person_id] = "ran out" if is_over else one.status
    return out
