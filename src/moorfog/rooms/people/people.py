"""People: finding them, entering them, and what is on file about them. Medical detail is never stored."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from fractions import Fraction
from functools import cache
from typing import Any, ClassVar, Literal

from sqlalchemy import ColumnElement, Select, and_, bindparam, insert, select, true
from sqlalchemy.orm import Session, aliased

from moorfog.core.advice.faces import change_words, measured, panel_cell
from moorfog.core.events.facts import STRICT
from moorfog.core.kernel.arithmetic import NotANumber, parse_decimal
from moorfog.core.kernel.days import day_in
from moorfog.core.rules.kinds import clearance_limits
from moorfog.data import face_rules, facepiece_kinds
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import Scope
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.log.same import same_person
from moorfog.platform.text import fold_word, words_of
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.errors import Conflict, DomainError, NotFound
from moorfog.platform.web.fields import Line, Number, day_of
from moorfog.rooms.people.holding import hold_person
from moorfog.rooms.people.tables import ClearanceRow, MeasurementRow, Person, PersonWord, TrainingRow
from moorfog.rooms.sites.sites import find_site
from moorfog.rooms.sites.tables import Site
from moorfog.rooms.sites.tasks import chosen_task

MEASURES = ("length", "width", "lip")


@dataclass(frozen=True)
class ClearanceEntry:
    """A clearance: status, limits from the known list, dates (an empty ``valid_until`` is not expired), by whom."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    status: Literal["cleared", "not cleared", "pending"]
    limits: tuple[str, ...]
    valid_from: str
    valid_until: str
    by_whom: Line


@dataclass(frozen=True)
class TrainingEntry:
    """A training that was given, on a day."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    trained_on: str
    what: Line


@dataclass(frozen=True)
class PersonEntry:
    """A person as entered: the number is the employer's own and is unique there. A clearance and a training seen with
    them are filed in the same act, all of it or nothing."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    site_id: str
    name: Line
    number: Number
    job: Line
    task: Line
    contact: Line
    clearance: ClearanceEntry | None = None
    training: TrainingEntry | None = None


@dataclass(frozen=True)
class MeasureEntry:
    """Caliper readings in mm as text, two or three of each measure; any may be left out."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    length: tuple[str, ...]
    width: tuple[str, ...]
    lip: tuple[str, ...]


@dataclass(frozen=True)
class MeasureResult:
    """What the readings come to, in mm, what is odd about them, and the panel cell: a hint, nothing more. Measures in
    ``third`` need another reading; until then nothing is stored."""

    length: str | None
    width: str | None
    lip: str | None
    cell: int | None
    questions: tuple[str, ...]
    third: tuple[str, ...]
    stored: bool


def find_person(db: Session, scope: Scope, person_id: str) -> Person:
    """Return a person within the scope. Raises :class:`NotFound`."""
    person = db.get(Person, person_id)
    if person is None or not scope.allows(person.employer_id):
        raise NotFound("person")
    return person


WORDS_USED = 4
"""Words of a search that count; more of them hardly narrow it."""


def search_words(scope: Scope, q: str) -> tuple[int, dict[str, Any]]:
    """Return how many words a search has, and the parameters of :func:`matching` for it."""
    words = fold_word(q).split()[:WORDS_USED]
    given: dict[str, Any] = {
        f"word{index}": word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"
        for index, word in enumerate(words)
    }
    if scope.employers is not None:
        given["employers"] = sorted(scope.employers)
    return len(words), given


def everybody(is_limited: bool) -> tuple[ColumnElement[bool], ...]:
    """Return the conditions of :func:`matching` without a word."""
    here = Person.employer_id.in_(bindparam("employers", expanding=True)) if is_limited else true()
    return here, Person.merged_into.is_(None), Person.erased_at.is_(None)


@cache
def matching(words: int, is_limited: bool) -> Select[Any]:
    """Return the query of the ids of people whose every word of a search begins a word of their name or their number.

    It begins at the index of words, so that its cost follows the matches and not the number of people; without a word
    it is everybody. ``is_limited`` keeps to the employers of the scope. Built once; the parameters come at execution.
    """

    def within(column: Any) -> ColumnElement[bool]:
        return column.in_(bindparam("employers", expanding=True)) if is_limited else true()

    if not words:
        return select(Person.id.label("person_id")).where(*everybody(is_limited))
    first = aliased(PersonWord, name="w0")
    begins = and_(within(first.employer_id), first.word.like(bindparam("word0")))
    query: Select[Any] = select(first.person_id.label("person_id")).where(begins).distinct()
    for index in range(1, words):
        other = aliased(PersonWord, name=f"w{index}")
        also = and_(within(other.employer_id), other.word.like(bindparam(f"word{index}")))
        query = query.join(other, other.person_id == first.person_id).where(also)
    return query


def index_people(db: Session, people: Iterable[tuple[str, str, str, str]]) -> None:
    """Store the words people are found by, given as (person id, employer id, name, number)."""
    rows = [
        {"employer_id": employer, "word": word, "person_id": person}
        for person, employer, name, number in people
        for word in words_of(name, number)
    ]
    if rows:
        db.execute(insert(PersonWord), rows)


def add_person(db: Session, clock: Clock, actor: Actor, one: PersonEntry) -> str:
    """Enter a person. Returns the id. Raises :class:`Conflict` where the number is taken, :class:`DomainError`."""
    site = find_site(db, actor.require("administrator", "tester"), one.site_id)
    name, number = " ".join(one.name.split()), one.number.strip()
    if not name or not number:
        raise DomainError("name_missing", "A person needs a name and the employer's own number.")
    taken = db.scalar(select(Person.name).where(Person.employer_id == site.employer_id, Person.number == number))
    if taken is not None:
        raise Conflict("number_taken", f"Number {number} belongs to {taken}. Use the number on the roster.")
    person = Person(
        id=new_id(),
        employer_id=site.employer_id,
        site_id=site.id,
        name=name,
        number=number,
        job=one.job.strip(),
        task=one.task.strip(),
        task_id=chosen_task(db, site, one.task.strip()),
        contact=one.contact.strip(),
        face_length=None,
        face_width=None,
    )
    db.add(person)
    db.flush()
    index_people(db, [(person.id, person.employer_id, person.name, person.number)])
    note(db, Note("person", person.id, person.employer_id, {"name": ["", name], "number": ["", number]}))
    if one.clearance is not None:
        record_clearance(db, clock, actor, person.id, one.clearance)
    if one.training is not None:
        record_training(db, clock, actor, person.id, one.training)
    return person.id


def record_clearance(db: Session, clock: Clock, actor: Actor, person_id: str, one: ClearanceEntry) -> None:
    """Put a clearance on file. Raises :class:`DomainError` for an unknown limit or dates the wrong way round."""
    person = hold_person(db, actor.require("administrator", "tester"), person_id)
    known = clearance_limits(facepiece_kinds())
    unknown = [limit for limit in one.limits if limit not in known]
    if unknown:
        raise DomainError("unknown_limit", f"{unknown[0]!r} is no known limit; known are: {', '.join(known)}.")
    if not one.by_whom.strip():
        raise DomainError("by_missing", "Say who cleared them: a name or a practice, nothing more.")
    start = day_of(one.valid_from, "valid from")
    end = day_of(one.valid_until, "valid until") if one.valid_until else None
    if end is not None and end < start:
        raise DomainError("dates", f"It would end on {end} before it begins on {start}.")
    db.add(
        ClearanceRow(
            id=new_id(),
            person_id=person.id,
            account_id=actor.id,
            entered_at=clock.now(db),
            status=one.status,
            limits=list(one.limits),
            valid_from=start,
            valid_until=end,
            by_whom=one.by_whom.strip(),
        )
    )
    db.flush()
    words = [one.status, *one.limits, f"until {end}" if end else ""]
    note(db, Note("person", person.id, person.employer_id, {"clearance": ["", [each for each in words if each]]}))


def record_training(db: Session, clock: Clock, actor: Actor, person_id: str, one: TrainingEntry) -> None:
    """Put a training on file. Raises :class:`DomainError` for a day that has not come yet."""
    person = hold_person(db, actor.require("administrator", "tester"), person_id)
    day = day_of(one.trained_on, "trained on")
    site = db.get(Site, person.site_id)
    today = day_in(site.zone if site is not None else "UTC", clock.now(db))
    if day > today:
        raise DomainError("in_the_future", f"Trained on {day}: that day has not come yet. Enter it afterwards.")
    db.add(
        TrainingRow(
            id=new_id(),
            person_id=person.id,
            account_id=actor.id,
            entered_at=clock.now(db),
            trained_on=day,
            what=one.what,
        )
    )
    db.flush()
    note(db, Note("person", person.id, person.employer_id, {"trained on": ["", str(day)]}))


def withdraw_training(db: Session, clock: Clock, actor: Actor, person_id: str, training_id: str, why: str) -> None:
    """Take a training off somebody's file that was another person's or none, with the reason; it stays written down.

    Raises :class:`NotFound`, :class:`DomainError` without a reason or where it is withdrawn already.
    """
    person = hold_person(db, actor.require("administrator"), person_id)
    row = db.get(TrainingRow, training_id, with_for_update=True)
    if row is None or row.person_id not in same_person(db, person.id):
        raise NotFound("training")
    if row.withdrawn_at is not None:
        raise DomainError("withdrawn", "It is withdrawn already.")
    if not why.strip():
        raise DomainError("reason_missing", "Say how you know that it was not theirs; it stands beside the training.")
    row.withdrawn_at, row.withdrawn_by, row.withdrawn_why = clock.now(db), actor.name, why.strip()
    changes = {"trained on": [str(row.trained_on), "withdrawn"]}
    note(db, Note(kind="person", id=person.id, employer=person.employer_id, changes=changes, why=why.strip()))


@dataclass(frozen=True)
class TrainingLine:
    """A training on file: its day, what it was, who withdrew it and why (empty while it counts)."""

    id: str
    on: str
    what: str
    withdrawn: str


def trainings_of(db: Session, person_id: str) -> tuple[TrainingLine, ...]:
    """Return somebody's trainings, the latest first."""
    mine = select(TrainingRow).where(TrainingRow.person_id.in_(same_person(db, person_id)))
    rows = db.scalars(mine.order_by(TrainingRow.trained_on.desc(), TrainingRow.id).limit(20))
    return tuple(
        TrainingLine(
            id=one.id,
            on=one.trained_on.isoformat(),
            what=one.what,
            withdrawn=f"withdrawn by {one.withdrawn_by}: {one.withdrawn_why}" if one.withdrawn_at else "",
        )
        for one in rows
    )


def face_cell(length: int | None, width: int | None) -> int | None:
    """Return the panel cell of a face by its measures in tenths of a millimetre, None outside it or not measured."""
    if length is None or width is None:
        return None
    return panel_cell(face_rules(), Fraction(length, 10), Fraction(width, 10))


def tenths_words(value: int | None) -> str:
    """Return tenths of a millimetre in millimetres, as text; nothing where it was not measured."""
    return f"{value / 10:.1f}" if value is not None else ""


def _millimetres(value: Fraction | None) -> str | None:
    return f"{float(value):.1f}" if value is not None else None


def record_measurement(db: Session, clock: Clock, actor: Actor, person_id: str, one: MeasureEntry) -> MeasureResult:
    """Record caliper readings; nothing is stored while a third is needed. Odd values are questioned, not refused.

    Raises :class:`DomainError` for a reading that is no number above zero.
    """
    person = hold_person(db, actor.require("tester", "administrator"), person_id)
    rules, values = face_rules(), dict[str, Fraction | None]()
    questions: list[str] = []
    third: list[str] = []
    for name in MEASURES:
        readings = []
        for text in getattr(one, name):
            try:
                value = parse_decimal(text, f"{name} in mm")
            except NotANumber as error:
                raise DomainError("not_a_number", str(error)) from error
            if not 0 < value < 1000:
                raise DomainError("not_a_length", f"{name}: {text} mm is no measure of a face.")
            readings.append(value)
        found = measured(rules, name, readings)
        values[name] = found.value
        third += [name] if found.needs_third else []
        if found.question:
            questions.append(f"{name}: {found.question}")
    for name, before in (("length", person.face_length), ("width", person.face_width)):
        words = change_words(rules, Fraction(before, 10) if before is not None else None, values[name])
        if words:
            questions.append(f"{name}: {words}")
    length, width = values["length"], values["width"]
    cell = panel_cell(rules, length, width) if length is not None and width is not None else None
    result = MeasureResult(
        length=_millimetres(length),
        width=_millimetres(width),
        lip=_millimetres(values["lip"]),
        cell=cell,
        questions=tuple(questions),
        third=tuple(third),
        stored=not third,
    )
    if third:
        return result
    tenths = {name: round(value * 10) if value is not None else None for name, value in values.items()}
    db.add(
        MeasurementRow(
            id=new_id(),
            person_id=person.id,
            account_id=actor.id,
            entered_at=clock.now(db),
            readings={name: list(getattr(one, name)) for name in MEASURES},
            face_length=tenths["length"],
            face_width=tenths["width"],
            lip_length=tenths["lip"],
        )
    )
    person.face_length = tenths["length"] if tenths["length"] is not None else person.face_length
    person.face_width = tenths["width"] if tenths["width"] is not None else person.face_width
    db.flush()
    return result
