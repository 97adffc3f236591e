"""Tomorrow's crew: of each person yes, or no with every reason and who settles it; asked of the one permission."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Annotated, Any, ClassVar

from pydantic import Field
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from moorfog.core.events.facts import STRICT
from moorfog.core.events.payloads import Task
from moorfog.core.kernel.days import day_in
from moorfog.core.permission.way_out import WAYS, WayId, length
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import DomainError, NotFound
from moorfog.platform.web.fields import Id, Label, Line, MaybeId, day_of
from moorfog.rooms.crews.tables import Crew
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.sites import find_site
from moorfog.rooms.sites.tables import Site
from moorfog.rooms.sites.tasks import tasks_of
from moorfog.rooms.wear.permissions import (
    Permissions,
    WhyView,
    at_work,
    judge_people,
    lacking,
    nearest_of,
    set_up_words,
)

MOST = 300
"""People in one crew."""
Numbers = Annotated[str, Field(max_length=12_000)]


@dataclass(frozen=True)
class CrewAsked:
    """Which crew at which site: a saved one, pasted numbers, or everybody who does the task; on which day (empty:
    tomorrow at the site), at which task (empty: each at the one they do)."""

    site: Id
    day: Label = ""
    task: MaybeId = ""
    crew: MaybeId = ""
    numbers: Numbers = ""


@dataclass(frozen=True)
class SetUp:
    """A set-up somebody may wear, until when, and within which limits."""

    words: str
    until: str
    limits: tuple[str, ...]


@dataclass(frozen=True)
class CrewLine:
    """A person of a crew: what they may wear; where nothing, what is nearest to it and every reason against that."""

    person_id: str
    name: str
    number: str
    task: str
    may: bool
    set_ups: tuple[SetUp, ...]
    nearest: str
    reasons: tuple[WhyView, ...]
    short_of: tuple[WayId, ...]


@dataclass(frozen=True)
class Shortage:
    """What people of a crew are short of: in words, who gives it, and how many lack it."""

    id: WayId
    words: str
    settled_by: str
    people: int


@dataclass(frozen=True)
class CrewName:
    """A saved crew."""

    id: str
    name: str
    people: int


@dataclass(frozen=True)
class CrewView:
    """A crew on a day: who may not wear anything first, those with the shortest way out before the others."""

    site_id: str
    site: str
    day: str
    task_id: str
    task: str
    crew_id: str
    rows: tuple[CrewLine, ...]
    may: int
    may_not: int
    shortages: tuple[Shortage, ...]
    unknown: tuple[str, ...]
    """Numbers that nobody who works there has."""
    is_cut: bool
    """Whether there are more people than are shown."""
    crews: tuple[CrewName, ...]


@dataclass(frozen=True)
class CrewEntry:
    """A crew to be saved: its name, and the people in it by number."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    name: Line
    numbers: Numbers


def numbers_in(text: str) -> tuple[str, ...]:
    """Return the numbers in a pasted text, each once, in its order: parted by space, comma, semicolon or new line."""
    return tuple(dict.fromkeys(one for one in re.split(r"[\s,;]+", text) if one))


def crew_on(db: Session, clock: Clock, actor: Actor, asked: CrewAsked) -> CrewView:
    """Return who of a crew may wear what on a day.

    Raises :class:`NotFound` outside the scope, :class:`DomainError` for no date or too many people.
    """
    site, day, task = _meant(db, clock, actor, asked)
    people, unknown = _people(db, site, asked, task.name if task is not None else "")
    shown = people[:MOST]
    judged = judge_people(db, shown, day, at_work(db, task))
    lines = [_line(one, judged[one.id]) for one in shown]
    lines.sort(key=lambda one: (one.may, length(lacking(one.reasons)), len(one.reasons), one.name))
    return CrewView(
        site_id=site.id,
        site=site.name,
        day=day,
        task_id=asked.task,
        task=task.name if task is not None else "",
        crew_id=asked.crew,
        rows=tuple(lines),
        may=sum(one.may for one in lines),
        may_not=sum(not one.may for one in lines),
        shortages=_shortages(lines),
        unknown=unknown,
        is_cut=len(people) > MOST,
        crews=_crews(db, site),
    )


def _meant(db: Session, clock: Clock, actor: Actor, asked: CrewAsked) -> tuple[Site, str, Task | None]:
    """Return the site, the day and the task that are meant. Raises :class:`NotFound`, :class:`DomainError`."""
    site = find_site(db, actor.require(*READERS), asked.site)
    tomorrow = day_in(site.zone, clock.now(db)) + timedelta(days=1)
    day = day_of(asked.day, "day").isoformat() if asked.day else tomorrow.isoformat()
    task = next((one for one in tasks_of(db, site) if one.id == asked.task), None) if asked.task else None
    if asked.task and task is None:
        raise NotFound("task")
    return site, day, task


def people_meant(
    db: Session, clock: Clock, actor: Actor, asked: CrewAsked
) -> tuple[Site, str, Task | None, list[Person]]:
    """Return the people of a crew by name, with the site, the day and the task that are meant; as :func:`crew_on`."""
    site, day, task = _meant(db, clock, actor, asked)
    people, _ = _people(db, site, asked, task.name if task is not None else "")
    return site, day, task, people[:MOST]


def _people(db: Session, site: Site, asked: CrewAsked, task: str) -> tuple[list[Person], tuple[str, ...]]:
    """Return the people meant, and the numbers that nobody has; those who left are in no crew."""
    here = (Person.merged_into.is_(None), Person.left_on.is_(None), Person.erased_at.is_(None))
    wanted = numbers_in(asked.numbers)
    if asked.crew:
        crew = db.get(Crew, asked.crew)
        if crew is None or crew.site_id != site.id:
            raise NotFound("crew")
        listed = select(func.coalesce(Person.merged_into, Person.id)).where(Person.id.in_(crew.people))
        entered = db.scalars(select(Person).where(Person.id.in_(listed)).order_by(Person.name)).all()
        gone = tuple(one.number for one in entered if one.left_on is not None)
        return [one for one in entered if one.left_on is None and one.erased_at is None], gone
    if wanted:
        if len(wanted) > MOST:
            raise DomainError("too_many", f"{len(wanted)} numbers; a crew has {MOST} at most. Ask in two parts.")
        mine = select(Person).where(Person.employer_id == site.employer_id, Person.number.in_(wanted), *here)
        people = list(db.scalars(mine.order_by(Person.name)))
        known = {one.number.casefold() for one in people}
        return people, tuple(one for one in wanted if one.casefold() not in known)
    at = select(Person).where(Person.site_id == site.id, *here, *((Person.task == task,) if task else ()))
    return list(db.scalars(at.order_by(Person.name).limit(MOST + 1))), ()


def _line(person: Person, judged: Permissions) -> CrewLine:
    rows = judged.rows
    good = [one for one in rows if one.may]
    nearest, reasons = (None, ()) if good else nearest_of(judged)
    return CrewLine(
        person_id=person.id,
        name=person.name,
        number=person.number,
        task=judged.task,
        may=bool(good),
        set_ups=tuple(SetUp(set_up_words(one), one.until, one.limits) for one in good),
        nearest="" if nearest is None else set_up_words(nearest),
        reasons=reasons,
        short_of=tuple(one.id for one in lacking(reasons)),
    )


def _shortages(lines: Sequence[CrewLine]) -> tuple[Shortage, ...]:
    counted = ((way, sum(way.id in one.short_of for one in lines)) for way in WAYS)
    return tuple(Shortage(way.id, way.words, way.by, people) for way, people in counted if people)


def _crews(db: Session, site: Site) -> tuple[CrewName, ...]:
    rows = db.scalars(select(Crew).where(Crew.site_id == site.id).order_by(Crew.name).limit(100))
    return tuple(CrewName(one.id, one.name, len(one.people)) for one in rows)


def save_crew(db: Session, actor: Actor, site_id: str, one: CrewEntry) -> str:
    """Save a crew under a name; one of that name is changed. Returns its id.

    Raises :class:`DomainError` naming every number that nobody has.
    """
    site = find_site(db, actor.require(*READERS), site_id)
    name = " ".join(one.name.split())
    if not name:
        raise DomainError("name_missing", "A crew needs a name, such as Blasting, early shift.")
    people, unknown = _people(db, site, CrewAsked(site=site.id, numbers=one.numbers or "?"), "")
    if unknown or not people:
        raise DomainError(
            "unknown_numbers", f"Nobody here has the number {', '.join(unknown)}. Mend it and save again."
        )
    row = db.scalar(select(Crew).where(Crew.site_id == site.id, Crew.name == name))
    before = len(row.people) if row is not None else 0
    if row is None:
        row = Crew(id=new_id(), site_id=site.id, name=name, people=[])
        db.add(row)
    row.people = [person.id for person in people]
    db.flush()
    note(db, Note("crew", row.id, site.employer_id, {name: [f"{before} people", f"{len(people)} people"]}))
    return row.id


def drop_crew(db: Session, actor: Actor, crew_id: str) -> None:
    """Forget a saved crew; the people stay."""
    crew = db.get(Crew, crew_id)
    site = db.get(Site, crew.site_id) if crew is not None else None
    if crew is None or site is None or not actor.require(*READERS).allows(site.employer_id):
        raise NotFound("crew")
    note(db, Note("crew", crew.id, site.employer_id, {crew.name: [f"{len(crew.people)} people", "forgotten"]}))
    db.delete(crew)
