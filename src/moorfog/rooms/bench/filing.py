"""Putting something on a person's file, which counts in their open visits from the same moment on."""

from __future__ import annotations

from sqlalchemy.orm import Session

from moorfog.platform.db.clock import Clock
from moorfog.platform.web.actor import Actor
from moorfog.rooms.bench.visits import tell_open_visits
from moorfog.rooms.bench.wearer import ACTOR as WEARER
from moorfog.rooms.people.people import ClearanceEntry, TrainingEntry, record_clearance, record_training
from moorfog.rooms.people.tables import Person
from moorfog.rooms.wear.reporting import BY_CARD, ReportEntry, enter_report, report_change, withdraw_report


def file_clearance(db: Session, clock: Clock, actor: Actor, person_id: str, one: ClearanceEntry) -> None:
    """Put a clearance on file and enter it into the person's open visits. Raises as :func:`record_clearance`."""
    record_clearance(db, clock, actor, person_id, one)
    tell_open_visits(db, clock, actor.id, person_id)


def file_training(db: Session, clock: Clock, actor: Actor, person_id: str, one: TrainingEntry) -> None:
    """Put a training on file and enter it into the person's open visits. Raises as :func:`record_training`."""
    record_training(db, clock, actor, person_id, one)
    tell_open_visits(db, clock, actor.id, person_id)


def file_report(db: Session, clock: Clock, actor: Actor, person_id: str, one: ReportEntry) -> str:
    """Put a report of change on file and tell the person's open visits; return its id. Raises as
    :func:`report_change`."""
    made = report_change(db, clock, actor, person_id, one)
    tell_open_visits(db, clock, actor.id, person_id)
    return made


def file_report_by_card(db: Session, clock: Clock, person: Person, one: ReportEntry) -> None:
    """Put on file what the holder of a card reports, and tell the person's open visits."""
    enter_report(db, clock, person, one, BY_CARD)
    tell_open_visits(db, clock, WEARER, person.id)


def take_back_report(db: Session, clock: Clock, actor: Actor, report_id: str, why: str) -> None:
    """Take a report of change back and tell the person's open visits. Raises as :func:`withdraw_report`."""
    person_id = withdraw_report(db, clock, actor, report_id, why)
    tell_open_visits(db, clock, actor.id, person_id)
