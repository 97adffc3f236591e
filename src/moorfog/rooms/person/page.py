"""A person's page: what they may wear, their visits and their tries."""

from __future__ import annotations

from dataclasses import dataclass, replace

from sqlalchemy import and_, func, select
from sqlalchemy.orm import Session

from moorfog.core.advice.methods import method_words
from moorfog.core.events.payloads import Clearance, instant
from moorfog.core.kernel.days import day_in
from moorfog.core.rules.kinds import clearance_limits
from moorfog.data import facepiece_kinds
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.same import same_person
from moorfog.platform.log.summaries import TryResult, VisitSummary
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import NotFound
from moorfog.platform.web.paging import PAGE
from moorfog.rooms.people.finding import PersonRow, person_row
from moorfog.rooms.people.on_file import file_on
from moorfog.rooms.people.people import TrainingLine, face_cell, tenths_words, trainings_of
from moorfog.rooms.people.tables import MeasurementRow, Person
from moorfog.rooms.sites.tables import Employer, Site
from moorfog.rooms.today.today import VisitRow, visit_query, visit_row
from moorfog.rooms.wear.history import HistoryLine, history_of
from moorfog.rooms.wear.permissions import ENDS, Permissions, judge_permissions, usual_task
from moorfog.rooms.wear.reporting import ReportLine, reports_on


@dataclass(frozen=True)
class TryRow:
    """A try in a person's history."""

    visit_id: str
    no: int
    model: str
    size: str
    method: str
    outcome: str
    overall: str
    level: str
    tested_at: str
    is_practice: bool
    is_signed: bool


@dataclass(frozen=True)
class MeasureLine:
    """A measuring of a face, in mm, and the cell of the panel it fell in: a hint, nothing more."""

    on: str
    length: str
    width: str
    lip: str
    cell: int | None


@dataclass(frozen=True)
class NextUp:
    """What comes next for somebody: until when they may wear anything (empty: nothing now), and what ends then."""

    until: str
    ends_by: str


@dataclass(frozen=True)
class PersonView:
    """A person: what they may wear, their visits and tries. Face measures in mm, None where not measured."""

    person: PersonRow
    face_length: str | None
    face_width: str | None
    permissions: Permissions
    visits: tuple[VisitRow, ...]
    tries: tuple[TryRow, ...]
    visits_total: int
    contact: str
    clearance: Clearance | None
    trained_on: str
    trainings: tuple[TrainingLine, ...]
    """Every training on file, the withdrawn ones with why."""
    clearance_limits: tuple[str, ...]
    """What a clearance may be limited to."""
    left_on: str
    reports: tuple[ReportLine, ...]
    erased_on: str
    """When their personal data were erased, empty where they are there."""
    zone: str
    """The time zone of their site: its day counts."""
    next_up: NextUp
    history: tuple[HistoryLine, ...]
    """Results of before, which nobody here judged."""
    measures: tuple[MeasureLine, ...]
    """Their face as it was measured, the last first."""
    merged_into: str
    """The entry this one was made part of, empty where it stands on its own."""


def without_health(one: Clearance) -> Clearance:
    """Return of a clearance that it is one, and for how long: not its limits, nor who gave it."""
    return replace(one, limits=(), by="")


def view_person(db: Session, clock: Clock, actor: Actor, person_id: str, page: int = 1) -> PersonView:
    """Return a person with permissions, a page of visits and the latest tries. Raises :class:`NotFound`."""
    scope = actor.require(*READERS)
    person = db.get(Person, person_id)
    if person is None or not scope.allows(person.employer_id):
        raise NotFound("person")
    site, employer = db.get(Site, person.site_id), db.get(Employer, person.employer_id)
    zone = site.zone if site else "UTC"
    on = day_in(zone, clock.now(db))
    file = file_on(db, person.id, on.isoformat())
    sees_health = actor.sees_health(person.employer_id)
    mine = and_(VisitSummary.person_id.in_(same_person(db, person_id)), VisitSummary.closed != "mistaken")
    total = db.scalar(select(func.count()).select_from(VisitSummary).where(mine)) or 0
    visits = db.execute(
        visit_query().where(mine).order_by(VisitSummary.opened_at.desc()).limit(PAGE).offset((max(page, 1) - 1) * PAGE)
    )
    tries = db.scalars(
        select(TryResult)
        .where(TryResult.person_id.in_(same_person(db, person_id)))
        .order_by(TryResult.tested_at.desc(), TryResult.no.desc())
        .limit(PAGE)
    )
    millimetres = [
        f"{value / 10:.1f}" if value is not None else None for value in (person.face_length, person.face_width)
    ]
    permissions = judge_permissions(db, person, on.isoformat(), usual_task(db, person))
    return PersonView(
        person=person_row(person, employer.name if employer else "", site.name if site else ""),
        face_length=millimetres[0],
        face_width=millimetres[1],
        permissions=permissions,
        visits=tuple(visit_row(row) for row in visits),
        tries=tuple(
            TryRow(
                visit_id=one.visit_id,
                no=one.no,
                model=one.model,
                size=one.size,
                method=method_words(one.method),
                outcome=one.outcome,
                overall=one.overall,
                level=one.level,
                tested_at=instant(one.tested_at),
                is_practice=one.is_practice,
                is_signed=one.is_signed,
            )
            for one in tries
        ),
        visits_total=total,
        contact=person.contact,
        clearance=file.clearance if sees_health or file.clearance is None else without_health(file.clearance),
        trained_on=file.trained_on,
        trainings=trainings_of(db, person.id),
        clearance_limits=clearance_limits(facepiece_kinds()),
        erased_on=day_in(zone, person.erased_at).isoformat() if person.erased_at else "",
        reports=reports_on(db, person.id, sees_health),
        zone=zone,
        next_up=_next_up(permissions),
        history=history_of(db, person.id),
        measures=_measures(db, person.id, zone),
        left_on=person.left_on.isoformat() if person.left_on else "",
        merged_into=person.merged_into or "",
    )


def _next_up(permissions: Permissions) -> NextUp:
    """Return until when the set-up that lasts longest may be worn, and what ends then."""
    best = max((one for one in permissions.rows if one.may), key=lambda one: one.until, default=None)
    return NextUp(best.until, ENDS.get(best.ends_by, "")) if best is not None else NextUp("", "")


def _measures(db: Session, person_id: str, zone: str) -> tuple[MeasureLine, ...]:
    taken = (
        select(MeasurementRow)
        .where(MeasurementRow.person_id.in_(same_person(db, person_id)))
        .order_by(MeasurementRow.entered_at.desc(), MeasurementRow.id.desc())
        .limit(PAGE)
    )
    return tuple(
        MeasureLine(
            on=day_in(zone, row.entered_at).isoformat(),
            length=tenths_words(row.face_length),
            width=tenths_words(row.face_width),
            lip=tenths_words(row.lip_length),
            cell=face_cell(row.face_length, row.face_width),
        )
        for row in db.scalars(taken)
    )
