"""Results of before: taken over from a table as history. Nothing here judged them, and they permit nothing."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar

from sqlalchemy import select
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from moorfog.core.advice.methods import METHODS
from moorfog.core.events.facts import STRICT
from moorfog.core.kernel.days import day_in
from moorfog.core.permission.from_before import folded
from moorfog.core.rules.shapes import near
from moorfog.data import method_names
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.log.same import same_person
from moorfog.platform.text import fold_word
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.errors import DomainError
from moorfog.rooms.people.roster_file import Order, keep_order, match_columns, opened, order_of, read_day
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.sites import find_site
from moorfog.rooms.sites.tables import Site
from moorfog.rooms.wear.tables import HistoryRow

HEADINGS: dict[str, tuple[str, ...]] = {
    "number": ("number", "no", "id", "employee number", "personnel number", "staff number"),
    "tested_on": ("tested on", "date", "day", "test date", "date of test"),
    "model": ("model", "facepiece", "mask", "respirator"),
    "size": ("size",),
    "method": ("method", "test", "type of test", "protocol"),
    "result": ("result", "outcome", "pass or fail"),
    "factor": ("fit factor", "overall", "factor"),
    "tester": ("tester", "tested by", "by"),
}
NEEDED = ("number", "tested_on", "model", "result")
LENGTHS = {"model": 190, "size": 40, "method": 190, "result": 40, "factor": 30, "tester": 190}
WORDS = {"pass": "pass", "passed": "pass", "p": "pass", "yes": "pass", "fail": "fail", "failed": "fail", "f": "fail"}
MOST, SHOWN, BATCH = 20_000, 200, 500


@dataclass(frozen=True)
class HistoryFile:
    """A table of earlier results as sent: its name, its bytes as base64, and the order in which its days are written
    (empty where they read 2025-03-31)."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    site_id: str
    file_name: str
    content: str
    day_order: Order = ""


@dataclass(frozen=True)
class HistoryFault:
    """What is wrong in a row and column, as the sheet counts them."""

    row: int
    column: str
    problem: str


@dataclass(frozen=True)
class HistoryPreview:
    """How many rows could be taken over, how many are there already, what is wrong, and whether the order of its days
    has to be chosen."""

    rows: int
    known: int
    faults: tuple[HistoryFault, ...]
    fault_count: int
    needs_order: bool
    day_order: Order
    """In which order its days were read: as chosen, or as it was chosen for this employer before; empty: unknown."""


@dataclass(frozen=True)
class HistoryLine:
    """A result of before, as it was written then."""

    on: str
    model: str
    size: str
    method: str
    result: str
    factor: str
    tester: str
    source: str


def preview_history(db: Session, clock: Clock, actor: Actor, file: HistoryFile) -> HistoryPreview:
    """Return what taking a table over would do; nothing is stored."""
    return _read(db, clock, actor, file)[1]


def import_history(db: Session, clock: Clock, actor: Actor, file: HistoryFile) -> int:
    """Take a table of earlier results over, all of it or nothing; rows that are there already are left alone.

    Returns how many are new. Raises :class:`DomainError` where anything is wrong with it.
    """
    rows, found, site = _read(db, clock, actor, file)
    if found.fault_count:
        raise DomainError("faults", f"{found.fault_count} cells are wrong. Mend them in the table and send it again.")
    keep_order(db, site.employer_id, file.day_order)
    alone_at(db, site)  # what the site says in writing meanwhile does not speak of these
    now = clock.now(db)
    for first in range(0, len(rows), BATCH):
        some = [
            {**one, "id": new_id(), "entered_at": now, "account_id": actor.id, "source": file.file_name[:190]}
            for one in rows[first : first + BATCH]
        ]
        db.execute(insert(HistoryRow).prefix_with("IGNORE"), some)
    new = found.rows - found.known
    note(db, Note("site", site.id, site.employer_id, {"history": ["", f"{new} results of before"]}))
    return new


def alone_at(db: Session, site: Site) -> None:
    """Wait until nobody else changes a site's results of before, or what it says of them, to the end of the
    transaction."""
    db.execute(select(Site.id).where(Site.id == site.id).with_for_update())


def history_of(db: Session, person_id: str) -> tuple[HistoryLine, ...]:
    """Return somebody's results of before, the latest first."""
    rows = db.scalars(
        select(HistoryRow)
        .where(HistoryRow.person_id.in_(same_person(db, person_id)))
        .order_by(HistoryRow.tested_on.desc(), HistoryRow.id)
        .limit(100)
    )
    return tuple(
        HistoryLine(
            on=one.tested_on.isoformat(),
            model=one.model,
            size=one.size,
            method=one.method,
            result=one.result,
            factor=one.factor,
            tester=one.tester,
            source=one.source,
        )
        for one in rows
    )


def _read(
    db: Session, clock: Clock, actor: Actor, file: HistoryFile
) -> tuple[list[dict[str, Any]], HistoryPreview, Site]:
    site = find_site(db, actor.require("administrator"), file.site_id)
    order = order_of(db, site.employer_id, file.day_order)
    columns, cells = _cells(file)
    numbers = {row[columns["number"]].strip().casefold() for _, row in cells}
    found = select(Person.number, Person.id, Person.merged_into).where(
        Person.employer_id == site.employer_id, Person.number.in_(sorted(numbers)), Person.erased_at.is_(None)
    )
    people = {number.casefold(): into or one for number, one, into in db.execute(found)}
    today = day_in(site.zone, clock.now(db))
    rows, faults, unclear = list[dict[str, Any]](), list[HistoryFault](), 0
    for no, row in cells:
        said = {name: row[at].strip() for name, at in columns.items()}
        day = read_day(said["tested_on"], order)
        unclear += day is None and not order
        person, result = people.get(said["number"].casefold()), WORDS.get(fold_word(said["result"]))
        wrong = [
            ("number", f"nobody here has the number {said['number']!r}", person is None),
            ("tested_on", f"{said['tested_on']!r} is no day that can be read", day is None),
            ("tested_on", f"{day} has not come yet", day is not None and day > today),
            ("method", _no_method(said.get("method", "")), bool(_no_method(said.get("method", "")))),
            ("model", "which facepiece it was is missing", not said["model"]),
            ("result", f"{said['result']!r} is neither pass nor fail", result is None),
            *((name, f"longer than {most} letters", len(said.get(name, "")) > most) for name, most in LENGTHS.items()),
        ]
        mine = [HistoryFault(no, name.replace("_", " "), problem) for name, problem, is_wrong in wrong if is_wrong]
        faults += mine
        if not mine:
            plain = {name: said.get(name, "") for name in LENGTHS} | {"result": result}
            rows.append({**plain, "person_id": person, "employer_id": site.employer_id, "tested_on": day})
    for one in rows:
        one["digest"] = _digest(one)
    once = list({one["digest"]: one for one in rows}.values())
    there = select(HistoryRow.digest).where(HistoryRow.digest.in_([one["digest"] for one in once]))
    known = len(set(db.scalars(there))) if once else 0
    preview = HistoryPreview(
        rows=len(once),
        known=known,
        faults=tuple(faults[:SHOWN]),
        fault_count=len(faults),
        needs_order=unclear > 0,
        day_order=order,
    )
    return once, preview, site


def _no_method(text: str) -> str:
    """Return what is wrong with the method of a row, with the nearest ones, or nothing. An empty one is no fault: it is
    history all the same, and counts for nothing."""
    names = method_names()
    if not text or folded(text) in names:
        return ""
    return f"{text!r} is no method known here; the nearest are {', '.join(near(text, METHODS))}"


def _digest(one: Mapping[str, Any]) -> str:
    names = ("person_id", "tested_on", "model", "size", "method", "result", "factor")
    return hashlib.sha256("\n".join(str(one[name]) for name in names).encode()).hexdigest()


def _cells(file: HistoryFile) -> tuple[dict[str, int], list[tuple[int, tuple[str, ...]]]]:
    """Return which column is what, and the rows below the headings. Raises :class:`DomainError`."""
    found = opened(file.file_name, file.content, "a table")
    rows = [(number, tuple(cells)) for number, cells in found["rows"] if any(one.strip() for one in cells)]
    if len(rows) < 2:
        raise DomainError("empty_file", f"{file.file_name!r} holds no rows below its headings.")
    if len(rows) > MOST:
        raise DomainError("too_many", f"{len(rows)} rows; {MOST} are taken over in one go. Send it in parts.")
    columns = match_columns(rows[0][1], HEADINGS)
    missing = [name.replace("_", " ") for name in NEEDED if name not in columns]
    if missing:
        raise DomainError("columns_missing", f"No column is called {', '.join(missing)}. Name them in the first row.")
    width = max(columns.values()) + 1
    return columns, [(number, (*cells, *[""] * width)[: max(width, len(cells))]) for number, cells in rows[1:]]
