"""Finding people: by words of their names and numbers, page by page."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import Any

from sqlalchemy import Integer, Select, bindparam, func, select
from sqlalchemy.orm import Session

from moorfog.operations.accounts.sessions import READERS, Actor
from moorfog.operations.paging import PAGE, turn_to
from moorfog.operations.people.people import matching, search_words
from moorfog.store.models import Employer, Person, Site


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
class PeoplePage:
    """One page of people."""

    rows: tuple[PersonRow, ...]
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
    found = matching(words, is_limited).subquery()
    columns: Any = select(
        Person.id,
        Person.name,
        Person.number,
        Person.job,
        Person.task,
        Employer.name.label("employer"),
        Site.name.label("site"),
        Person.site_id,
    )
    query = columns.select_from(found).join(Person, Person.id == found.c.person_id)
    if words:  # from the matches to the people; the other way round all people are read in the order of names
        query = query.prefix_with("STRAIGHT_JOIN")
    query = query.join(Employer, Employer.id == Person.employer_id).join(Site, Site.id == Person.site_id)
    page = query.order_by(Person.name, Person.id).limit(PAGE + 1).offset(bindparam("skip", type_=Integer))
    return page, select(func.count()).select_from(found)


def find_people(db: Session, actor: Actor, q: str, page: int) -> PeoplePage:
    """Return people each word of ``q`` begins a name word or the number of, by name; accents do not matter."""
    scope = actor.require(*READERS)
    words, given = search_words(scope, q)
    query, count = _people_query(words, scope.employers is not None)
    shown = turn_to(
        page,
        lambda skip: db.execute(query, {**given, "skip": skip}).all(),
        lambda: db.scalar(count, given) or 0,
    )
    return PeoplePage(tuple(PersonRow(*row) for row in shown.rows), shown.total, shown.page, shown.pages)
