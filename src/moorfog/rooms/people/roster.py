"""A roster that lives: who is new, changed, moved, back or missing, each taken or left by a tick; as a job."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field, replace
from datetime import date
from typing import Any, Literal

from rapidfuzz.fuzz import token_sort_ratio
from sqlalchemy import delete, func, insert, select, update
from sqlalchemy.orm import Session

from moorfog.core.kernel.codec import encode
from moorfog.core.kernel.days import day_in
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock, DatabaseClock
from moorfog.platform.jobs.jobs import JobView, new_job, view_of
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.text import fold_word
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.errors import DomainError, NotFound
from moorfog.platform.web.fields import BREAKS, day_of, hidden_sign
from moorfog.rooms.people.changing import ALIKE
from moorfog.rooms.people.people import index_people
from moorfog.rooms.people.roster_file import (
    DAYS,
    FIELDS,
    LENGTHS,
    Order,
    Roster,
    RosterFile,
    keep_order,
    match_columns,
    order_of,
    read_day,
    read_roster,
)
from moorfog.rooms.people.tables import ClearanceRow, Person, PersonWord, TrainingRow
from moorfog.rooms.sites.tables import Site
from moorfog.rooms.sites.tasks import not_a_task, task_ids

SHOWN_ERRORS, SHOWN_ROWS, BATCH, PAGE = 200, 8, 500, 100
TOTALS = frozenset({"total", "totals", "sum", "subtotal", "count", "gesamt", "summe", "somme", "razem", "celkem"})
PLAIN = ("name", "site_id", "job", "task", "contact")
STORED = (*PLAIN, "number", "task_id")
Progress = Callable[[int, int], None]
Kind = Literal["new", "changed", "moved", "back", "missing", "same"]
KINDS: tuple[Kind, ...] = ("new", "changed", "moved", "back", "missing", "same")


@dataclass(frozen=True)
class RowError:
    """What is wrong, or odd, in a row and column, as the sheet counts them."""

    row: int
    column: str
    problem: str


@dataclass(frozen=True)
class RosterLine:
    """What a row comes to: of which kind, whose, and what changes. ``row`` 0: a person who is not in the file."""

    row: int
    kind: Kind
    person_id: str
    name: str
    number: str
    changes: tuple[str, ...]
    twin: str
    """Somebody entered already whose name is alike, with their number; empty where there is none."""


@dataclass(frozen=True)
class Preview:
    """What would be done: how the file is read, how many rows there are of each kind, a page of the kind that was asked
    for, everything that is wrong, and what is odd but may be right."""

    headings: tuple[str, ...]
    heading_row: int
    columns: dict[str, int]
    sample: tuple[tuple[str, ...], ...]
    sheets: tuple[str, ...]
    sheet: int
    encoding: str
    needs_order: bool
    day_order: Order
    """In which order its days were read: as chosen, or as it was chosen for this employer before; empty: unknown."""
    rows: int
    counts: dict[str, int]
    twins: int
    """How many rows have a likely twin here: they are taken only where they are ticked."""
    shown: str
    lines: tuple[RosterLine, ...]
    page: int
    pages: int
    errors: tuple[RowError, ...]
    error_count: int
    odd: tuple[RowError, ...]


@dataclass(frozen=True)
class Asked:
    """Which lines of a preview are looked at."""

    kind: str = "new"
    page: int = 1


@dataclass
class Plan:
    """What a roster comes to."""

    lines: list[RosterLine] = field(default_factory=list)
    values: dict[int, dict[str, Any]] = field(default_factory=dict)
    """By row: the person as they are to be, with what is to be filed."""
    errors: list[RowError] = field(default_factory=list)
    odd: list[RowError] = field(default_factory=list)


def _site_of(db: Session, actor: Actor, file: RosterFile) -> Site:
    scope = actor.require("administrator")
    site = db.get(Site, file.site_id)
    if site is None or not scope.allows(site.employer_id):
        raise DomainError("not_found", "There is no such site here. Choose one of yours.", status=404)
    return site


def check_roster(
    db: Session, clock: Clock, actor: Actor, file: RosterFile, asked: Asked | None = None
) -> tuple[Preview, Plan]:
    """Return the preview of a roster and its plan. Raises :class:`DomainError` for a file that cannot be read."""
    site, asked = _site_of(db, actor, file), asked or Asked()
    file = replace(file, day_order=order_of(db, site.employer_id, file.day_order))
    roster = read_roster(file)
    columns = file.columns or match_columns(roster.headings)
    wrong = [one for one, at in columns.items() if one not in FIELDS or not 0 <= at < len(roster.headings)]
    if wrong:
        raise DomainError("bad_column", f"{wrong[0]!r} is no field, or its column is not in this file.")
    plan = Plan()
    has_name = "name" in columns or "family_name" in columns
    plan.errors += [] if has_name else [RowError(roster.heading_row, "name", "no column is matched to it")]
    if "number" not in columns:
        plan.errors.append(RowError(roster.heading_row, "number", "no column is matched to it"))
    if not plan.errors:
        today = day_in(site.zone, clock.now(db))
        _read_rows(db, site, file, roster, columns, plan, today)
    counts: dict[str, int] = {kind: sum(one.kind == kind for one in plan.lines) for kind in KINDS}
    shown = [one for one in plan.lines if one.kind == asked.kind]
    pages = max(1, -(-len(shown) // PAGE))
    page = min(max(asked.page, 1), pages)
    has_days = any(one in columns for one in DAYS)
    preview = Preview(
        headings=roster.headings,
        heading_row=roster.heading_row,
        columns=columns,
        sample=tuple(cells for _, cells in roster.rows[:SHOWN_ROWS]),
        sheets=roster.sheets,
        sheet=roster.sheet,
        encoding=roster.encoding,
        needs_order=has_days and not file.day_order,
        day_order=file.day_order,
        rows=len(roster.rows),
        counts=counts,
        twins=sum(bool(one.twin) for one in plan.lines),
        shown=asked.kind,
        lines=tuple(shown[(page - 1) * PAGE : page * PAGE]),
        page=page,
        pages=pages,
        errors=tuple(plan.errors[:SHOWN_ERRORS]),
        error_count=len(plan.errors),
        odd=tuple(plan.odd[:SHOWN_ERRORS]),
    )
    return preview, plan


def _cells(roster: Roster, columns: dict[str, int]) -> Iterator[tuple[int, dict[str, str]]]:
    for number, row in roster.rows:
        cells = {one: row[at].strip() if at < len(row) else "" for one, at in columns.items()}
        if "name" not in cells:
            cells["name"] = f"{cells.get('given_name', '')} {cells.get('family_name', '')}"
        cells["name"] = " ".join(cells["name"].split())
        yield number, cells


def _read_rows(
    db: Session, site: Site, file: RosterFile, roster: Roster, columns: dict[str, int], plan: Plan, today: date
) -> None:
    sites = {fold_word(one.name): one for one in db.scalars(select(Site).where(Site.employer_id == site.employer_id))}
    of_employer = select(Person).where(Person.employer_id == site.employer_id, Person.merged_into.is_(None))
    known = {one.number: one for one in db.scalars(of_employer)}
    taken = set(db.scalars(select(Person.number).where(Person.employer_id == site.employer_id))) - set(known)
    alike, filed, tasks = _Alike(known.values()), _filed(db, site.employer_id), _Tasks(db, sites.values())
    seen: dict[str, int] = {}
    names: dict[str, int] = {}
    touched: set[str] = set()
    skip = set(file.skip)
    for row, cells in _cells(roster, columns):
        number = cells["number"]
        if fold_word(cells["name"]) in TOTALS or (not cells["name"] and fold_word(number) in TOTALS):
            plan.odd.append(RowError(row, _heading(roster, columns, "name"), "looks like a total; it is left out"))
            continue
        problems = list(_problems(roster, columns, row, cells, file, seen, taken))
        old = known.get(number)
        values = _values(cells, site, old, columns, file)
        problems += _weigh(row, values, cells, filed.get(old.id if old is not None else "", _Filed()), today)
        here = sites.get(fold_word(cells["site"])) if cells.get("site") else site
        if here is None:
            words = ", ".join(one.name for one in sites.values())
            heading = _heading(roster, columns, "site")
            problems.append(RowError(row, heading, f"no site is called {cells['site']!r}; known are {words}"))
        if row not in skip:
            plan.errors += problems
        if number:
            seen.setdefault(number, row)
        if problems or here is None:
            continue
        folded = fold_word(cells["name"])
        if folded in names:
            words = f"the name stands in row {names[folded]} too, with another number"
            plan.odd.append(RowError(row, _heading(roster, columns, "name"), words))
        names.setdefault(folded, row)
        touched.add(here.id)
        values["site_id"] = here.id if old is None or cells.get("site") else old.site_id
        strange = tasks.strange(values, old, "task" in columns)
        if strange and row not in skip:
            plan.errors.append(RowError(row, _heading(roster, columns, "task"), strange))
        if strange:
            continue
        if values["task"] and values["task_id"] is None:
            words = f"{values['task']!r} is no task of their site: they may wear nothing until one is chosen"
            plan.odd.append(RowError(row, _heading(roster, columns, "task"), words))
        plan.values[row] = values
        plan.lines.append(_line(row, old, values, sites, "" if old is not None else alike.find(cells["name"])))
    plan.lines += [
        RosterLine(row=0, kind="missing", person_id=one.id, name=one.name, number=one.number, changes=(), twin="")
        for one in known.values()
        if one.number not in seen and one.site_id in touched and one.left_on is None
    ]


class _Tasks:
    """The tasks of an employer's sites: a roster names one of them, or nothing."""

    def __init__(self, db: Session, sites: Iterable[Site]) -> None:
        self.sites = {one.id: one.name for one in sites}
        self.of = {one.id: task_ids(db, one) for one in sites}

    def strange(self, values: dict[str, Any], old: Person | None, is_in_file: bool) -> str:
        """Put the id of a row's task beside its name; return what is wrong with a name that is none, or nothing.

        One that stood on their entry before there was a list stays, and is none of them.
        """
        name, known = values["task"], self.of.get(values["site_id"], {})
        values["task_id"] = known.get(name)
        is_as_before = old is not None and (old.task, old.site_id) == (name, values["site_id"])
        if not name or name in known or is_as_before or not is_in_file:
            return ""
        return not_a_task(name, self.sites.get(values["site_id"], "their site"), tuple(known))


class _Alike:
    """People by the words of their names, to find those whose name is alike."""

    def __init__(self, people: Any) -> None:
        self.by_word: dict[str, list[tuple[str, str]]] = {}
        for one in people:
            folded = fold_word(one.name)
            for word in set(folded.replace(",", " ").split()):
                self.by_word.setdefault(word, []).append((folded, f"{one.name}, {one.number}"))

    def find(self, name: str) -> str:
        """Return somebody whose name is alike, with their number; empty where nobody's is."""
        folded = fold_word(name)
        words = folded.replace(",", " ").split()
        near = [one for word in words for one in self.by_word.get(word, [])[:50]]
        scored = [(token_sort_ratio(folded.replace(",", " "), other.replace(",", " ")), who) for other, who in near]
        best = max(scored, default=(0.0, ""))
        return best[1] if best[0] >= ALIKE else ""


def _heading(roster: Roster, columns: dict[str, int], name: str) -> str:
    at = columns.get(name, columns.get("family_name"))
    return roster.headings[at] if at is not None else name


def _problems(
    roster: Roster,
    columns: dict[str, int],
    row: int,
    cells: dict[str, str],
    file: RosterFile,
    seen: dict[str, int],
    taken: set[str],
) -> Iterator[RowError]:
    for name in ("name", "number"):
        if not cells[name]:
            yield RowError(row, _heading(roster, columns, name), f"the {name} is missing")
    for name, text in cells.items():
        heading = _heading(roster, columns, name)
        if text.startswith("="):
            yield RowError(row, heading, "a formula stands there; put its value in its place")
        elif sign := hidden_sign(text, BREAKS):
            yield RowError(row, heading, f"there is a sign in it that nobody sees ({sign}); type it anew")
        elif len(text) > LENGTHS[name]:
            yield RowError(row, heading, f"longer than {LENGTHS[name]} characters")
        elif name in DAYS and text and read_day(text, file.day_order) is None:
            words = "say in which order days are written" if not file.day_order else "no day; write it as 2026-01-31"
            yield RowError(row, heading, f"{text!r}: {words}")
    number = cells["number"]
    if number and number in seen:
        words = f"number {number} stands in row {seen[number]} already"
        yield RowError(row, _heading(roster, columns, "number"), words)
    elif number in taken:
        words = f"number {number} is that of an entry that was made part of another one"
        yield RowError(row, _heading(roster, columns, "number"), words)


@dataclass
class _Filed:
    """What is on file of a person: clearances in the order they were filed, and days of training."""

    clearances: list[ClearanceRow] = field(default_factory=list)
    trained: set[date] = field(default_factory=set)


def _filed(db: Session, employer_id: str) -> dict[str, _Filed]:
    """Return what is on file of everybody at an employer; what is filed of an entry made part of another is theirs."""
    found: dict[str, _Filed] = {}
    whose = func.coalesce(Person.merged_into, Person.id)
    clearances = select(whose, ClearanceRow).join(Person, Person.id == ClearanceRow.person_id)
    in_order = clearances.where(Person.employer_id == employer_id).order_by(ClearanceRow.entered_at, ClearanceRow.id)
    for person_id, one in db.execute(in_order):
        found.setdefault(str(person_id), _Filed()).clearances.append(one)
    trainings = select(whose, TrainingRow.trained_on).join(Person, Person.id == TrainingRow.person_id)
    for person_id, day in db.execute(trainings.where(Person.employer_id == employer_id)):
        found.setdefault(str(person_id), _Filed()).trained.add(day)
    return found


def _weigh(row: int, values: dict[str, Any], cells: dict[str, str], filed: _Filed, today: date) -> Iterator[RowError]:
    """Keep of a row's clearance and training what is news, with the limits there are; yield what cannot be filed.

    The clearance filed last counts, so a roster with an old one would lift whatever was filed since.
    """
    begins, ends, trained = values["cleared_on"], values["cleared_until"], values["trained_on"]
    if not cells.get("cleared_on") and (cells.get("cleared_until") or cells.get("cleared_by")):
        yield RowError(row, "cleared on", "from when the clearance counts is missing")
    if begins is not None and ends is not None and ends < begins:
        yield RowError(row, "cleared until", f"{ends} is before the clearance begins on {begins}")
    if trained is not None and trained > today:
        yield RowError(row, "trained on", f"{trained} has not come yet")
    values["limits"] = []
    if begins is not None and filed.clearances:
        last = max(reversed(filed.clearances), key=lambda one: one.valid_from)  # of one day the one filed last
        if max(one.valid_from for one in filed.clearances) >= begins:
            values["cleared_on"] = None
        elif last.status != "cleared":
            words = f"{last.status!r} is on file since {last.valid_from}; no roster lifts that, their own page does"
            yield RowError(row, "cleared on", words)
        else:
            values["limits"] = list(last.limits)
    if trained in filed.trained:
        values["trained_on"] = None


def _values(
    cells: dict[str, str], here: Site, old: Person | None, columns: dict[str, int], file: RosterFile
) -> dict[str, Any]:
    """Return a person as they are to be; what the file says nothing of stays as it is."""
    values: dict[str, Any] = {"name": cells["name"], "number": cells["number"], "site_id": here.id}
    for name in ("job", "task", "contact"):
        values[name] = cells[name] if name in columns else (getattr(old, name) if old is not None else "")
    for name in DAYS:
        values[name] = read_day(cells.get(name, ""), file.day_order)
    values["cleared_by"] = cells.get("cleared_by", "")
    return values


def _line(row: int, old: Person | None, values: dict[str, Any], sites: dict[str, Site], twin: str) -> RosterLine:
    names = {one.id: one.name for one in sites.values()}
    filed = [
        f"{words} {values[name]}"
        for name, words in (("cleared_on", "cleared on"), ("trained_on", "trained on"))
        if values[name]
    ]
    filed += [f"still with: {', '.join(values['limits'])}"] if values["limits"] else []
    if old is None:
        return RosterLine(
            row=row,
            kind="new",
            person_id="",
            name=values["name"],
            number=values["number"],
            changes=tuple(filed),
            twin=twin,
        )
    changes = [
        f"{key.removesuffix('_id')}: {names.get(was, was) or 'nothing'} → {names.get(now, now) or 'nothing'}"
        for key, was, now in ((key, getattr(old, key), values[key]) for key in PLAIN)
        if was != now
    ]
    kind: Kind = "changed" if changes or filed else "same"
    if old.site_id != values["site_id"]:
        kind = "moved"
    if old.left_on is not None:
        kind, changes = "back", [f"left on {old.left_on}", *changes]
    return RosterLine(
        row=row, kind=kind, person_id=old.id, name=old.name, number=old.number, changes=(*changes, *filed), twin=""
    )


def _apply(
    db: Session, clock: Clock, actor: Actor, file: RosterFile, site: Site, plan: Plan, progress: Progress
) -> dict[str, int]:
    """Do what was ticked, within the caller's one transaction; ``progress`` may raise to end it all."""
    skip, left = set(file.skip), set(file.left)
    skip |= {one.row for one in plan.lines if one.twin} - set(file.sure)
    todo = [one for one in plan.lines if one.row and one.kind != "same" and one.row not in skip]
    gone = [one for one in plan.lines if one.kind == "missing" and one.person_id in left]
    day = day_of(file.left_on, "left on") if gone else date.min
    done: dict[str, int] = dict.fromkeys(KINDS, 0)
    for start in range(0, len(todo), BATCH):
        progress(start, len(todo))
        batch = todo[start : start + BATCH]
        _store(db, clock, actor, site, [(one, plan.values[one.row]) for one in batch])
        for one in batch:
            done[one.kind] += 1
    if gone:
        db.execute(update(Person).where(Person.id.in_([one.person_id for one in gone])).values(left_on=day))
        done["missing"] = len(gone)
    progress(len(todo), len(todo))
    return done


def _store(db: Session, clock: Clock, actor: Actor, site: Site, batch: list[tuple[RosterLine, dict[str, Any]]]) -> None:
    now, fresh, people, filed = clock.now(db), [], [], [list[dict[str, Any]](), list[dict[str, Any]]()]
    for line, values in batch:
        person_id = line.person_id or new_id()
        plain = {key: values[key] for key in STORED}
        if line.person_id:
            db.execute(update(Person).where(Person.id == person_id).values(**plain, left_on=None))
            db.execute(delete(PersonWord).where(PersonWord.person_id == person_id))
        else:
            row = {"id": person_id, "employer_id": site.employer_id, "face_length": None, "face_width": None}
            fresh.append({**row, **plain})
        people.append((person_id, site.employer_id, values["name"], values["number"]))
        base = {"person_id": person_id, "account_id": actor.id, "entered_at": now}
        if values["cleared_on"]:
            clearance = {"status": "cleared", "limits": values["limits"], "valid_from": values["cleared_on"]}
            more = {"valid_until": values["cleared_until"], "by_whom": values["cleared_by"] or "as the roster says"}
            filed[0].append({"id": new_id(), **base, **clearance, **more})
        if values["trained_on"]:
            filed[1].append({"id": new_id(), **base, "trained_on": values["trained_on"], "what": "as the roster says"})
    if fresh:
        db.execute(insert(Person), fresh)
    index_people(db, people)
    for table, rows in ((ClearanceRow, filed[0]), (TrainingRow, filed[1])):
        if rows:
            db.execute(insert(table), rows)


def run_import(db: Session, actor: Actor, content: str, progress: Progress) -> str:
    """Import the roster of a job. Returns what to tell. Raises :class:`DomainError` with what is wrong."""
    given = json.loads(content)
    file = RosterFile(**{**given, **{name: tuple(given.get(name, ())) for name in ("skip", "sure", "left")}})
    site, clock = _site_of(db, actor, file), DatabaseClock()
    preview, plan = check_roster(db, clock, actor, file)
    if plan.errors:
        first = preview.errors[0]
        many = "1 thing is" if preview.error_count == 1 else f"{preview.error_count} things are"
        sentence = f"{many} wrong; first: row {first.row}, {first.column}: {first.problem}."
        raise DomainError("roster_wrong", f"{sentence} Nothing was imported.")
    keep_order(db, site.employer_id, file.day_order)
    file = replace(file, day_order=preview.day_order)
    done = _apply(db, clock, actor, file, site, plan, progress)
    note(db, Note("employer", site.employer_id, site.employer_id, {key: [0, value] for key, value in done.items()}))
    total = db.scalar(
        select(func.count())
        .select_from(Person)
        .where(Person.employer_id == site.employer_id, Person.merged_into.is_(None))
    )
    words = {"new": "entered", "changed": "changed", "moved": "moved", "back": "back", "missing": "noted as left"}
    said = [f"{done[kind]} {word}" for kind, word in words.items() if done[kind]]
    people = sum(done[kind] for kind in words)
    return f"{people} people imported: {', '.join(said) or 'nothing to change'}; {total} are entered now."


def start_import(db: Session, clock: Clock, actor: Actor, file: RosterFile) -> JobView:
    """Make the job that imports a roster. Raises :class:`NotFound` outside the scope."""
    scope = actor.require("administrator")
    site = db.get(Site, file.site_id)
    if site is None or not scope.allows(site.employer_id):
        raise NotFound("site")
    job = new_job(db, clock, actor, "roster", site.employer_id, encode(file))
    return view_of(db, job)
