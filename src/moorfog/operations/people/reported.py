"""What was reported of a person, as facts for the core's one answer."""

from __future__ import annotations

from typing import Literal

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import instant
from moorfog.core.permission.may_wear import Report
from moorfog.store.models import ClearanceRow
from moorfog.store.models_programme import ChangeReport
from moorfog.store.same import same_person

SaidBy = Literal["wearer", "supervisor", "clinician", "tester", "other"]
SAID_BY: dict[str, str] = {
    "wearer": "the wearer",
    "supervisor": "a supervisor",
    "clinician": "a clinician",
    "tester": "a tester",
    "other": "somebody else",
}


def report_facts(db: Session, person_id: str) -> tuple[tuple[Report, ...], tuple[tuple[str, str], ...]]:
    """Return the reports of a person that stand, and their clearances as "cleared": when filed, from which
    day."""
    ids = same_person(db, person_id)
    rows = db.scalars(select(ChangeReport).where(ChangeReport.person_id.in_(ids), ChangeReport.withdrawn_at.is_(None)))
    reports = tuple(
        Report(
            kind=row.kind,
            at=instant(row.entered_at if row.kind == "health" else row.doubted_from),
            on=row.on_day.isoformat(),
            by=SAID_BY[row.said_by],
            configuration=row.configuration,
        )
        for row in rows
    )
    cleared = db.execute(
        select(ClearanceRow.entered_at, ClearanceRow.valid_from).where(
            ClearanceRow.person_id.in_(ids), ClearanceRow.status == "cleared"
        )
    )
    return reports, tuple((instant(filed), begins.isoformat()) for filed, begins in cleared)
