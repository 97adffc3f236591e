"""A person's whole file, as they may ask for it: what is on file, every record, every paper, who looked at it."""

from __future__ import annotations

import io
import json
from typing import Any
from zipfile import ZIP_DEFLATED, ZipFile

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import instant
from moorfog.platform.log.same import same_person
from moorfog.platform.log.summaries import VisitSummary
from moorfog.platform.printing.archive import put
from moorfog.platform.web.actor import Actor
from moorfog.rooms.bench.tables import SignatureRow
from moorfog.rooms.papers.tables import DocumentRow
from moorfog.rooms.people.people import find_person
from moorfog.rooms.people.tables import ClearanceRow, MeasurementRow, Person, TrainingRow
from moorfog.rooms.proof.journal import JournalAsked, read_journal
from moorfog.rooms.records.exports import export_record
from moorfog.rooms.sites.tables import Employer, Site

MOST_VISITS = 500
READ_ME = """What this installation has about one person.

person.json    what is on file: entry, clearances, trainings, face measurements, signatures, who looked at it
records/       every visit as an open record; docs/formats/record.md says how it is read
papers/        every paper that was issued, as it was issued
"""


def person_file(db: Session, actor: Actor, person_id: str) -> bytes:
    """Return a person's whole file as a ZIP archive. Raises :class:`NotFound` outside the administrator's scope."""
    person = find_person(db, actor.require("administrator"), person_id)
    ids = same_person(db, person.id)
    visits = db.scalars(
        select(VisitSummary.visit_id)
        .where(VisitSummary.person_id.in_(ids))
        .order_by(VisitSummary.opened_at, VisitSummary.visit_id)
        .limit(MOST_VISITS)
    ).all()
    out = io.BytesIO()
    with ZipFile(out, "w", ZIP_DEFLATED) as archive:
        put(archive, "read-me.txt", READ_ME)
        about = json.dumps(_about(db, actor, person, ids, visits), ensure_ascii=False, indent=1, sort_keys=True)
        put(archive, "person.json", about)
        for visit_id in visits:
            put(archive, f"records/{visit_id}.json", export_record(db, actor, visit_id))
            for paper in db.scalars(
                select(DocumentRow).where(DocumentRow.visit_id == visit_id, DocumentRow.content != b"")
            ):
                put(archive, f"papers/{visit_id}-{paper.revision}-{paper.page_size}.pdf", paper.content)
    return out.getvalue()


def _about(db: Session, actor: Actor, person: Person, ids: Any, visits: Any) -> dict[str, Any]:
    entries = db.execute(
        select(Person, Site.name, Employer.name)
        .join(Site, Site.id == Person.site_id)
        .join(Employer, Employer.id == Person.employer_id)
        .where(Person.id.in_(ids))
    )
    return {
        "entries": [
            {
                "id": one.id,
                "name": one.name,
                "number": one.number,
                "job": one.job,
                "task": one.task,
                "contact": one.contact,
                "site": site,
                "employer": employer,
                "face_length_mm": one.face_length / 10 if one.face_length else None,
                "face_width_mm": one.face_width / 10 if one.face_width else None,
                "left_on": str(one.left_on or ""),
                "is_part_of": one.merged_into or "",
            }
            for one, site, employer in entries
        ],
        "clearances": [
            {
                "status": one.status,
                "limits": one.limits,
                "from": str(one.valid_from),
                "until": str(one.valid_until or ""),
                "by": one.by_whom,
                "entered_at": instant(one.entered_at),
            }
            for one in db.scalars(select(ClearanceRow).where(ClearanceRow.person_id.in_(ids)))
        ],
        "trainings": [
            {"on": str(one.trained_on), "what": one.what, "entered_at": instant(one.entered_at)}
            for one in db.scalars(select(TrainingRow).where(TrainingRow.person_id.in_(ids)))
        ],
        "measurements": [
            {"readings_mm": one.readings, "entered_at": instant(one.entered_at)}
            for one in db.scalars(select(MeasurementRow).where(MeasurementRow.person_id.in_(ids)))
        ],
        "signatures": [
            {"visit": one.visit_id, "role": one.role, "name": one.typed_name, "at": instant(one.signed_at)}
            for one in db.scalars(select(SignatureRow).where(SignatureRow.visit_id.in_(visits)))
        ],
        "journal": [
            {"at": one.at, "who": one.who, "deed": one.deed, "changes": list(one.changes), "why": one.why}
            for one in read_journal(db, actor, JournalAsked(subject=person.id)).rows
        ],
    }
