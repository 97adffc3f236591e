"""Kit found wrong afterwards: a ledger of what failed, by kit and check, and of what rests on it since its last good.

A failure suspends at once every permission that rests on a test made since that very check last held. A person then
confirms it, which voids those tests one by one, or clears it with a reason. Nothing here is ever deleted.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, ClassVar, Literal

from sqlalchemy import ColumnElement, Engine, and_, exists, func, or_, select, true
from sqlalchemy.orm import Session, aliased

from moorfog.core.events import payloads as ev
from moorfog.core.events.facts import STRICT
from moorfog.core.events.payloads import instant, parse_instant
from moorfog.core.kernel.canonical import digest
from moorfog.core.kernel.codec import encode
from moorfog.core.visit.outcomes import outcome
from moorfog.core.visit.tries import find_try
from moorfog.platform.db.base import new_id, run_in_transaction
from moorfog.platform.db.clock import Clock, DatabaseClock
from moorfog.platform.db.scope import Scope, within
from moorfog.platform.db.tables import KitLent
from moorfog.platform.jobs.jobs import new_job
from moorfog.platform.jobs.tables import Job
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.log.log import load_visit, lock_head
from moorfog.platform.log.summaries import TryKit, TryResult
from moorfog.platform.log.tables import VisitHead
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import Conflict, DomainError, NotFound
from moorfog.platform.web.fields import Why
from moorfog.platform.web.paging import cut_to_page
from moorfog.rooms.bench.visits import append
from moorfog.rooms.kit.found_wrong import Found, open_recall, to_the_minute
from moorfog.rooms.kit.nebulisers import find_nebuliser, not_spraying, note_spray
from moorfog.rooms.kit.solutions import TEST
from moorfog.rooms.kit.tables import KitRecall, RecallSettled
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.tables import Employer

Progress = Callable[[int, int], None]
NEVER = "1970-01-01T00:00:00.000Z"


@dataclass(frozen=True)
class Settle:
    """What a person says of kit found wrong: it is so (its tests are void), or it is not; with a reason."""

    __pydantic_config__: ClassVar[Any] = STRICT
    decision: Literal["confirm", "clear"]
    reason: Why


@dataclass(frozen=True)
class RecallView:
    """An entry of the ledger. ``tests`` rest on it; ``since`` empty where the check never held before."""

    id: str
    kit_kind: str
    kit_id: str
    kit_name: str
    check_name: str
    what: str
    since: str
    until: str
    state: str
    tests: int
    settled_by: str
    settled_at: str | None
    reason: str
    job_id: str | None


@dataclass(frozen=True)
class LedgerPage:
    """One page of the ledger, what is open first, the newest first."""

    rows: tuple[RecallView, ...]
    total: int
    page: int
    pages: int


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


def _resting(row: KitRecall) -> Any:
    """Return the condition that a try was made with the kit since its last good check and up to its failure."""
    on_it = and_(TryKit.kit_id == row.kit_id, TryKit.tested_at <= row.until)
    return and_(on_it, TryKit.tested_at > row.since) if row.since is not None else on_it


def _concerns(scope: Scope) -> ColumnElement[bool]:
    """Return the condition that an entry is about kit of a scope, lent to it, or that its tests were made with; an
    approval withdrawn is about everybody."""
    if scope.employers is None:
        return true()
    tested = exists().where(TryKit.kit_id == KitRecall.kit_id, TryKit.employer_id.in_(sorted(scope.employers)))
    theirs = scope.condition(KitRecall.employer_id, kit=KitRecall.kit_id)
    return or_(theirs, tested, KitRecall.kit_kind == "approval")


def _concerned(db: Session, row: KitRecall) -> set[str] | None:
    """Return the employers an entry is about; None for all of them."""
    if row.kit_kind == "approval":
        return None
    lent = select(KitLent.employer_id).where(KitLent.kit_id == row.kit_id)
    tested = select(TryKit.employer_id).where(TryKit.kit_id == row.kit_id)
    return {*db.scalars(lent), *db.scalars(tested.distinct()), *([row.employer_id] if row.employer_id else [])}


def _find(db: Session, scope: Scope, recall_id: str) -> KitRecall:
    query = select(KitRecall).where(KitRecall.id == recall_id, _concerns(scope))
    row = db.scalar(query.with_for_update())
    if row is None:
        raise NotFound("recall")
    return row


def _view(db: Session, row: KitRecall, scope: Scope) -> RecallView:
    tests = (
        select(func.count())
        .select_from(TryKit)
        .join(TryResult, and_(TryResult.visit_id == TryKit.visit_id, TryResult.no == TryKit.no))
    )
    tests = within(tests.where(_resting(row), TryResult.is_practice.is_(False)), scope, TryKit.employer_id)
    mine = _settled_for(db, row, scope)
    return RecallView(
        id=row.id,
        kit_kind=row.kit_kind,
        kit_id=row.kit_id,
        kit_name=row.kit_name,
        check_name=row.check_name,
        what=row.what,
        since=instant(row.since) if row.since is not None else "",
        until=instant(row.until),
        state=mine.state,
        tests=db.scalar(tests) or 0,
        settled_by=mine.settled_by,
        settled_at=instant(mine.settled_at) if mine.settled_at is not None else None,
        reason=mine.reason,
        job_id=mine.job_id,
    )


def _settled_for(db: Session, row: KitRecall, scope: Scope) -> KitRecall | RecallSettled:
    """Return what has been said of an entry for those of a scope: of all employers, or of each of theirs."""
    if scope.employers is None or row.state != "open":
        return row
    query = select(RecallSettled).where(RecallSettled.recall_id == row.id)
    said = db.scalars(query.where(RecallSettled.employer_id.in_(sorted(scope.employers)))).all()
    return said[0] if said and len(said) == len(scope.employers) else row


def _is_open_for(scope: Scope) -> ColumnElement[bool]:
    """Return the condition that an entry waits for somebody of a scope."""
    if scope.employers is None:
        return KitRecall.state == "open"
    said = select(func.count()).where(
        RecallSettled.recall_id == KitRecall.id, RecallSettled.employer_id.in_(sorted(scope.employers))
    )
    return and_(KitRecall.state == "open", said.scalar_subquery() < len(scope.employers))


def list_recalls(db: Session, actor: Actor, page: int, only_open: bool) -> LedgerPage:
    """Return a page of the ledger within the actor's scope."""
    scope = actor.require(*READERS)
    query = select(KitRecall).where(_concerns(scope))
    if only_open:
        query = query.where(_is_open_for(scope))
    shown = cut_to_page(db, query, page, _is_open_for(scope).desc(), KitRecall.until.desc())
    return LedgerPage(tuple(_view(db, one, scope) for (one,) in shown.rows), shown.total, shown.page, shown.pages)


def settle(db: Session, clock: Clock, actor: Actor, recall_id: str, body: Settle) -> RecallView:
    """Confirm kit found wrong, which voids what rests on it, or clear it; with a reason, by a tester or administrator.

    Of kit that others use too it holds for the tests of the actor's own employers; those of the others wait for their
    people.
    Raises :class:`NotFound` outside the scope, :class:`Conflict` where it is settled, :class:`DomainError` without a
    reason.
    """
    scope = actor.require("tester", "administrator")
    row = _find(db, scope, recall_id)
    mine = _settled_for(db, row, scope)
    if mine.state != "open":
        raise Conflict("settled", f"{row.kit_name}: {mine.state} already by {mine.settled_by}. Nothing was changed.")
    if not body.reason.strip():
        raise DomainError("reason_missing", "Say why, in a few words: it stands on the records.")
    _settle(db, clock, actor, row, scope, "confirmed" if body.decision == "confirm" else "cleared", body.reason)
    return _view(db, row, scope)


def _settle(
    db: Session, clock: Clock, actor: Actor, row: KitRecall, scope: Scope, state: str, reason: str
) -> str | None:
    """Write down what was said of an entry, for all or for the employers of a scope; return the job that voids."""
    by, at, why = actor.name[:190], clock.now(db), reason.strip()
    job = _void_job(db, clock, actor, row, scope).id if state == "confirmed" else None
    concerned = _concerned(db, row)
    if scope.employers is None or (concerned is not None and concerned <= scope.employers):
        row.state, row.settled_by, row.settled_at, row.reason, row.job_id = state, by, at, why, job
    else:
        known = set(db.scalars(select(RecallSettled.employer_id).where(RecallSettled.recall_id == row.id)))
        for employer in sorted(scope.employers - known):
            db.add(
                RecallSettled(
                    recall_id=row.id,
                    employer_id=employer,
                    state=state,
                    settled_by=by,
                    settled_at=at,
                    reason=why,
                    job_id=job,
                )
            )
    db.flush()
    return job


def _void_job(db: Session, clock: Clock, actor: Actor, row: KitRecall, scope: Scope) -> Job:
    began = instant(row.since) if row.since is not None else NEVER
    content = {"kit_id": row.kit_id, "reason": row.what, "since": began, "until": instant(row.until)}
    reach = None if scope.employers is None else sorted(scope.employers)
    owner = row.employer_id if scope.allows(row.employer_id) else min(scope.employers or (), default=None)
    return new_job(db, clock, actor, "reopen", owner, {**content, "employers": reach})


def confirm_at_once(db: Session, clock: Clock, actor: Actor, found: Found) -> Job:
    """Enter a failure that leaves its finder nothing to decide, and make the job that voids what rests on it.

    That is: of the finder's own employers. The tests of others are suspended, and their people are told.
    """
    row = open_recall(db, found, actor.id)
    job_id = _settle(db, clock, actor, row, actor.require(*TEST), "confirmed", "found so by the tester")
    job = db.get(Job, job_id) if job_id is not None else None
    if job is None:
        raise NotFound("job")
    return job


def mark_clogged(db: Session, clock: Clock, actor: Actor, nebuliser_id: str) -> Job:
    """Mark a nebuliser as clogged: every test with it since it was last seen to spray is void, as a job.

    Source: 29 CFR 1910.134 App. A Part I.B.3 and B.4 (recalled). Raises :class:`NotFound` outside the scope.
    """
    row, now = find_nebuliser(db, actor.require(*TEST), nebuliser_id), clock.now(db)
    found = not_spraying(db, row, now)
    note_spray(db, actor, row.id, False, now)
    return confirm_at_once(db, clock, actor, found)


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
        .where(TryResult.is_practice.is_(False))
        .order_by(TryKit.tested_at)
    )
    reach = content.get("employers")
    if reach is not None:
        query = query.where(TryKit.employer_id.in_(reach))
    affected = run_in_transaction(engine, lambda db: [tuple(row) for row in db.execute(query)])
    reason = content["reason"]
    voided = 0
    for number, (visit_id, run_id) in enumerate(affected):
        tell(number, len(affected))

        def work(db: Session, visit_id: str = visit_id, run_id: str = run_id) -> bool:
            return void_try(db, DatabaseClock(), job.account_id, visit_id, run_id, reason)

        voided += run_in_transaction(engine, work)
    tell(len(affected), len(affected))
    return f"{voided} voided now, {len(affected)} tests since {since_words(content['since'])} are void."


def since_words(since: str) -> str:
    """Return since when, in words, for a moment as text."""
    return "it was first used" if since == NEVER else to_the_minute(since)


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


def withdraw_pass(db: Session, clock: Clock, actor: Actor, visit_id: str, run_id: str, reason: str) -> None:
    """Withdraw a pass of a closed visit, as an administrator: it is voided by a correction with the reason, and counts
    no more, whoever signs that or not.

    Raises :class:`NotFound` outside the scope, :class:`DomainError` without a reason, in an open visit, or where the
    try is no pass.
    """
    head = db.get(VisitHead, visit_id)
    if head is None or not actor.require("administrator").allows(head.employer_id):
        raise NotFound("visit")
    if not reason.strip():
        raise DomainError("reason_missing", "Say why the pass does not count; it stands on the record.")
    visit = load_visit(db, head)
    one = find_try(visit, run_id)
    if one is None or not visit.closed or outcome(visit, one)[0] != "pass":
        raise DomainError("no_pass", "There is no pass of a closed visit to withdraw here.")
    words = f"Withdrawn by {actor.name}: {reason.strip()}"
    void_try(db, clock, actor.id, visit_id, run_id, words)
    note(db, Note("visit", visit_id, head.employer_id, {"pass": ["pass", "withdrawn"]}, why=reason.strip()))


def tests_of(db: Session, actor: Actor, recall_id: str, page: int) -> RecallPage:
    """Return a page of the tests that rest on an entry of the ledger. Raises :class:`NotFound` outside the scope."""
    scope = actor.require(*READERS)
    row = _find(db, scope, recall_id)
    again = aliased(TryResult)
    later = select(again.no).where(
        again.person_id == Person.id,
        again.outcome == "pass",
        again.is_signed.is_(True),
        again.is_practice.is_(False),
        again.tested_at > row.until,
    )
    query = (
        select(TryResult, Person, Employer.name, later.exists().label("later"))
        .join(TryKit, and_(TryResult.visit_id == TryKit.visit_id, TryResult.no == TryKit.no))
        .join(Person, Person.id == TryResult.person_id)
        .join(Employer, Employer.id == Person.employer_id)
        .where(_resting(row), TryResult.is_practice.is_(False))
    )
    shown = cut_to_page(db, within(query, scope, TryKit.employer_id), page, TryKit.tested_at, Person.name)
    rows = tuple(
        RecallRow(
            visit_id=one.visit_id,
            person_id=person.id,
            person=person.name,
            number=person.number,
            employer=employer,
            model=one.model,
            size=one.size,
            tested_at=instant(one.tested_at),
            outcome=one.outcome,
            has_passed_since=bool(has_passed),
        )
        for one, person, employer, has_passed in shown.rows
    )
    began = instant(row.since) if row.since is not None else ""
    return RecallPage(
        since=began, until=instant(row.until), rows=rows, total=shown.total, page=shown.page, pages=shown.pages
    )
