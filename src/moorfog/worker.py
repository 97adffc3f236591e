"""The worker: does long jobs, voids runs whose readings never came, forgets old sessions. Any number may run."""

from __future__ import annotations

import logging
import signal
import threading
import time
from collections.abc import Callable
from functools import partial

from sqlalchemy import Engine
from sqlalchemy.orm import Session

from moorfog.jobs import run_job
from moorfog.logs import set_up_logs
from moorfog.platform.db.base import run_in_transaction
from moorfog.platform.db.clock import Clock, DatabaseClock, take_new_time
from moorfog.platform.jobs.jobs import claim, forget_files
from moorfog.platform.jobs.rounds import TELL_EVERY, tell_round
from moorfog.platform.keys import signing_key
from moorfog.platform.mail import NotSet, mail_server
from moorfog.rooms.accounts.sessions import forget_expired
from moorfog.rooms.bench.runs import give_up_run, stale_runs
from moorfog.rooms.bench.screens import forget_screens, lose_screens
from moorfog.rooms.due.notices import tell_due, who_is_told
from moorfog.rooms.mail.outbox import send_next
from moorfog.rooms.papers.papers import forget_wrong_codes
from moorfog.rooms.proof.anchors import make_anchor, printed
from moorfog.rooms.wear.standing import distrust_foreign, freshen_everywhere
from moorfog.secret_files import key_folder
from moorfog.steps import Apart, Step, Steps

PERIOD_S = 1.0
HEAD_START_S = 60.0
"""Seconds before screens are given up: after a pause of the whole program they need a moment to be heard again."""
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


def _said(words: str, count: int) -> None:
    if count:
        log.info(words, count)


def steps_of(engine: Engine, clock: Clock, stopping: threading.Event) -> list[Step]:
    """Return what a worker does again and again, and how often. Those of every second come first."""

    sites = Apart(log, time.monotonic, "working out who may wear what, site")
    runs = Apart(log, time.monotonic, "voiding a run, visit")

    def freshen() -> None:
        for _ in freshen_everywhere(engine, clock, sites):
            if stopping.is_set():
                return

    def inside(work: Callable[[Session, Clock], object]) -> Callable[[], object]:
        return lambda: run_in_transaction(engine, lambda db: work(db, clock))

    def void() -> None:
        stale, voided = run_in_transaction(engine, lambda db: stale_runs(db, clock)), 0
        for visit, run in stale:
            one = partial(give_up_run, clock=clock, visit_id=visit, run_id=run)
            voided += runs.do(visit, partial(run_in_transaction, engine, one))
        _said("%d runs voided: no readings came", voided)

    def lose() -> None:
        lost = run_in_transaction(engine, lambda db: lose_screens(db, clock))
        _said("%d screens given up: not heard of since their run", lost)

    return [
        Step("saying that there is a worker", TELL_EVERY, inside(tell_round)),
        Step("voiding runs whose readings never came", PERIOD_S, void),
        Step(
            "distrusting what another program wrote",
            PERIOD_S,
            partial(run_in_transaction, engine, distrust_foreign),
            once=True,
        ),
        Step("working out who may wear what", PERIOD_S, freshen),
        Step("sending letters", PERIOD_S, lambda: _send_some(engine, clock, stopping)),
        Step("giving screens up", PERIOD_S, lose, first=HEAD_START_S),
        Step("taking the time", 60, inside(take_new_time)),
        Step("the anchor of the day", 300, lambda: anchor(engine, clock)),
        Step("forgetting sessions", 300, inside(forget_expired)),
        Step("forgetting screens", 300, inside(forget_screens)),
        Step("forgetting wrong codes", 300, inside(forget_wrong_codes)),
        Step("forgetting files", 300, inside(forget_files)),
        Step("telling who is due", 300, lambda: _tell_due(engine, clock)),
    ]


def do_jobs(engine: Engine, stopping: threading.Event) -> None:
    """Do jobs that wait, one after the other, until told to stop: however long one takes, the steps go on."""

    def some() -> None:
        while not stopping.is_set():
            job = claim(engine)
            if job is None:
                return
            log.info("job %s: %s", job.id, job.kind)
            run_job(engine, job)

    steps = Steps(log, time.monotonic, [Step("jobs", PERIOD_S, some)])
    while not stopping.wait(PERIOD_S):
        steps.do_due()


def work(engine: Engine, stopping: threading.Event) -> None:
    """Do the steps until told to stop; a database that is away is waited for."""
    jobs = threading.Thread(target=do_jobs, args=(engine, stopping), name="jobs")
    jobs.start()
    steps = Steps(log, time.monotonic, steps_of(engine, DatabaseClock(), stopping))
    while not stopping.wait(PERIOD_S):
        steps.do_due(stopping.is_set)
    jobs.join()


def main(engine: Engine) -> None:
    """Run the worker until SIGTERM."""
    set_up_logs()
    stopping = threading.Event()
    for one in (signal.SIGTERM, signal.SIGINT):
        signal.signal(one, lambda *_: stopping.set())
    work(engine, stopping)
