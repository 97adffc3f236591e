"""The rounds of the workers: one tells the database that it goes them, and whoever watches asks when it was last."""

from __future__ import annotations

from datetime import datetime, timedelta

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from moorfog.platform.db.clock import Clock
from moorfog.platform.jobs.tables import Job, WorkerRound

TELL_EVERY = 5
"""Seconds between two rounds that are told."""
SILENT = timedelta(minutes=2)
"""After that a worker is not heard of: a round may send letters, and a mail server may be slow."""


def tell_round(db: Session, clock: Clock) -> None:
    """Say that a worker goes its rounds."""
    db.merge(WorkerRound(id=1, at=clock.now(db)))


def last_round(db: Session) -> datetime | None:
    """Return when a worker was last heard of, by a round or over a long job; None where none ever was."""
    at_job = select(func.max(Job.heartbeat_at)).where(Job.state == "running")
    seen = (db.scalar(select(WorkerRound.at).where(WorkerRound.id == 1)), db.scalar(at_job))
    return max((one for one in seen if one is not None), default=None)
