"""What a site decides: its rule book, what it lays over it, and its tasks."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar, Literal
from zoneinfo import ZoneInfo

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from moorfog.core.advice.protection import kind_suffices, protection
from moorfog.core.events.facts import STRICT
from moorfog.core.events.payloads import Contaminant, Task
from moorfog.core.kernel.arithmetic import NotANumber, cut, parse_decimal
from moorfog.core.kernel.codec import decode, encode
from moorfog.core.kernel.days import day_in
from moorfog.core.rules.book import Book, Value
from moorfog.core.rules.in_force import SiteBooks
from moorfog.core.rules.overlay import Overlay, check
from moorfog.core.rules.shapes import near
from moorfog.data import facepiece_kinds, shipped_books, shipped_protocols, value_shapes
from moorfog.data.words import kind_words
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock, DatabaseClock
from moorfog.platform.db.scope import Scope, within
from moorfog.platform.log.deeds import Note, changed, note
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import DomainError, NotFound
from moorfog.platform.web.fields import Label, Line, MaybeId, Why, day_of
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.tables import Employer, Site, SiteRule, SiteTask

MOST_TASKS = 200


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
