"""Kit found wrong: what is entered when a check fails, and what is suspended by it at once."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal

from sqlalchemy import and_, exists, or_, select
from sqlalchemy.orm import Session

from moorfog.platform.db.base import new_id
from moorfog.platform.log.same import Entries
from moorfog.platform.log.summaries import TryKit, TryResult
from moorfog.rooms.kit.tables import KitRecall, RecallSettled

SUSPENDING = ("open", "confirmed")
"""States in which what rests on the kit is suspended."""
KitKind = Literal["instrument", "nebuliser", "lot", "part", "approval"]


def to_the_minute(moment: str) -> str:
    """Write a moment, given as text, for whoever reads it: to the minute, in universal time."""
    return f"{moment[:10]} {moment[11:16]} UTC"


@dataclass(frozen=True)
class Found:
    """Kit found wrong: which, by which check, in words, since when that check had last held (None: never)."""

    kit_kind: KitKind
    kit_id: str
    kit_name: str
    check_name: str
    what: str
    employer_id: str | None
    since: datetime | None
    until: datetime


@dataclass(frozen=True)
class Suspension:
    """A try that rests on kit found wrong: whose, which, and what was found, in words."""

    person_id: str
    visit_id: str
    no: int
    what: str


def open_recall(db: Session, found: Found, opened_by: str) -> KitRecall:
    """Enter a failure into the ledger, in the transaction that found it; one that is open already reaches on to it.

    One that some employer has settled for its own does not: what was said of it says nothing of a new failure.
    """
    same = select(KitRecall).where(
        KitRecall.kit_id == found.kit_id,
        KitRecall.check_name == found.check_name,
        KitRecall.state == "open",
        KitRecall.since.is_(None) if found.since is None else KitRecall.since == found.since,
        ~exists().where(RecallSettled.recall_id == KitRecall.id),
    )
    known = db.scalar(same.with_for_update())
    if known is not None:
        known.until, known.what = max(known.until, found.until), found.what[:400]
        db.flush()
        return known
    row = KitRecall(
        id=new_id(),
        kit_kind=found.kit_kind,
        kit_id=found.kit_id,
        kit_name=found.kit_name[:190],
        check_name=found.check_name,
        what=found.what[:400],
        employer_id=found.employer_id,
        since=found.since,
        until=found.until,
        state="open",
        opened_by=opened_by[:80],
    )
    db.add(row)
    db.flush()
    return row


def cleared_by(employer: Any) -> Any:
    """Return the condition that an employer's people have cleared an entry of shared kit, for its own tests."""
    return exists().where(
        RecallSettled.recall_id == KitRecall.id,
        RecallSettled.employer_id == employer,
        RecallSettled.state == "cleared",
    )


def suspensions_of(db: Session, people: Entries) -> dict[str, list[Suspension]]:
    """Return the tries of each of these people that rest on kit found wrong and not cleared."""
    query = (
        select(TryResult.person_id, TryKit.visit_id, TryKit.no, KitRecall.what)
        .join(TryKit, and_(TryKit.visit_id == TryResult.visit_id, TryKit.no == TryResult.no))
        .join(
            KitRecall,
            and_(
                KitRecall.kit_id == TryKit.kit_id,
                TryKit.tested_at <= KitRecall.until,
                or_(KitRecall.since.is_(None), TryKit.tested_at > KitRecall.since),
            ),
        )
        .where(
            TryResult.person_id.in_(people.entries),
            KitRecall.state.in_(SUSPENDING),
            ~cleared_by(TryKit.employer_id),
        )
    )
    return people.sort([Suspension(*row) for row in db.execute(query)])
