"""Roster import from CSV and XLSX: columns matched, a preview, errors by row and column, all or nothing, as a job."""

from __future__ import annotations

import base64
import binascii
import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, ClassVar

from sqlalchemy import func, insert, select
from sqlalchemy.orm import Session

from moorfog.core.events.facts import STRICT
from moorfog.operations.accounts.sessions import Actor
from moorfog.operations.errors import DomainError
from moorfog.operations.fields import LINE, NUMBER
from moorfog.operations.people.people import index_people
from moorfog.operations.words import fold_word
from moorfog.store.base import new_id
from moorfog.store.models import Person, Site
from moorfog.uploads import Unreadable, parse_apart

FIELDS: dict[str, tuple[str, ...]] = {
    "name": ("name", "full name", "worker", "employee", "surname and name"),
    "number": ("number", "no", "id", "employee number", "personnel number", "staff number", "own number"),
    "site": ("site", "location", "place", "plant"),
    "job": ("job", "role", "trade", "position"),
    "task": ("task", "work", "activity"),
    "contact": ("contact", "phone", "telephone", "e-mail", "email", "mobile"),
}
REQUIRED = ("name", "number")
LENGTHS = {**dict.fromkeys(FIELDS, LINE), "number": NUMBER}
SHOWN_ERRORS, SHOWN_ROWS, BATCH = 200, 8, 500
Progress = Callable[[int, int], None]


@dataclass(frozen=True)
class RosterFile:
    """A roster as sent: its name, its bytes as base64, and which column is which field (empty: matched by heading)."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    site_id: str
    file_name: str
    content: str
    columns: dict[str, int]


@dataclass(frozen=True)
class RowError:
    """What is wrong in a row and column, as the sheet counts them (the headings are row 1)."""

    row: int
    column: str
    problem: str


@dataclass(frozen=True)
class Preview:
    """What would be imported: headings, how they are matched, the first rows, and everything that is wrong."""

    headings: tuple[str, ...]
    columns: dict[str, int]
    sample: tuple[tuple[str, ...], ...]
    rows: int
    errors: tuple[RowError, ...]
    error_count: int


@dataclass(frozen=True)
class Roster:
    """A roster read whole: cells as text."""

    headings: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]


def read_roster(file: RosterFile) -> Roster:
    """Read a CSV (comma, semicolon or tab; UTF-8 or Windows-1252) or XLSX. Raises :class:`DomainError` with why not."""
    try:
        content = base64.b64decode(file.content, validate=True)
    except (binascii.Error, ValueError):
        raise DomainError("not_base64", "The file did not arrive whole. Choose it again.") from None
    name = file.file_name.lower()
    if not name.endswith((".xlsx", ".csv", ".txt", ".tsv")):
        raise DomainError("unknown_file", f"{file.file_name!r}: a roster is a .csv or .xlsx file.")
    try:
        found = parse_apart("xlsx" if name.endswith(".xlsx") else "csv", content)
    except Unreadable as error:
        raise DomainError(error.code, error.message) from error
    table = [tuple(row) for row in found if any(row)]
    if len(table) < 2:
        raise DomainError("empty_file", f"{file.file_name!r} holds no rows below its headings.")
    return Roster(table[0], tuple(table[1:]))


def match_columns(headings: tuple[str, ...]) -> dict[str, int]:
    """Return which column is which field by its heading; a heading nobody knows is left out."""
    folded = [fold_word(one) for one in headings]
    found: dict[str, int] = {}
    for field, names in FIELDS.items():
        for name in names:
            if name in folded and folded.index(name) not in found.values():
                found[field] = folded.index(name)
                break
    return found


def check_roster(db: Session, actor: Actor, file: RosterFile) -> tuple[Preview, list[dict[str, Any]]]:
    """Return the preview and the rows ready to insert (empty while anything is wrong)."""
    scope = actor.require("administrator")
    site = db.get(Site, file.site_id)
    if site is None or not scope.allows(site.employer_id):
        raise DomainError("not_found", "There is no such site here. Choose one of yours.", status=404)
    roster = read_roster(file)
    columns = file.columns or match_columns(roster.headings)
    wrong = [one for one, at in columns.items() if one not in FIELDS or not 0 <= at < len(roster.headings)]
    if wrong:
        raise DomainError("bad_column", f"{wrong[0]!r} is no field, or its column is not in this file.")
    errors = [RowError(1, field, "no column is matched to it") for field in REQUIRED if field not in columns]
    ready: list[dict[str, Any]] = []
    if not errors:
        ready, errors = _check_rows(db, site, roster, columns)
    preview = Preview(
        headings=roster.headings,
        columns=columns,
        sample=roster.rows[:SHOWN_ROWS],
        rows=len(roster.rows),
        errors=tuple(errors[:SHOWN_ERRORS]),
        error_count=len(errors),
    )
    return preview, [] if errors else ready


def _check_rows(
    db: Session, site: Site, roster: Roster, columns: dict[str, int]
) -> tuple[list[dict[str, Any]], list[RowError]]:
    sites = {fold_word(one.name): one for one in db.scalars(select(Site).where(Site.employer_id == site.employer_id))}
    known = set(db.scalars(select(Person.number).where(Person.employer_id == site.employer_id)))
    seen: dict[str, int] = {}
    ready: list[dict[str, Any]] = []
    errors: list[RowError] = []
    for index, row in enumerate(roster.rows, start=2):
        cells = {field: row[at] if at < len(row) else "" for field, at in columns.items()}
        number = cells["number"]
        for field, text in cells.items():
            heading = roster.headings[columns[field]]
            if field in REQUIRED and not text:
                errors.append(RowError(index, heading, f"the {field} is missing"))
            elif len(text) > LENGTHS[field]:
                errors.append(RowError(index, heading, f"longer than {LENGTHS[field]} characters"))
        if number and number in seen:
            problem = f"number {number} stands in row {seen[number]} already"
            errors.append(RowError(index, roster.headings[columns["number"]], problem))
        elif number in known:
            errors.append(RowError(index, roster.headings[columns["number"]], f"number {number} is entered already"))
        seen.setdefault(number, index)
        here = sites.get(fold_word(cells["site"])) if cells.get("site") else site
        if here is None:
            problem = f"no site is called {cells['site']!r}; known are {', '.join(one.name for one in sites.values())}"
            errors.append(RowError(index, roster.headings[columns["site"]], problem))
            continue
        ready.append(
            {
                "id": new_id(),
                "employer_id": site.employer_id,
                "site_id": here.id,
                "name": " ".join(cells["name"].split()),
                "number": number,
                "job": cells.get("job", ""),
                "task": cells.get("task", ""),
                "contact": cells.get("contact", ""),
                "face_length": None,
                "face_width": None,
            }
        )
    return ready, errors


def insert_people(db: Session, rows: list[dict[str, Any]], progress: Progress) -> int:
    """Insert checked rows in batches within the caller's one transaction; ``progress`` may raise to end it all."""
    for start in range(0, len(rows), BATCH):
        progress(start, len(rows))
        batch = rows[start : start + BATCH]
        db.execute(insert(Person), batch)
        index_people(db, ((one["id"], one["employer_id"], one["name"], one["number"]) for one in batch))
    progress(len(rows), len(rows))
    return len(rows)


def run_import(db: Session, actor: Actor, content: str, progress: Progress) -> str:
    """Import the roster of a job. Returns what to tell. Raises :class:`DomainError` with what is wrong."""
    file = RosterFile(**json.loads(content))
    preview, rows = check_roster(db, actor, file)
    if not rows:
        first = preview.errors[0]
        sentence = f"{preview.error_count} things are wrong; first: row {first.row}, {first.column}: {first.problem}."
        raise DomainError("roster_wrong", f"{sentence} Nothing was imported.")
    done = insert_people(db, rows, progress)
    total = db.scalar(select(func.count()).select_from(Person).where(Person.employer_id == rows[0]["employer_id"]))
    return f"{done} people imported; {total} are entered now."
