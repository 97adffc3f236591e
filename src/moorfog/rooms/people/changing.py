"""What becomes of a person's entry: corrected, moved, left, back again, and two entries of one person made one."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar

from rapidfuzz.fuzz import token_sort_ratio
from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from moorfog.core.events.facts import STRICT
from moorfog.core.kernel.days import day_in
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.deeds import Note, changed, note
from moorfog.platform.log.same import forget_same
from moorfog.platform.log.summaries import VisitSummary
from moorfog.platform.text import fold_word, words_of
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.errors import Conflict, DomainError, NotFound
from moorfog.platform.web.fields import Id, Line, Number, day_of
from moorfog.rooms.people.holding import hold_person, hold_whole
from moorfog.rooms.people.people import find_person, index_people
from moorfog.rooms.people.tables import Person, PersonWord
from moorfog.rooms.sites.sites import find_site
from moorfog.rooms.sites.tables import Site
from moorfog.rooms.sites.tasks import chosen_task, task_ids

ALIKE = 88
"""From how many hundredths two names are alike enough to be asked about: common practice, a hint and no more."""
MOST_TWINS = 5


@dataclass(frozen=True)
class PersonChange:
    """A person's entry as it is to be."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    site_id: Id
    name: Line
    number: Number
    job: Line
    task: Line
    contact: Line


@dataclass(frozen=True)
class Twin:
    """Another entry that may be the same person."""

    id: str
    name: str
    number: str
    site: str
    job: str
    left_on: str


def change_person(db: Session, actor: Actor, person_id: str, one: PersonChange) -> None:
    """Correct or move a person's entry. Raises :class:`Conflict` where the number is taken, :class:`DomainError`."""
    scope = actor.require("administrator", "tester")
    person, site = hold_person(db, scope, person_id), find_site(db, scope, one.site_id)
    if site.employer_id != person.employer_id:
        raise DomainError(
            "other_employer",
            "That site is another employer's. Enter them there as somebody new: what one employer has on file about "
            "a person does not go to another.",
        )
    after = {
        "name": " ".join(one.name.split()),
        "number": one.number.strip(),
        "site_id": site.id,
        "job": one.job.strip(),
        "task": one.task.strip(),
        "task_id": _task_id(db, person, site, one.task.strip()),
        "contact": one.contact.strip(),
    }
    if not after["name"] or not after["number"]:
        raise DomainError("name_missing", "A person needs a name and the employer's own number.")
    taken = select(Person.name).where(
        Person.employer_id == person.employer_id, Person.number == after["number"], Person.id != person.id
    )
    if (owner := db.scalar(taken)) is not None:
        raise Conflict("number_taken", f"Number {after['number']} belongs to {owner}. Use the number on the roster.")
    before = {key: getattr(person, key) for key in after}
    for key, value in after.items():
        setattr(person, key, value)
    db.flush()
    db.execute(delete(PersonWord).where(PersonWord.person_id == person.id))
    index_people(db, [(person.id, person.employer_id, person.name, person.number)])
    note(db, Note("person", person.id, person.employer_id, changed(before, after)))


def _task_id(db: Session, person: Person, site: Site, task: str) -> str | None:
    """Return the task chosen; one that was written before there was a list stays, and is none, until one is chosen."""
    if person.site_id == site.id and person.task == task and person.task_id is None:
        return task_ids(db, site).get(task)
    return chosen_task(db, site, task)


def leave(db: Session, clock: Clock, actor: Actor, person_id: str, day: str) -> None:
    """Note that a person has left on a day. Raises :class:`DomainError` while they are at a bench."""
    person = hold_person(db, actor.require("administrator", "tester"), person_id, kept=False)
    open_one = select(VisitSummary.visit_id).where(VisitSummary.person_id == person.id, VisitSummary.closed == "")
    if db.scalar(open_one.limit(1)) is not None:
        raise DomainError("somebody_here", f"{person.name} is at a bench. Close the visit first.")
    left = day_of(day, "left on")
    site = db.get(Site, person.site_id)
    today = day_in(site.zone if site is not None else "UTC", clock.now(db))
    if left > today:
        raise DomainError("in_the_future", f"{left} has not come yet. Enter it when they have left.")
    note(db, Note("person", person.id, person.employer_id, changed({"left_on": person.left_on}, {"left_on": left})))
    person.left_on = left


def come_back(db: Session, actor: Actor, person_id: str) -> None:
    """Note that a person is here again; what they passed is asked anew as for everybody."""
    person = hold_person(db, actor.require("administrator", "tester"), person_id)
    note(db, Note("person", person.id, person.employer_id, changed({"left_on": person.left_on}, {"left_on": None})))
    person.left_on = None


def twins_of(db: Session, actor: Actor, person_id: str) -> tuple[Twin, ...]:
    """Return other entries of the same employer that may be the same person: names alike, whatever case or accents."""
    person = find_person(db, actor.require("administrator"), person_id)
    words = [one for one in words_of(person.name, "") if len(one) > 1]
    likely = (
        select(Person, Site.name)
        .join(PersonWord, PersonWord.person_id == Person.id)
        .join(Site, Site.id == Person.site_id)
        .where(
            PersonWord.employer_id == person.employer_id,
            PersonWord.word.in_(words),
            Person.id != person.id,
            Person.merged_into.is_(None),
        )
        .distinct()
        .limit(500)
    )
    mine = fold_word(person.name)
    scored = sorted(
        ((token_sort_ratio(mine, fold_word(one.name)), one, site) for one, site in db.execute(likely)),
        key=lambda each: (-each[0], each[1].name),
    )
    return tuple(
        Twin(
            id=one.id,
            name=one.name,
            number=one.number,
            site=site,
            job=one.job,
            left_on=one.left_on.isoformat() if one.left_on else "",
        )
        for score, one, site in scored[:MOST_TWINS]
        if score >= ALIKE
    )


def merge(db: Session, actor: Actor, person_id: str, other_id: str, why: str) -> None:
    """Make two entries of one person one: ``other_id`` becomes another entry of ``person_id``; no log is touched.

    Both histories are that person's from now on: a fail in either ends the passes of both. Raises
    :class:`DomainError` for people of two employers, for a visit that is not over, and without a reason.
    """
    scope = actor.require("administrator")
    person, other = hold_whole(db, scope, person_id, other_id)
    if person.id == other.id or person.merged_into is not None or other.merged_into is not None:
        raise DomainError("merged_already", "Choose two entries that stand on their own.")
    if person.employer_id != other.employer_id:
        raise NotFound("person")
    if not why.strip():
        raise DomainError("reason_missing", "Say how you know that they are one person.")
    here = select(VisitSummary.visit_id).where(
        VisitSummary.person_id.in_([person.id, other.id]), VisitSummary.closed == ""
    )
    if db.scalar(here.limit(1)) is not None:
        raise DomainError("somebody_here", "One of the two is at a bench. Close the visit first.")
    for one in db.scalars(select(Person).where(Person.merged_into == other.id)):
        one.merged_into = person.id
    other.merged_into = person.id
    forget_same(db)
    db.execute(delete(PersonWord).where(PersonWord.person_id == other.id))
    changes = {"merged": [f"{other.name} {other.number} ({other.id})", person.id]}
    note(db, Note(kind="person", id=person.id, employer=person.employer_id, changes=changes, why=why.strip()))
