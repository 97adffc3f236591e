"""The journal: who did what to what, from what to what, and why; chained like the logs, and never changed.

Presses at the bench are not in it: they stand in the visits' own logs. What may hold a name stands beside the row and
can be erased; the row keeps its salted digest, so that the chain holds on.
"""

from __future__ import annotations

import json
import secrets
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import timedelta
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import instant
from moorfog.core.kernel.canonical import canonical_bytes, digest
from moorfog.store.clock import Clock
from moorfog.store.models_house import JournalDetail, JournalHead, JournalRow

FIRST = "0" * 64
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


def chain_of(row: JournalRow, before: str) -> str:
    """Return the chain at a row, from the chain at the row before it."""
    said = {
        "no": row.no,
        "at": instant(row.at),
        "account": row.account_id,
        "deed": row.deed,
        "kind": row.subject_kind,
        "subject": row.subject_id,
        "employer": row.employer_id,
        "detail": row.detail,
        "before": before,
    }
    return digest(canonical_bytes(said).decode())


def write(db: Session, clock: Clock, account_id: str, deed: str, one: Note) -> None:
    """Write a row. Whoever writes next waits for the end of this transaction: write last."""
    content = json.dumps({"changes": one.changes, "why": one.why}, ensure_ascii=False, sort_keys=True, default=str)
    salt = secrets.token_hex(16)
    head = db.get(JournalHead, 1, with_for_update=True, populate_existing=True)
    if head is None:
        raise RuntimeError("the journal has no head; restore a backup")
    row = JournalRow(
        no=head.no + 1,
        at=clock.now(db),
        account_id=account_id,
        deed=deed,
        subject_kind=one.kind,
        subject_id=one.id,
        employer_id=one.employer,
        detail=digest(salt + content),
        chain="",
    )
    row.at = row.at.replace(microsecond=row.at.microsecond // 1000 * 1000)
    row.chain = chain_of(row, head.chain)
    head.no, head.chain = row.no, row.chain
    db.add(row)
    db.add(JournalDetail(no=row.no, salt=salt, content=content))
    db.flush()


def write_seen(db: Session, clock: Clock, account_id: str, deed: str, one: Note) -> None:
    """Write that somebody saw a record, unless they have just seen it."""
    since = clock.now(db) - SEEN_AGAIN
    last = db.scalar(
        select(JournalRow.at)
        .where(JournalRow.subject_id == one.id, JournalRow.account_id == account_id, JournalRow.deed == deed)
        .order_by(JournalRow.no.desc())
        .limit(1)
    )
    if last is None or last < since:
        write(db, clock, account_id, deed, one)


def check_journal(db: Session) -> Iterator[tuple[str, str]]:
    """Yield what is wrong with the journal: where, and what."""
    before, no = FIRST, 0
    rows = select(JournalRow, JournalDetail).outerjoin(JournalDetail, JournalDetail.no == JournalRow.no)
    for row, detail in db.execute(rows.order_by(JournalRow.no).execution_options(yield_per=1000)):
        where = f"entry {row.no}"
        if row.no != no + 1:
            yield where, f"entries {no + 1} to {row.no - 1} before it are gone"
        if row.chain != chain_of(row, before):
            yield where, "it is not what was written"
        if detail is not None and digest(detail.salt + detail.content) != row.detail:
            yield where, "what it says was changed is not what was written"
        before, no = row.chain, row.no
    head = db.get(JournalHead, 1)
    if head is None or head.no != no or (no and head.chain != before):
        yield "its end", "entries were cut off, or its head was changed"
