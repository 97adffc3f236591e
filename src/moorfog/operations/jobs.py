"""Long jobs: made by a request, done by a worker, with progress, and cancelled without a trace."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import Engine, or_, select, update
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

from moorfog.core.kernel.codec import encode
from moorfog.operations.accounts.sessions import READERS, Actor, load_actor
from moorfog.operations.errors import DomainError, NotFound
from moorfog.operations.people.crews import CrewAsked
from moorfog.operations.people.roster import Progress, run_import
from moorfog.operations.people.roster_file import RosterFile
from moorfog.operations.records.crew_papers import CardsWanted, run_cards, run_list, start_cards, start_list
from moorfog.operations.records.erasing import run_erasures, start_erasures
from moorfog.operations.records.recall import new_job, run_recall
from moorfog.store.base import RETRY_CODES, error_code, run_in_transaction
from moorfog.store.clock import Clock, DatabaseClock
from moorfog.store.ledger import Doing, at_work
from moorfog.store.models import Account, Job, Site
from moorfog.store.models_programme import JobFile

STALE = timedelta(seconds=30)
MOST_ATTEMPTS = 3
"""How often a job is taken up; one that has ended its worker as often is parked."""
TELL_EVERY_S = 0.3
PARKED = (
    f"Its worker ended {MOST_ATTEMPTS} times over it, so it is not tried again. "
    "Show it to whoever looks after the program."
)
log = logging.getLogger("moorfog.jobs")
KINDS: dict[str, Callable[[Session, Actor, str, Progress, str], str]] = {
    "roster": lambda db, actor, content, tell, _: run_import(db, actor, content, tell),
    "cards": run_cards,
    "crew_list": run_list,
}
"""Done in one transaction: all of it or nothing."""
STEPWISE: dict[str, Callable[[Engine, Job, Progress], str]] = {
    "clogged": run_recall,
    "reopen": run_recall,
    "erase": run_erasures,
}
"""Done step by step, each for good: taken up again where a worker died, and a cancelled one has done a part."""


class Cancelled(Exception):
    """Somebody asked for the job to end."""


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


def start_import(db: Session, clock: Clock, actor: Actor, file: RosterFile) -> JobView:
    """Make the job that imports a roster. Raises :class:`NotFound` outside the scope."""
    scope = actor.require("administrator")
    site = db.get(Site, file.site_id)
    if site is None or not scope.allows(site.employer_id):
        raise NotFound("site")
    job = new_job(db, clock, actor, "roster", site.employer_id, encode(file))
    return view_of(db, job)


def start_crew_cards(db: Session, clock: Clock, actor: Actor, wanted: CardsWanted, where: str) -> JobView:
    """Make the job that draws the cards of a crew."""
    return view_of(db, start_cards(db, clock, actor, wanted, where))


def start_crew_list(db: Session, clock: Clock, actor: Actor, asked: CrewAsked) -> JobView:
    """Make the job that draws who of a crew may wear what."""
    return view_of(db, start_list(db, clock, actor, asked))


def start_retention(db: Session, clock: Clock, actor: Actor, site_id: str) -> JobView:
    """Make the job that erases everybody whom a site no longer keeps."""
    return view_of(db, start_erasures(db, clock, actor, site_id))


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


def _tell(engine: Engine, job_id: str) -> Progress:
    """Return a progress report on a connection of its own, which raises when the job is to end."""
    last = [0.0]

    def progress(done: int, total: int) -> None:
        if done != total and time.monotonic() - last[0] < TELL_EVERY_S:
            return
        last[0] = time.monotonic()

        def work(db: Session) -> bool:
            now = DatabaseClock().now(db)
            db.execute(update(Job).where(Job.id == job_id).values(done=done, total=total, heartbeat_at=now))
            return bool(db.scalar(select(Job.wants_cancel).where(Job.id == job_id)))

        if run_in_transaction(engine, work):
            raise Cancelled

    return progress


def run_job(engine: Engine, job: Job) -> None:
    """Do a claimed job: in one transaction, or step by step where its kind says so."""
    state, message = "done", ""
    try:

        def work(db: Session) -> str:
            account = db.get(Account, job.account_id)
            if account is None:
                raise NotFound("account")
            return KINDS[job.kind](db, load_actor(db, account), job.content, _tell(engine, job.id), job.id)

        with at_work(Doing(job.account_id, f"job_{job.kind}")):
            if job.kind in STEPWISE:
                message = STEPWISE[job.kind](engine, job, _tell(engine, job.id))
            else:
                message = run_in_transaction(engine, work)
    except Cancelled:
        state, message = "cancelled", "Cancelled; nothing was changed."
        if job.kind in STEPWISE:
            message = "Cancelled; what was done stays done. Mark it again to go on."
    except DomainError as error:
        state, message = "failed", error.message
    except DBAPIError as error:
        if error_code(error) in RETRY_CODES:
            raise  # the database is away: the job is taken up again when it is back
        log.exception("job %s", job.id)
        state, message = "failed", "The database refused it; nothing was changed. See the worker's log."
    except Exception as error:
        log.exception("job %s", job.id)
        undone = "what was done stays done" if job.kind in STEPWISE else "nothing was changed"
        state, message = "failed", f"It came to an error in the program ({type(error).__name__}); {undone}."
    values = {"state": state, "message": message[:400]}
    if job.kind in KINDS:  # what was sent holds names, and nobody needs it any more
        values["content"] = ""
    run_in_transaction(engine, lambda db: db.execute(update(Job).where(Job.id == job.id).values(**values)))
