"""A roster as a file: which sheet, which heading row, which column is what, and in which order its days are written."""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date
from typing import Any, ClassVar, Literal

from sqlalchemy.orm import Session

from moorfog.core.events.facts import STRICT
from moorfog.platform.text import fold_word
from moorfog.platform.uploads import Unreadable, parse_apart
from moorfog.platform.web.errors import DomainError
from moorfog.platform.web.fields import FIRST_DAY, LAST_DAY, LINE, NUMBER
from moorfog.rooms.sites.tables import Employer

FIELDS: dict[str, tuple[str, ...]] = {
    "name": ("name", "full name", "worker", "employee", "surname and name"),
    "given_name": ("given name", "first name", "forename"),
    "family_name": ("family name", "surname", "last name"),
    "number": ("number", "no", "id", "employee number", "personnel number", "staff number", "own number"),
    "site": ("site", "location", "place", "plant"),
    "job": ("job", "role", "trade", "position"),
    "task": ("task", "work", "activity"),
    "contact": ("contact", "phone", "telephone", "e-mail", "email", "mobile"),
    "cleared_on": ("cleared on", "clearance from", "medical on", "cleared"),
    "cleared_until": ("cleared until", "clearance until", "medical until"),
    "cleared_by": ("cleared by", "clearance by"),
    "trained_on": ("trained on", "training on", "trained"),
}
DAYS = ("cleared_on", "cleared_until", "trained_on")
LENGTHS = {**dict.fromkeys(FIELDS, LINE), "number": NUMBER}
HEADINGS_WITHIN = 20
"""So far down a heading row is looked for."""
ORDERS: dict[str, tuple[int, int, int]] = {"dmy": (2, 1, 0), "mdy": (2, 0, 1), "ymd": (0, 1, 2)}
Order = Literal["", "ymd", "dmy", "mdy"]
ENDINGS = {".csv": "csv", ".txt": "csv", ".tsv": "csv", ".xlsx": "xlsx", ".xls": "sheet", ".ods": "sheet"}


@dataclass(frozen=True)
class RosterFile:
    """A roster as sent: its name, its bytes as base64, and how it is read. ``columns``: which is which field (empty:
    matched by heading); ``heading_row`` as the sheet counts (0: looked for); ``encoding`` empty: recognised.

    ``skip``: rows that are not taken, by their number; ``sure``: rows of somebody new that are taken although a name
    like theirs is entered already, which otherwise nobody is; ``left``: people missing from it who are noted as left,
    on ``left_on``.
    """

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    site_id: str
    file_name: str
    content: str
    columns: dict[str, int]
    sheet: int = 0
    heading_row: int = 0
    encoding: str = ""
    day_order: Order = ""
    skip: tuple[int, ...] = ()
    sure: tuple[int, ...] = ()
    left: tuple[str, ...] = ()
    left_on: str = ""


@dataclass(frozen=True)
class Roster:
    """A roster read whole: headings with their row, and the rows below, each with its number and its cells as text."""

    headings: tuple[str, ...]
    heading_row: int
    rows: tuple[tuple[int, tuple[str, ...]], ...]
    encoding: str
    sheets: tuple[str, ...]
    sheet: int


def opened(file_name: str, content: str, what: str, *, sheet: int = 0, encoding: str = "") -> dict[str, Any]:
    """Return a table as it was sent in base64, read in a process of its own. ``what`` names it, such as "a roster".

    Raises :class:`DomainError` with why it cannot be read, and what to do.
    """
    try:
        plain = base64.b64decode(content, validate=True)
    except (binascii.Error, ValueError):
        raise DomainError("not_base64", "The file did not arrive whole. Choose it again.") from None
    kind: Any = next((kind for ending, kind in ENDINGS.items() if file_name.lower().endswith(ending)), None)
    if kind is None:
        raise DomainError("unknown_file", f"{file_name!r}: {what} is a .csv, .xlsx, .xls or .ods file.")
    try:
        return dict(parse_apart(kind, plain, sheet=sheet, encoding=encoding))
    except Unreadable as error:
        raise DomainError(error.code, error.message) from error


def read_roster(file: RosterFile) -> Roster:
    """Read a roster. Raises :class:`DomainError` with why it cannot be read, and what to do."""
    found = opened(file.file_name, file.content, "a roster", sheet=file.sheet, encoding=file.encoding)
    rows = [(number, tuple(cells)) for number, cells in found["rows"]]
    at = _heading_at(rows, file.heading_row)
    if at is None or at + 1 >= len(rows):
        raise DomainError("empty_file", f"{file.file_name!r} holds no rows below its headings.")
    return Roster(
        headings=rows[at][1],
        heading_row=rows[at][0],
        rows=tuple(rows[at + 1 :]),
        encoding=found["encoding"],
        sheets=tuple(found["sheets"]),
        sheet=found["sheet"],
    )


def _heading_at(rows: list[tuple[int, tuple[str, ...]]], wanted: int) -> int | None:
    """Return where the headings are: the row that was chosen, else the one of the first with most that are known."""
    if wanted:
        return next((at for at, (number, _) in enumerate(rows) if number == wanted), None)
    if not rows:
        return None
    scored = [(len(match_columns(cells)), -at) for at, (_, cells) in enumerate(rows[:HEADINGS_WITHIN])]
    return -max(scored)[1]


def match_columns(headings: tuple[str, ...], fields: Mapping[str, tuple[str, ...]] = FIELDS) -> dict[str, int]:
    """Return which column is which field by its heading; a heading nobody knows is left out."""
    folded = [fold_word(one) for one in headings]
    found: dict[str, int] = {}
    for field, names in fields.items():
        for name in names:
            if name in folded and folded.index(name) not in found.values():
                found[field] = folded.index(name)
                break
    return found


def read_day(text: str, order: Order) -> date | None:
    """Return the day a cell names; None where it names none, or where its order is not known and matters.

    A day written as 2026-01-31 needs no order.
    """
    found = re.findall(r"\d+", text)
    if len(found) != 3 or any(len(one) > len("2026") for one in found):
        return None
    parts = [int(one) for one in found]
    if re.fullmatch(r"\s*\d{4}\D\d{1,2}\D\d{1,2}\s*", text):
        order = "ymd"
    if not order:
        return None
    year, month, day = (parts[at] for at in ORDERS[order])
    year += 2000 if year < 100 else 0
    try:
        named = date(year, month, day)
    except ValueError:
        return None
    return named if FIRST_DAY <= named <= LAST_DAY else None


def order_of(db: Session, employer_id: str, chosen: Order) -> Order:
    """Return in which order the days of an employer's table are written: as chosen, else as it was chosen before."""
    kept: Order = db.get_one(Employer, employer_id).day_order
    return chosen or kept


def keep_order(db: Session, employer_id: str, chosen: Order) -> None:
    """Remember the order that was chosen for a table that was taken in: the next one is read by it."""
    if chosen:
        db.get_one(Employer, employer_id).day_order = chosen
