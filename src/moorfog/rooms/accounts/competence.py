"""What a tester has shown that they can do: by method, from and until when, and who saw it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar, Literal, get_args

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.advice.methods import WORDS, Method
from moorfog.core.events.facts import STRICT
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.errors import DomainError
from moorfog.platform.web.fields import Line, day_of
from moorfog.rooms.accounts.managing import find_account
from moorfog.rooms.accounts.tables import Competence


@dataclass(frozen=True)
class CompetenceEntry:
    """A method a tester may use from a day on, until another (empty: until it is taken back), and who saw them do it;
    or that it is taken back."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    method: Method
    begins: str
    ends: str
    shown_by: Line
    is_withdrawn: bool


@dataclass(frozen=True)
class CompetenceView:
    """A method, and what is on file of it."""

    method: str
    words: str
    state: Literal["on file", "nothing on file", "taken back"]
    begins: str
    ends: str
    shown_by: str


def _latest(db: Session, account_id: str) -> dict[str, Competence]:
    rows = db.scalars(
        select(Competence).where(Competence.account_id == account_id).order_by(Competence.entered_at, Competence.id)
    )
    return {one.method: one for one in rows}


def list_competence(db: Session, actor: Actor, account_id: str) -> tuple[CompetenceView, ...]:
    """Return every method, and what is on file of it for a colleague. Raises :class:`NotFound`."""
    find_account(db, actor, account_id)
    return tuple(_view(one, WORDS[one], _latest(db, account_id).get(one)) for one in get_args(Method))


def _view(method: str, words: str, row: Competence | None) -> CompetenceView:
    if row is None:
        return CompetenceView(method=method, words=words, state="nothing on file", begins="", ends="", shown_by="")
    state: Literal["on file", "taken back"] = "taken back" if row.is_withdrawn else "on file"
    ends = row.ends.isoformat() if row.ends is not None else ""
    return CompetenceView(
        method=method, words=words, state=state, begins=row.begins.isoformat(), ends=ends, shown_by=row.shown_by
    )


def enter_competence(db: Session, clock: Clock, actor: Actor, account_id: str, one: CompetenceEntry) -> None:
    """Put a competence on file, or take it back. Raises :class:`DomainError` with everything that is wrong."""
    find_account(db, actor, account_id)
    begins = day_of(one.begins, "from")
    ends = day_of(one.ends, "until") if one.ends else None
    if ends is not None and ends < begins:
        raise DomainError("dates", f"It would end on {ends} before it begins on {begins}.")
    if not one.shown_by.strip():
        raise DomainError("by_missing", "Say who saw them do it, or who takes it back.")
    db.add(
        Competence(
            id=new_id(),
            account_id=account_id,
            method=one.method,
            begins=begins,
            ends=ends,
            shown_by=one.shown_by.strip(),
            is_withdrawn=one.is_withdrawn,
            entered_at=clock.now(db),
        )
    )
    db.flush()
    words = "taken back" if one.is_withdrawn else f"from {begins}" + (f" until {ends}" if ends else "")
    note(db, Note("account", account_id, changes={WORDS[one.method]: ["", words]}, why=one.shown_by.strip()))


def outside(db: Session, account_id: str, day: str, *, is_required: bool) -> dict[str, str]:
    """Return the methods a tester steps outside their competence with on a day (YYYY-MM-DD), each with why, in words.

    Where nothing at all is on file of a tester and nobody requires it, nothing is said: no register is kept there.
    """
    found = _latest(db, account_id)
    if not found and not is_required:
        return {}
    out = {}
    for method in get_args(Method):
        row, words = found.get(method), WORDS[method].lower()
        if row is None:
            out[method] = f"nothing is on file that shows you can do {words}"
        elif row.is_withdrawn:
            out[method] = f"your competence in {words} was taken back"
        elif row.begins.isoformat() > day:
            out[method] = f"your competence in {words} begins on {row.begins}"
        elif row.ends is not None and row.ends.isoformat() < day:
            out[method] = f"your competence in {words} ended on {row.ends}"
    return out
