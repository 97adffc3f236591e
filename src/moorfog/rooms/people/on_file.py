"""What is on file about people, as facts for the core: of many in as many questions as of one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import Clearance, FileRead, instant
from moorfog.core.permission.may_wear import Report, clearance_on, is_open, training_on
from moorfog.platform.log.same import Entries, entries_of
from moorfog.rooms.people.tables import ChangeReport, ClearanceRow, TrainingRow

SaidBy = Literal["wearer", "supervisor", "clinician", "tester", "other"]
SAID_BY: dict[str, str] = {
    "wearer": "the wearer",
    "supervisor": "a supervisor",
    "clinician": "a clinician",
    "tester": "a tester",
    "other": "somebody else",
}


@dataclass(frozen=True)
class OnFile:
    """Of one person: clearances in the order they were filed, days of training, reports of change that stand, and the
    clearances as "cleared", each with the moment it was filed and the day it begins."""

    clearances: tuple[Clearance, ...]
    trained: tuple[str, ...]
    reports: tuple[Report, ...]
    cleared: tuple[tuple[str, str], ...]


def clearance_of(row: ClearanceRow) -> Clearance:
    """Return a stored clearance by value."""
    until = row.valid_until.isoformat() if row.valid_until else ""
    status: Any = row.status
    return Clearance(
        status=status,
        limits=tuple(row.limits),
        valid_from=row.valid_from.isoformat(),
        valid_until=until,
        by=row.by_whom,
    )


def _report(row: ChangeReport) -> Report:
    return Report(
        kind=row.kind,
        at=instant(row.entered_at if row.kind == "health" else row.doubted_from),
        on=row.on_day.isoformat(),
        by=SAID_BY[row.said_by],
        configuration=row.configuration,
    )


def _cleared(row: ClearanceRow) -> tuple[str, str]:
    return instant(row.entered_at), row.valid_from.isoformat()


def on_file(db: Session, people: Entries) -> dict[str, OnFile]:
    """Return what is on file of each of these people, in three questions, whatever entry of theirs it was filed on."""
    ids = people.entries
    filed = select(ClearanceRow).where(ClearanceRow.person_id.in_(ids))
    clearances = people.sort(db.scalars(filed.order_by(ClearanceRow.entered_at, ClearanceRow.id)))
    days = select(TrainingRow).where(TrainingRow.person_id.in_(ids), TrainingRow.withdrawn_at.is_(None))
    days = days.order_by(TrainingRow.trained_on)
    trained = people.sort(db.scalars(days))
    said = select(ChangeReport).where(ChangeReport.person_id.in_(ids), ChangeReport.withdrawn_at.is_(None))
    reports = people.sort(db.scalars(said.order_by(ChangeReport.entered_at)))
    return {
        one: OnFile(
            clearances=tuple(map(clearance_of, clearances[one])),
            trained=tuple(row.trained_on.isoformat() for row in trained[one]),
            reports=tuple(map(_report, reports[one])),
            cleared=tuple(_cleared(row) for row in clearances[one] if row.status == "cleared"),
        )
        for one in people.asked
    }


def _counting(found: OnFile, day: str) -> Clearance | None:
    """Return the clearance that counts on a day; where a change of health was reported since they were cleared, it is
    pending until the clinician speaks."""
    one = clearance_on(found.clearances, day)
    if one is not None and one.status == "cleared" and any(is_open(each, found.cleared, day) for each in found.reports):
        return replace(one, status="pending")
    return one


def file_on(db: Session, person_id: str, day: str) -> FileRead:
    """Return what is on a person's file on a day at their site, by value: the clearance and the training that count."""
    found = on_file(db, entries_of(db, [person_id]))[person_id]
    return FileRead(_counting(found, day), training_on(found.trained, day), day)


def clearances_on(db: Session, ids: Sequence[str], day: str) -> dict[str, Clearance]:
    """Return the clearance that counts on a day of each of these people who has any."""
    counts = {one: _counting(found, day) for one, found in on_file(db, entries_of(db, ids)).items()}
    return {one: clearance for one, clearance in counts.items() if clearance is not None}
