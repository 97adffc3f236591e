"""The worker: does long jobs, voids runs whose readings never came, forgets old sessions. Any number may run."""

from __future__ import annotations

import logging
import signal
import threading
from functools import partial

from sqlalchemy import Engine
from sqlalchemy.exc import DBAPIError

from moorfog.operations.accounts.sessions import forget_expired
from moorfog.operations.bench.runs import void_stale_runs
from moorfog.operations.bench.screens import forget_screens, lose_screens
from moorfog.operations.jobs import claim, run_job
from moorfog.operations.people.standing import distrust_foreign, freshen_everywhere
from moorfog.operations.records.anchors import key_folder, make_anchor, printed, signing_key
from moorfog.operations.records.crew_papers import forget_files
from moorfog.operations.records.notices import tell_due, who_is_told
from moorfog.operations.records.outbox import NotSet, mail_server, send_next
from moorfog.operations.records.papers import forget_wrong_codes
from moorfog.serving.logs import set_up_logs
from moorfog.store.base import run_in_transaction
from moorfog.store.clock import Clock, DatabaseClock, take_new_time
from moorfog.store.rounds import TELL_EVERY, tell_round

PERIOD_S = 1.0
HEAD_START = 60
"""Rounds before screens are given up: after a pause of the whole program they need a moment to be heard again."""
MAILS_A_ROUND = 5
log = logging.getLogger("moorfog.worker")


def anchor(engine: Engine, clock: Clock) -> None:
    """Sign the heads of all logs, once a day; where the key cannot be had, it is said and tried again."""
    try:
        key = signing_key(key_folder())
    except (OSError, ValueError) as error:
        log.warning("no anchor: the key cannot be read or made: %s", error)
        return
    made = run_in_transaction(engine, lambda db: make_anchor(db, clock, key))
    if made is not None:
        log.info("anchor %s", printed(made))


def _send_some(engine: Engine, clock: Clock, stopping: threading.Event) -> None:
    """Send what waits in the outbox, a few in a round: no job waits long for a mail server that is slow."""
    try:
        server = mail_server()
    except NotSet as error:
        log.warning("nothing is sent: %s", error)
        return
    for _ in range(MAILS_A_ROUND):
        if server is None or stopping.is_set() or not send_next(engine, clock, server):
            return


def _tell_due(engine: Engine, clock: Clock) -> None:
    """Tell colleagues who is due, where there is a mail server to do it by."""
    try:
        if mail_server() is None:
            return
    except NotSet:
        return  # said where letters are sent
    for account in run_in_transaction(engine, who_is_told):
        told = run_in_transaction(engine, partial(tell_due, clock=clock, account_id=account))
        if told:
            log.info("%d letters about who is due", told)


def work(engine: Engine, stopping: threading.Event) -> None:
    """Do the rounds until told to stop; a database that is away is waited for."""
    clock = DatabaseClock()
    rounds, is_trusted = 0, False
    while not stopping.wait(PERIOD_S):
        try:
            if rounds % TELL_EVERY == 0:
                run_in_transaction(engine, lambda db: tell_round(db, clock))
            job = claim(engine)
            while job is not None and not stopping.is_set():
                log.info("job %s: %s", job.id, job.kind)
                run_job(engine, job)
                job = claim(engine)
            voided = run_in_transaction(engine, lambda db: void_stale_runs(db, clock))
            if voided:
                log.info("%d runs voided: no readings came", voided)
            if not is_trusted:
                run_in_transaction(engine, distrust_foreign)
                is_trusted = True
            for _ in freshen_everywhere(engine, clock):
                if stopping.is_set():
                    break
            _send_some(engine, clock, stopping)
            if rounds >= HEAD_START:
                lost = run_in_transaction(engine, lambda db: lose_screens(db, clock))
                if lost:
                    log.info("%d screens given up: not heard of since their run", lost)
            if rounds % 60 == 0:
                run_in_transaction(engine, lambda db: take_new_time(db, clock))
            if rounds % 300 == 0:
                anchor(engine, clock)
                run_in_transaction(engine, lambda db: forget_expired(db, clock))
                run_in_transaction(engine, lambda db: forget_screens(db, clock))
                run_in_transaction(engine, lambda db: forget_wrong_codes(db, clock))
                run_in_transaction(engine, lambda db: forget_files(db, clock))
                _tell_due(engine, clock)
            rounds += 1
        except DBAPIError as error:
            log.warning("the database does not answer: %s", error.orig)
        except Exception:  # one round that fails must not end the rounds
            log.exception("this round failed")


def main(engine: Engine) -> None:
    """Run the worker until SIGTERM."""
    set_up_logs()
    stopping = threading.Event()
    for one in (signal.SIGTERM, signal.SIGINT):
        signal.signal(one, lambda *_: stopping.set())
    work(engine, stopping)
