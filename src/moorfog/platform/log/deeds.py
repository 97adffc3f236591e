"""The journal: who did what to what, from what to what, and why. It is the deeds of the ledgers, beside the facts that
came of them; presses at the bench are not in it, they stand in the visits' own logs.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import timedelta
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.platform.db.clock import Clock
from moorfog.platform.log.ledger import Deed, Doing, enter_deed, say_doing
from moorfog.platform.log.tables import LedgerEntry

SEEN_AGAIN = timedelta(minutes=15)
"""Somebody who looks at the same record again so soon has seen it once."""
NOTES = "moorfog_notes"


@dataclass(frozen=True)
class Note:
    """What an operation says of what it did: to what, at which employer (empty: none), from what to what, and why."""

    kind: str
    id: str
    employer: str = ""
    changes: Mapping[str, Any] = field(default_factory=dict)
    why: str = ""


def note(db: Session, one: Note) -> None:
    """Say what is being done; it is written with the deed when the request is through, in the same transaction."""
    db.info.setdefault(NOTES, []).append(one)


def notes_of(db: Session) -> list[Note]:
    """Return what was said in this transaction."""
    found: list[Note] = db.info.get(NOTES, [])
    return found


def changed(before: Mapping[str, Any], after: Mapping[str, Any]) -> dict[str, list[Any]]:
    """Return what differs, each as [from, to]."""
    return {key: [before.get(key), value] for key, value in after.items() if before.get(key) != value}


def write(db: Session, clock: Clock, account_id: str, deed: str, one: Note) -> None:
    """Have a deed entered into the ledger of its employer when the session commits."""
    say_doing(db, Doing(account_id, deed, clock))
    content = {"changes": one.changes, "why": one.why}
    done = Deed(account_id=account_id, deed=deed, kind=one.kind, subject=one.id, ledger=one.employer, content=content)
    enter_deed(db, done)


def write_seen(db: Session, clock: Clock, account_id: str, deed: str, one: Note) -> None:
    """Write that somebody saw a record, unless they have just seen it."""
    since = clock.now(db) - SEEN_AGAIN
    last = db.scalar(
        select(LedgerEntry.at)
        .where(LedgerEntry.subject == one.id, LedgerEntry.account_id == account_id, LedgerEntry.deed == deed)
        .where(LedgerEntry.action == "deed")
        .order_by(LedgerEntry.id.desc())
        .limit(1)
    )
    if last is None or last < since:
        write(db, clock, account_id, deed, one)
