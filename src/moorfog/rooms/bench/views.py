"""The whole view of a visit for a screen: the core's view of it, with the names the log does not hold."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from sqlalchemy import func, or_, select, text
from sqlalchemy.orm import Session

from moorfog.core.transitions.bound import mark_of
from moorfog.core.views.terms import on_file_words
from moorfog.core.views.visit_view import VisitView
from moorfog.core.visit.state import Visit
from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import Scope
from moorfog.platform.log.summaries import VisitSummary
from moorfog.platform.log.tables import EventRow, VisitHead
from moorfog.platform.web.errors import NotFound
from moorfog.rooms.accounts.tables import Account
from moorfog.rooms.bench.visits import last_result, view_visit
from moorfog.rooms.papers.tables import DocumentRow
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.tables import Employer, Site

_SECOND = text("SECOND")


@dataclass(frozen=True)
class Meanwhile:
    """Somebody else at this site whom no clock holds up, and what comes next for them."""

    visit_id: str
    person: str
    doing: str


@dataclass(frozen=True)
class BenchView:
    """A visit on a screen: who, where, and its view. Face measures in mm, None where not measured.

    ``mark`` is what a decision made on this view names; the entry that is decided on, the visit and the person make it.
    """

    visit_id: str
    person_id: str
    mark: str
    person: str
    first_name: str
    number: str
    job: str
    task: str
    face_length: str | None
    last_result: str
    employer: str
    site: str
    zone: str
    """The site's time zone: its day counts."""
    bench: str
    opened_by: str
    """The account that opened the visit, and who that is."""
    opener: str
    has_report: bool
    late_entries: int
    meanwhile: tuple[Meanwhile, ...]
    visit: VisitView


def _meanwhile(db: Session, head: VisitHead, now: VisitView, moment: datetime) -> tuple[Meanwhile, ...]:
    """Return who could go first while a clock holds this person up; nobody where none does."""
    if now.starts_at is None or now.closed:
        return ()
    rows = db.execute(
        select(VisitSummary.visit_id, Person.name, VisitSummary.doing)
        .join(Person, Person.id == VisitSummary.person_id)
        .where(
            VisitSummary.site_id == head.site_id,
            VisitSummary.closed == "",
            VisitSummary.is_practice.is_(False),
            VisitSummary.visit_id != head.id,
            VisitSummary.opened_at > moment - timedelta(hours=12),
            or_(VisitSummary.ready_at.is_(None), VisitSummary.ready_at <= moment),
            VisitSummary.step != "test",
        )
        .order_by(VisitSummary.opened_at)
        .limit(3)
    )
    return tuple(Meanwhile(*row) for row in rows)


TURNED_AWAY = "Ask the tester why."


def without_health(shown: BenchView) -> BenchView:
    """Return a visit for whoever plans the work: what was asked and answered, and what is on file, is left out."""
    visit = shown.visit
    kept = tuple(one for one in visit.signed_under if one != on_file_words(visit.on_file))
    left = replace(visit, queue=(), behind=(), looks=(), in_the_way=None, on_file="", signed_under=kept)
    return replace(shown, visit=replace(left, turned_away=TURNED_AWAY if visit.turned_away else ""))


def view_for_screen(
    db: Session, clock: Clock, scope: Scope, visit_id: str, keep: Callable[[Visit], None] = lambda visit: None
) -> BenchView:
    """Return a visit for a screen; its state is handed to ``keep``. Raises :class:`NotFound` outside the scope."""
    head, visit, now = view_visit(db, clock, scope, visit_id)
    keep(visit)
    person = db.get(Person, visit.person_id)
    site, employer = db.get(Site, head.site_id), db.get(Employer, head.employer_id)
    if person is None or site is None or employer is None:
        raise NotFound("visit")
    last = last_result(db, person.id, visit_id)
    report = db.scalar(
        select(DocumentRow.id).where(DocumentRow.visit_id == visit_id, DocumentRow.revision == visit.revision).limit(1)
    )
    late_s = visit.rules.book.number("late.maximum")
    late = db.scalar(
        select(func.count())
        .select_from(EventRow)
        .where(
            EventRow.visit_id == visit_id,
            func.timestampdiff(_SECOND, EventRow.occurred_at, EventRow.recorded_at) > int(late_s),
        )
    )
    opening = select(EventRow.actor, Account.name).outerjoin(Account, Account.id == EventRow.actor)
    opened_by, opener = db.execute(opening.where(EventRow.visit_id == visit_id, EventRow.seq == 1)).one()
    result = f"last: {last}" if last else "no earlier test on record"
    return BenchView(
        visit_id=visit_id,
        person_id=person.id,
        mark=mark_of(visit_id, visit),
        person=person.name,
        first_name=person.name.split()[0],
        number=person.number,
        job=person.job,
        task=person.task,
        face_length=f"{person.face_length / 10:.1f}" if person.face_length else None,
        last_result=result,
        employer=employer.name,
        site=site.name,
        zone=site.zone,
        bench=visit.opened.bench if visit.opened else "",
        opened_by=opened_by,
        opener=opener or "",
        has_report=report is not None,
        late_entries=late or 0,
        meanwhile=_meanwhile(db, head, now, clock.now(db)),
        visit=now,
    )
