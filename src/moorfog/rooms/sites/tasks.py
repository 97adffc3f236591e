"""The tasks of a site: what people do there, in which air, and what that asks of a facepiece."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from moorfog.core.advice.protection import kind_suffices, protection
from moorfog.core.events.facts import STRICT
from moorfog.core.events.payloads import Contaminant, Task
from moorfog.core.kernel.arithmetic import NotANumber, cut, parse_decimal
from moorfog.core.kernel.codec import decode, encode
from moorfog.core.rules.book import Book
from moorfog.core.rules.shapes import near
from moorfog.data import facepiece_kinds
from moorfog.data.words import kind_words
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import DomainError, NotFound
from moorfog.platform.web.fields import Line, MaybeId
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.sites import find_site, site_book
from moorfog.rooms.sites.tables import Site, SiteTask

MOST_TASKS = 200


@dataclass(frozen=True)
class TaskEntry:
    """A task as a site enters it. Figures as text; what is not known stays empty, and is never taken for harmless.

    ``replaces``: the task that this one is from now on, under another name or with other figures; whoever has it keeps
    it. Empty: a new one, or the one of that name.
    """

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    name: Line
    contaminants: tuple[Contaminant, ...]
    oxygen_percent: str
    is_idlh: bool
    is_unknown: bool
    work_filter: str
    work_cartridge: str
    replaces: MaybeId = ""


@dataclass(frozen=True)
class KindLine:
    """Whether a kind of facepiece suffices for a task."""

    kind: str
    words: str
    suffices: str
    why: str
    limits: tuple[str, ...]


@dataclass(frozen=True)
class TaskLine:
    """A task of a site with what it needs under the site's rule book."""

    id: str
    name: str
    contaminants: tuple[Contaminant, ...]
    required: str
    worst: str
    stops: tuple[str, ...]
    kinds: tuple[KindLine, ...]
    work_filters: str
    oxygen_percent: str
    is_idlh: bool
    is_unknown: bool
    work_filter: str
    work_cartridge: str


def task_of(row: SiteTask) -> Task:
    """Return a stored task by value."""
    return decode(Task, {**row.content, "id": row.id, "name": row.name}, "task")


def find_task(db: Session, site_id: str, task_id: str) -> Task:
    """Return a current task of a site. Raises :class:`NotFound`."""
    row = db.get(SiteTask, task_id)
    if row is None or row.site_id != site_id or not row.is_current:
        raise NotFound("task")
    return task_of(row)


def enter_task(db: Session, clock: Clock, actor: Actor, site_id: str, one: TaskEntry) -> str:
    """Enter a task of a site; one of the same name takes its place. Returns its id.

    Raises :class:`DomainError` for a figure that is no number, a missing name or no contaminant.
    """
    site = find_site(db, actor.require("administrator"), site_id)
    name = one.name.strip()
    if not name:
        raise DomainError("name_missing", "A task needs a name the tester can pick it by, such as hull sanding.")
    for number, contaminant in enumerate(one.contaminants):
        for key in ("concentration", "limit", "idlh", "cartridge_limit"):
            text = getattr(contaminant, key)
            try:
                if text and parse_decimal(text, f"contaminants[{number}].{key}") < 0:
                    raise NotANumber(f"contaminants[{number}].{key}: {text} is below zero")
            except NotANumber as error:
                raise DomainError("not_a_number", f"{error}. Leave it empty where it is not known.") from error
    former = _replaced(db, site, one.replaces, name)
    content = {key: value for key, value in encode(one).items() if key not in ("name", "replaces")}
    row = SiteTask(id=new_id(), site_id=site.id, name=name, content=content, entered_at=clock.now(db), is_current=True)
    row.task_id = former.task_id if former is not None else row.id
    db.execute(update(SiteTask).where(SiteTask.task_id == row.task_id).values(is_current=False))
    db.add(row)
    db.flush()
    of_it = (Person.task_id == row.task_id) | (Person.task_id.is_(None) & (Person.task.collate("utf8mb4_bin") == name))
    mine = update(Person).where(Person.site_id == site.id, of_it).values(task_id=row.task_id, task=name)
    db.execute(mine.execution_options(synchronize_session=False))
    note(db, Note("site", site.id, site.employer_id, {"task": [former.name if former is not None else "", name]}))
    return row.id


def _replaced(db: Session, site: Site, replaces: str, name: str) -> SiteTask | None:
    """Return the task that one of this name takes the place of. Raises :class:`NotFound`, :class:`DomainError`."""
    current = select(SiteTask).where(SiteTask.site_id == site.id, SiteTask.is_current.is_(True))
    here = {row.name: row for row in db.scalars(current.with_for_update())}
    if not replaces:
        return here.get(name)
    named = db.get(SiteTask, replaces)
    if named is None or named.site_id != site.id:
        raise NotFound("task")
    if name in here and here[name].task_id != named.task_id:
        raise DomainError("name_taken", f"Another task here is called {name}. Give this one a name of its own.")
    return next((row for row in here.values() if row.task_id == named.task_id), named)


def chosen_task(db: Session, site: Site, name: str) -> str | None:
    """Return the id of a site's task by its name, None for no name. Raises :class:`DomainError` with the nearest ones
    where it is none of them: a word that is judged is chosen from a list."""
    if not name:
        return None
    tasks = task_ids(db, site)
    if name not in tasks:
        raise DomainError("unknown_task", f"{not_a_task(name, site.name, tuple(tasks))}. Choose one of them.")
    return tasks[name]


def not_a_task(name: str, site: str, known: tuple[str, ...]) -> str:
    """Return in words that a name is none of a site's tasks, with the nearest ones."""
    words = f"the nearest are {', '.join(near(name, known))}" if known else "it has none yet: enter it under Rule books"
    return f"“{name}” is no task of {site}; {words}"


def task_ids(db: Session, site: Site) -> dict[str, str]:
    """Return the ids of a site's tasks by name."""
    return {row.name: row.task_id for row in _current(db, site)}


def task_line(task: Task, book: Book) -> TaskLine:
    """Return a task with what it needs under a book."""
    found = protection(task, book)
    verdicts = (kind_suffices(task, book, kind, task.work_filter) for kind in facepiece_kinds().values())
    kinds = tuple(
        KindLine(kind=one.kind, words=kind_words(one.kind), suffices=one.suffices, why=one.why, limits=one.limits)
        for one in verdicts
    )
    return TaskLine(
        id=task.id,
        name=task.name,
        contaminants=task.contaminants,
        required=cut(found.required) if found.required is not None else "",
        worst=found.worst,
        stops=tuple(one.sentence for one in found.reasons),
        kinds=kinds,
        work_filters=" with ".join(part for part in (task.work_filter, task.work_cartridge) if part),
        oxygen_percent=task.oxygen_percent,
        is_idlh=task.is_idlh,
        is_unknown=task.is_unknown,
        work_filter=task.work_filter,
        work_cartridge=task.work_cartridge,
    )


def _current(db: Session, site: Site) -> Sequence[SiteTask]:
    rows = select(SiteTask).where(SiteTask.site_id == site.id, SiteTask.is_current.is_(True))
    return db.scalars(rows.order_by(SiteTask.name).limit(MOST_TASKS)).all()


def tasks_of(db: Session, site: Site) -> list[Task]:
    """Return the tasks a site has now, by name."""
    return [task_of(row) for row in _current(db, site)]


def tasks_by_id(db: Session, site: Site) -> dict[str, Task]:
    """Return the tasks a site has now, by the id under which people have them."""
    return {row.task_id: task_of(row) for row in _current(db, site)}


def list_tasks(db: Session, actor: Actor, site_id: str) -> tuple[TaskLine, ...]:
    """Return the tasks of a site by name, with what each needs under the site's rule book."""
    site = find_site(db, actor.require(*READERS), site_id)
    book = site_book(db, site, site.rule_book)
    return tuple(task_line(task, book) for task in tasks_of(db, site))
