"""The worker: does long jobs, voids runs whose readings never came, forgets old sessions. Any number may run."""

from __future__ import annotations

import logging
import signal
import threading

from sqlalchemy import Engine
from sqlalchemy.exc import DBAPIError

from moorfog.operations.accounts.sessions import forget_expired
from moorfog.operations.bench.runs import void_stale_runs
from moorfog.operations.bench.screens import forget_screens, lose_screens
from moorfog.operations.jobs import claim, run_job
from moorfog.store.base import DatabaseClock, run_in_transaction

PERIOD_S = 1.0
HEAD_START = 60
"""Rounds before screens are given up: after a pause of the whole program they need a moment to be heard again."""
log = logging.getLogger("moorfog.worker")


def work(engine: Engine, stopping: threading.Event) -> None:
    """Do the rounds until told to stop; a database that is away is waited for."""
    clock = DatabaseClock()
    rounds = 0
    while not stopping.wait(PERIOD_S):
        try:
            job = claim(engine)
            while job is not None and not stopping.is_set():
                log.info("job %s: %s", job.id, job.kind)
                run_job(engine, job)
                job = claim(engine)
            voided = run_in_transaction(engine, lambda db: void_stale_runs(db, clock))
            if voided:
                log.info("%d runs voided: no readings came", voided)
            if rounds >= HEAD_START:
                lost = run_in_transaction(engine, lambda db: lose_screens(db, clock))
                if lost:
                    log.info("%d screens given up: not heard of since their run", lost)
            if rounds % 300 == 0:
                run_in_transaction(engine, lambda db: forget_expired(db, clock))
                run_in_transaction(engine, lambda db: forget_screens(db, clock))
            rounds += 1
        except DBAPIError as error:
            log.warning("the database does not answer: %s", error.orig)
        except Exception:  # one round that fails must not end the rounds
            log.exception("this round failed")


def main(engine: Engine) -> None:
    """Run the worker until SIGTERM."""
    stopping = threading.Event()
    for one in (signal.SIGTERM, signal.SIGINT):
        signal.signal(one, lambda *_: stopping.set())
    work(engine, stopping)
