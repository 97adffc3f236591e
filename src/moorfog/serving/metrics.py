"""Numbers by which an installation is watched, within what somebody may see."""

from __future__ import annotations

import time
from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import func, select, text
from sqlalchemy.orm import Session

from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import within
from moorfog.platform.jobs.rounds import last_round
from moorfog.platform.jobs.tables import Job
from moorfog.platform.log.summaries import VisitSummary
from moorfog.platform.log.tables import Lease, LedgerHead, VisitHead
from moorfog.platform.web.actor import READERS, Actor
from moorfog.rooms.kit.tables import InstrumentRow

FRESH = timedelta(seconds=15)


@dataclass(frozen=True)
class Metric:
    """A number: its name as Prometheus has it, what it is, and its value."""

    name: str
    what: str
    value: float


def metrics(db: Session, clock: Clock, actor: Actor) -> tuple[Metric, ...]:
    """Return the numbers, counted over the employers of the actor where they are of employers."""
    scope, now = actor.require(*READERS), clock.now(db)
    began = time.perf_counter()
    db.execute(text("SELECT 1"))
    answered = time.perf_counter() - began

    def count(query: object) -> float:
        return float(db.scalar(query) or 0)  # type: ignore[call-overload]

    visits = select(func.count()).select_from(VisitSummary).where(VisitSummary.closed == "")
    runs = select(func.count()).select_from(Lease).join(VisitHead, VisitHead.id == Lease.visit_id)
    questions = select(func.count()).select_from(VisitSummary).where(VisitSummary.under_question.is_(True))
    heard = select(func.count()).select_from(InstrumentRow).where(InstrumentRow.seen_at > now - FRESH)
    jobs = select(func.count()).select_from(Job)
    entries = select(func.sum(LedgerHead.no))
    heard_of = last_round(db)
    silence = (now - heard_of).total_seconds() if heard_of is not None else float("inf")
    return (
        Metric("moorfog_database_seconds", "How long the database took to answer", answered),
        Metric("moorfog_worker_silent_seconds", "How long ago a worker was last heard of", max(silence, 0.0)),
        Metric("moorfog_open_visits", "People at a bench", count(within(visits, scope, VisitSummary.employer_id))),
        Metric("moorfog_running_runs", "Runs that go on", count(within(runs, scope, VisitHead.employer_id))),
        Metric(
            "moorfog_records_in_question",
            "Signed records that somebody must look at again",
            count(within(questions, scope, VisitSummary.employer_id)),
        ),
        Metric(
            "moorfog_linked_instruments",
            "Instruments heard of in the last seconds",
            count(within(heard, scope, InstrumentRow.employer_id, kit=InstrumentRow.id)),
        ),
        Metric(
            "moorfog_waiting_jobs",
            "Long jobs that wait or go on",
            count(within(jobs.where(Job.state.in_(("waiting", "running"))), scope, Job.employer_id)),
        ),
        Metric(
            "moorfog_parked_jobs",
            "Long jobs that ended their worker again and again",
            count(within(jobs.where(Job.state == "parked"), scope, Job.employer_id)),
        ),
        Metric("moorfog_ledger_entries", "Entries of the ledgers", count(within(entries, scope, LedgerHead.ledger))),
    )
