"""What the papers of a visit say, and their bytes: rendered once, stored, and ever after the same."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, replace
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.visit.steps import is_signed
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.keys import key_fingerprint
from moorfog.platform.log.log import BrokenLog, load_visit, whole_log
from moorfog.platform.log.tables import EventRow, VisitHead
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import DomainError, Forbidden, NotFound
from moorfog.rooms.accounts.tables import Account
from moorfog.rooms.bench.readings import load_readings
from moorfog.rooms.bench.tables import SignatureRow
from moorfog.rooms.bench.visits import find_head
from moorfog.rooms.papers.report import Names, PageSize, ReportView, report_view
from moorfog.rooms.papers.tables import DocumentRow
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.tables import Employer, Site


@dataclass(frozen=True)
class Drawn:
    """A signed visit as its papers say it: which, of whom, at which revision, and everything the report has."""

    visit_id: str
    person_id: str
    revision: int
    view: ReportView


def draw(db: Session, actor: Actor, visit_id: str, page_size: PageSize) -> Drawn:
    """Return what the papers of a visit's present revision say.

    Raises :class:`NotFound` outside the scope, :class:`DomainError` before both have signed.
    """
    head = find_head(db, actor.require(*READERS), visit_id)
    visit = load_visit(db, head)
    try:
        whole_log(db, head)
    except BrokenLog as error:
        raise DomainError("log_broken", f"No report is made of this: {error} Tell your administrator.") from error
    if not is_signed(visit):
        raise DomainError("not_signed", "The report is issued when wearer and tester have signed. Sign first.")
    person = db.get(Person, visit.person_id)
    site, employer = db.get(Site, head.site_id), db.get(Employer, head.employer_id)
    if person is None or site is None or employer is None:
        raise NotFound("person")
    if person.erased_at is not None:
        raise _erased()
    rows = db.scalars(
        select(SignatureRow)
        .where(SignatureRow.visit_id == visit_id, SignatureRow.revision == visit.revision)
        .order_by(SignatureRow.signed_at)
    )
    zone = ZoneInfo(site.zone)
    signed = {
        row.role: (row.role, row.typed_name, row.signed_at.astimezone(zone).strftime("%Y-%m-%d %H:%M")) for row in rows
    }
    actor_id = db.scalar(
        select(EventRow.actor)
        .where(EventRow.visit_id == visit_id, EventRow.kind.in_(("run_started", "qualitative_started")))
        .order_by(EventRow.seq.desc())
        .limit(1)
    )
    tester = db.get(Account, actor_id) if actor_id else None
    names = Names(
        person=person.name,
        number=person.number,
        employer=employer.name,
        site=site.name,
        task=visit.task.name if visit.task else person.task,
        tester=tester.name if tester else "–",
        signatures=tuple(signed.values()),
    )
    readings = {
        one.started.run_id: load_readings(db, one.started.run_id) for one in visit.tries if one.closed is not None
    }
    view = report_view(visit, visit_id, names, readings, page_size)
    key = f"{view.fine_print} The key of this installation: {key_fingerprint()}."
    view = replace(view, fine_print=key)
    return Drawn(visit_id=visit_id, person_id=person.id, revision=visit.revision, view=view)


def store_paper(db: Session, clock: Clock, drawn: Drawn, paper: str, content: bytes) -> DocumentRow:
    """Store a paper's bytes: every later print is the same file."""
    row = DocumentRow(
        id=new_id(),
        visit_id=drawn.visit_id,
        revision=drawn.revision,
        page_size=paper,
        sha256=hashlib.sha256(content).hexdigest(),
        content=content,
        issued_at=clock.now(db),
    )
    db.add(row)
    db.flush()
    return row


def kept_paper(db: Session, visit_id: str, paper: str, revision: int) -> DocumentRow | None:
    """Return a paper that was issued, or None. Raises :class:`DomainError` where it was erased with its person."""
    kept = _stored(db, visit_id, paper, revision)
    return _readable(kept) if kept is not None else None


def _stored(db: Session, visit_id: str, page_size: str, revision: int) -> DocumentRow | None:
    return db.scalar(
        select(DocumentRow).where(
            DocumentRow.visit_id == visit_id, DocumentRow.revision == revision, DocumentRow.page_size == page_size
        )
    )


CARD = "card"
"""What the card is called among the papers of a revision."""


def check_printed(db: Session, actor: Actor, visit_id: str, paper: str) -> None:
    """Raise :class:`Forbidden` where somebody wants a paper that says what a clearance allows, and may not see that:
    all but the card; :class:`NotFound` outside the scope."""
    head = find_head(db, actor.require(*READERS), visit_id)
    if paper != CARD and not actor.sees_health(head.employer_id):
        raise Forbidden("of_health", "This paper has limits of a clearance: a tester or an administrator prints it.")


def find_report(db: Session, actor: Actor, visit_id: str, page_size: str, revision: int) -> DocumentRow:
    """Return an issued paper. Raises :class:`NotFound` outside the scope or where none was issued, and as
    :func:`check_printed`."""
    check_printed(db, actor, visit_id, page_size)
    row = _stored(db, visit_id, page_size, revision)
    if row is None:
        raise NotFound("report")
    return _readable(row)


def replaced_words(db: Session, row: DocumentRow) -> str:
    """Return what is to be said across a paper that counts no more, empty for one of the present revision."""
    visit = load_visit(db, db.get_one(VisitHead, row.visit_id))
    now = visit.revision
    if row.revision == now:
        return ""
    counts = f"Revision {now} counts" if is_signed(visit) else f"Nothing counts until revision {now} is signed"
    return f"Replaced: the record was corrected. {counts}; this is revision {row.revision}, as it was issued."


def _readable(row: DocumentRow) -> DocumentRow:
    """Return a paper that is still there. Raises :class:`DomainError` where it was erased with its person."""
    if not row.content:
        raise _erased()
    return row


def _erased() -> DomainError:
    return DomainError("erased", "This paper was erased with the personal data of the one it is about.", status=410)
