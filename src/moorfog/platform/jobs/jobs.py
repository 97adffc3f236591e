"""Long jobs: made by a request, taken up by a worker, with progress, and ended when somebody asks."""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from sqlalchemy import Engine, delete, or_, select
from sqlalchemy.orm import Session

from moorfog.platform.db.base import new_id, run_in_transaction
from moorfog.platform.db.clock import Clock, DatabaseClock
from moorfog.platform.jobs.tables import Job, JobFile
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import NotFound

STALE = timedelta(seconds=30)
MOST_ATTEMPTS = 3
"""How often a job is taken up; one that has ended its worker as often is parked."""
PARKED = (
    f"Its worker ended {MOST_ATTEMPTS} times over it, so it is not tried again. "
    "Show it to whoever looks after the program."
)
KEPT = timedelta(days=1)
"""So long a job's file is kept: it has names in it, and can be made anew."""


def new_job(db: Session, clock: Clock, actor: Actor, kind: str, employer_id: str | None, content: Any) -> Job:
    """Write down a job to be done by a worker, with what it needs as plain data."""
    job = Job(
        id=new_id(),
        kind=kind,
        state="waiting",
        done=0,
        total=0,
        wants_cancel=False,
        message="",
        employer_id=employer_id,
        account_id=actor.id,
        content=json.dumps(content),
        made_at=clock.now(db),
        heartbeat_at=None,
    )
    db.add(job)
    db.flush()
    return job


@dataclass(frozen=True)
class JobView:
    """A job as a screen shows it."""

    id: str
    kind: str
    state: str
    done: int
    total: int
    message: str
    file: str
    """Where what it made is taken away, empty where there is nothing (any more)."""


def view_of(db: Session, job: Job) -> JobView:
    """Return a job for a screen."""
    has_file = job.state == "done" and db.scalar(select(JobFile.job_id).where(JobFile.job_id == job.id)) is not None
    return JobView(
        id=job.id,
        kind=job.kind,
        state=job.state,
        done=job.done,
        total=job.total,
        message=job.message,
        file=f"/api/jobs/{job.id}/file" if has_file else "",
    )


def _find(db: Session, actor: Actor, job_id: str) -> Job:
    scope = actor.require(*READERS)
    job = db.get(Job, job_id)
    manages = actor.scope("administrator")
    if job is None or not (
        (scope.allows(job.employer_id) and job.account_id == actor.id) or manages.allows(job.employer_id)
    ):
        raise NotFound("job")
    return job


def view_job(db: Session, actor: Actor, job_id: str) -> JobView:
    """Return a job. Raises :class:`NotFound` outside the scope."""
    return view_of(db, _find(db, actor, job_id))


def cancel_job(db: Session, actor: Actor, job_id: str) -> JobView:
    """Ask a job to end; a waiting one ends at once, a finished one stays as it is."""
    job = _find(db, actor, job_id)
    job.wants_cancel = True
    if job.state == "waiting":
        job.state, job.message = "cancelled", "Cancelled; nothing was changed."
    db.flush()
    return view_of(db, job)


def claim(engine: Engine) -> Job | None:
    """Take the oldest waiting job, or one whose worker went silent."""

    def work(db: Session) -> Job | None:
        now = DatabaseClock().now(db)
        silent = (Job.state == "running") & (Job.heartbeat_at < now - STALE)
        job = db.scalar(
            select(Job)
            .where(or_(Job.state == "waiting", silent))
            .order_by(Job.made_at)
            .limit(1)
            .with_for_update(skip_locked=True)
        )
        if job is None:
            return None
        if job.attempts >= MOST_ATTEMPTS:
            job.state, job.message = "parked", PARKED
            return None
        job.state, job.heartbeat_at, job.attempts = "running", now, job.attempts + 1
        return job

    return run_in_transaction(engine, work)


def file_of(db: Session, actor: Actor, job_id: str) -> JobFile:
    """Return the file that a job of one's own made. Raises :class:`NotFound`."""
    job, file = db.get(Job, job_id), db.get(JobFile, job_id)
    if job is None or file is None or job.account_id != actor.id or not actor.require(*READERS).allows(job.employer_id):
        raise NotFound("file")
    return file


def forget_files(db: Session, clock: Clock) -> None:
    """Forget the files of jobs that were made a day ago."""
    db.execute(delete(JobFile).where(JobFile.made_at < clock.now(db) - KEPT))
