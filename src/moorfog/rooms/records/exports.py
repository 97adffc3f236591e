"""Exports of a visit: the open record, its readings and its results."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.record.record import make_record, record_bytes
from moorfog.platform.log.log import load_events, load_rules, load_visit, words_beside
from moorfog.platform.web.actor import HEALTH_READERS, READERS, Actor
from moorfog.rooms.bench.readings import load_chunks, load_readings
from moorfog.rooms.bench.tables import SignatureRow
from moorfog.rooms.bench.visits import find_head
from moorfog.rooms.records.csv_tables import readings_csv, results_csv


def export_record(db: Session, actor: Actor, visit_id: str) -> bytes:
    """Return the open record of a visit as canonical JSON, one line. Raises :class:`NotFound` outside the scope."""
    head = find_head(db, actor.require(*HEALTH_READERS), visit_id)
    visit = load_visit(db, head)
    runs = [one.started.run_id for one in visit.tries if one.closed is not None]
    runs += [one.proof_stream for one in visit.tries if one.proof_stream]
    readings = {run: load_chunks(db, run) for run in runs}
    signed = select(SignatureRow.canonical).where(
        SignatureRow.visit_id == visit_id, SignatureRow.revision == visit.revision, SignatureRow.canonical != ""
    )
    statements = list(db.scalars(signed.order_by(SignatureRow.signed_at, SignatureRow.id)))
    rules, events = load_rules(db, head.rules_digest), load_events(db, visit_id)
    record = make_record(visit_id, rules, events, readings, statements, words_beside(db, visit_id))
    return record_bytes(record)


def export_readings(db: Session, actor: Actor, visit_id: str) -> str:
    """Return every reading of a visit's runs as CSV. Raises :class:`NotFound` outside the scope."""
    visit = load_visit(db, find_head(db, actor.require(*READERS), visit_id))
    return readings_csv(
        (one.no, reading)
        for one in visit.tries
        if one.closed is not None
        for reading in load_readings(db, one.started.run_id)
    )


def export_results(db: Session, actor: Actor, visit_id: str) -> str:
    """Return the tries of a visit and their exercises as CSV. Raises :class:`NotFound` outside the scope."""
    return results_csv(load_visit(db, find_head(db, actor.require(*READERS), visit_id)))
