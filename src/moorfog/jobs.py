"""Long jobs: made by a request, done by a worker, with progress, and cancelled without a trace."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable

from sqlalchemy import Engine, select, update
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

from moorfog.platform.db.base import RETRY_CODES, error_code, run_in_transaction
from moorfog.platform.db.clock import DatabaseClock
from moorfog.platform.jobs.tables import Job
from moorfog.platform.log.ledger import Doing, at_work
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.errors import DomainError, NotFound
from moorfog.rooms.accounts.sessions import load_actor
from moorfog.rooms.accounts.tables import Account
from moorfog.rooms.crews.crew_papers import run_cards, run_list
from moorfog.rooms.people.roster import Progress, run_import
from moorfog.rooms.person.erasing import run_erasures
from moorfog.rooms.records.recall import run_recall

TELL_EVERY_S = 0.3
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
