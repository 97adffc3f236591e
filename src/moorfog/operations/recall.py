"""Kit found wrong afterwards: every test made with it since it was last seen to be right is void, and must be repeated.

A nebuliser found clogged, since it was last seen to spray; an instrument that failed a check, since that check last
passed.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Engine, and_, func, select
from sqlalchemy.orm import Session, aliased

from moorfog.core import events as ev
from moorfog.core.canonical import digest
from moorfog.core.codec import encode
from moorfog.core.events import instant, parse_instant
from moorfog.core.judge import outcome
from moorfog.core.trying import find_try
from moorfog.operations.accounts import READERS, Actor
from moorfog.operations.errors import DomainError
from moorfog.operations.kit import find_instrument
from moorfog.operations.paging import cut_to_page
from moorfog.operations.solutions import TEST, find_nebuliser, note_spray
from moorfog.operations.visits import append
from moorfog.store.base import Clock, DatabaseClock, new_id, run_in_transaction
from moorfog.store.log import load_visit, lock_head
from moorfog.store.models import Employer, InstrumentCheckRow, Job, Person, SprayCheckRow, TryKit, TryResult
from moorfog.store.scope import Scope, within

Progress = Callable[[int, int], None]
NEVER = "1970-01-01T00:00:00.000Z"


@dataclass(frozen=True)
class RecallRow:
    """A test made with kit found wrong afterwards: whose, where, what became of it."""

    visit_id: str
    person_id: str
    person: str
    number: str
    employer: str
    model: str
    size: str
    tested_at: str
    outcome: str
    has_passed_since: bool


@dataclass(frozen=True)
class RecallPage:
    """One page of those who must come back; ``since`` empty where the kit was never seen to be right before."""

    since: str
    until: str
    rows: tuple[RecallRow, ...]
    total: int
    page: int
    pages: int


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


def last_good_check(db: Session, nebuliser_id: str, before: datetime) -> datetime | None:
    """Return when a nebuliser was last seen to spray before a moment, None where never."""
    return db.scalar(
        select(func.max(SprayCheckRow.checked_at)).where(
            SprayCheckRow.nebuliser_id == nebuliser_id,
            SprayCheckRow.sprays.is_(True),
            SprayCheckRow.checked_at < before,
        )
    )


def mark_clogged(db: Session, clock: Clock, actor: Actor, nebuliser_id: str) -> Job:
    """Mark a nebuliser as clogged, and make the job that voids every test with it since its last good check.

    Raises :class:`NotFound` outside the scope.
    """
    row, now = find_nebuliser(db, actor.require(*TEST), nebuliser_id), clock.now(db)
    since = last_good_check(db, row.id, now)
    note_spray(db, actor, row.id, False, now)
    began = instant(since) if since is not None else NEVER
    reason = f"{row.name} was found clogged; not seen to spray since {_since_words(began)}."
    content = {"kit_id": row.id, "reason": reason, "since": began, "until": instant(now)}
    return new_job(db, clock, actor, "clogged", row.employer_id, content)


@dataclass(frozen=True)
class FailedCheck:
    """The last failed check of an instrument: which, when, and when that check passed before, None where never."""

    name: str
    value: str
    failed_at: datetime
    good_at: datetime | None


def last_failed_check(db: Session, instrument_id: str) -> FailedCheck | None:
    """Return the last failed check of an instrument, None where none ever failed."""
    checks = select(InstrumentCheckRow).where(InstrumentCheckRow.instrument_id == instrument_id)
    order = InstrumentCheckRow.checked_at.desc()
    failed = db.scalar(checks.where(InstrumentCheckRow.passed.is_(False)).order_by(order).limit(1))
    if failed is None:
        return None
    good = db.scalar(
        checks.where(
            InstrumentCheckRow.passed.is_(True),
            InstrumentCheckRow.name == failed.name,
            InstrumentCheckRow.checked_at < failed.checked_at,
        )
        .order_by(order)
        .limit(1)
    )
    return FailedCheck(failed.name, failed.value, failed.checked_at, good.checked_at if good is not None else None)


def reopen_since_good(db: Session, clock: Clock, actor: Actor, instrument_id: str) -> Job:
    """Make the job that voids every test with an instrument between its last failed check and the good one before it.

    Raises :class:`DomainError` where no check has failed, :class:`NotFound` outside the scope.
    """
    row = find_instrument(db, actor.require("tester", "administrator"), instrument_id)
    failed = last_failed_check(db, row.id)
    if failed is None:
        raise DomainError("nothing_failed", f"No check of {row.name} has failed. Record the check's value first.")
    began = instant(failed.good_at) if failed.good_at is not None else NEVER
    name = failed.name.replace("_", " ")
    last = f"last passed {began[:10]} {began[11:16]} UTC" if failed.good_at is not None else "it never passed before"
    reason = f"{row.name}: the {name} check failed with {failed.value}; {last}."
    content = {"kit_id": row.id, "reason": reason, "since": began, "until": instant(failed.failed_at)}
    return new_job(db, clock, actor, "reopen", row.employer_id, content)


def list_instrument_recall(db: Session, clock: Clock, actor: Actor, instrument_id: str, page: int) -> RecallPage:
    """Return the tests with an instrument between its last failed check and the good one before it."""
    scope = actor.require(*READERS)
    row = find_instrument(db, scope, instrument_id)
    failed = last_failed_check(db, row.id)
    if failed is None:
        return RecallPage("", "", (), 0, 1, 1)
    return tests_with(db, scope, row.id, failed.good_at, failed.failed_at, page)


def run_recall(engine: Engine, job: Job, tell: Progress) -> str:
    """Void test after test, each in a transaction of its own: a job taken up again goes on where it was.

    Returns the message of the finished job.
    """
    content = json.loads(job.content)
    since, until = parse_instant(content["since"], "since"), parse_instant(content["until"], "until")
    query = (
        select(TryKit.visit_id, TryResult.run_id)
        .join(TryResult, and_(TryResult.visit_id == TryKit.visit_id, TryResult.no == TryKit.no))
        .where(TryKit.kit_id == content["kit_id"], TryKit.tested_at > since, TryKit.tested_at <= until)
        .order_by(TryKit.tested_at)
    )
    affected = run_in_transaction(engine, lambda db: [tuple(row) for row in db.execute(query)])
    reason = content["reason"]
    voided = 0
    for number, (visit_id, run_id) in enumerate(affected):
        tell(number, len(affected))

        def work(db: Session, visit_id: str = visit_id, run_id: str = run_id) -> bool:
            return void_try(db, DatabaseClock(), job.account_id, visit_id, run_id, reason)

        voided += run_in_transaction(engine, work)
    tell(len(affected), len(affected))
    return f"{voided} voided now, {len(affected)} tests since {_since_words(content['since'])} are void."


def _since_words(since: str) -> str:
    return "it was first used" if since == NEVER else f"{since[:10]} {since[11:16]} UTC"


def void_try(db: Session, clock: Clock, account_id: str, visit_id: str, run_id: str, reason: str) -> bool:
    """Void a try: an open visit's by an entry of its log, a closed one's by a correction, which must be signed again.

    Returns whether it was not void before.
    """
    head = lock_head(db, visit_id)
    visit = load_visit(db, head) if head is not None else None
    one = find_try(visit, run_id) if visit is not None else None
    if head is None or visit is None or one is None or outcome(visit, one)[0] == "void":
        return False
    payload: ev.Payload = ev.RunVoided(run_id, reason)
    if visit.closed:
        payload = ev.Corrected(one.seq, reason, void_run=run_id)
    at = max(clock.now(db), visit.last_at or clock.now(db))
    append(db, clock, account_id, head, visit, new_id(), payload, at, digest(encode(payload)))
    return True


def list_recall(db: Session, clock: Clock, actor: Actor, nebuliser_id: str, page: int) -> RecallPage:
    """Return the tests with a nebuliser between its last good check and its last failed one, or until now."""
    scope = actor.require(*READERS)
    row = find_nebuliser(db, scope, nebuliser_id)
    failed = db.scalar(
        select(func.max(SprayCheckRow.checked_at)).where(
            SprayCheckRow.nebuliser_id == row.id, SprayCheckRow.sprays.is_(False)
        )
    )
    until = failed or clock.now(db)
    return tests_with(db, scope, row.id, last_good_check(db, row.id, until), until, page)


def tests_with(
    db: Session, scope: Scope, kit_id: str, since: datetime | None, until: datetime, page: int
) -> RecallPage:
    """Return a page of the tests made with a piece of kit after ``since`` (None: ever) and up to ``until``."""
    again = aliased(TryResult)
    later = select(again.no).where(
        again.person_id == Person.id, again.outcome == "pass", again.tested_at > TryKit.tested_at
    )
    query = (
        select(TryResult, Person, Employer.name, later.exists().label("later"))
        .join(TryKit, and_(TryResult.visit_id == TryKit.visit_id, TryResult.no == TryKit.no))
        .join(Person, Person.id == TryResult.person_id)
        .join(Employer, Employer.id == Person.employer_id)
        .where(TryKit.kit_id == kit_id, TryKit.tested_at <= until, TryResult.is_practice.is_(False))
    )
    if since is not None:
        query = query.where(TryKit.tested_at > since)
    query = within(query, scope, TryKit.employer_id)
    shown = cut_to_page(db, query, page, TryKit.tested_at, Person.name)
    rows = tuple(
        RecallRow(
            one.visit_id,
            person.id,
            person.name,
            person.number,
            employer,
            one.model,
            one.size,
            instant(one.tested_at),
            one.outcome,
            bool(has_passed),
        )
        for one, person, employer, has_passed in shown.rows
    )
    begin = instant(since) if since is not None else ""
    return RecallPage(begin, instant(until), rows, shown.total, shown.page, shown.pages)
