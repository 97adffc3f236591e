"""Opening visits and appending to their logs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from uuid import UUID, uuid5

from sqlalchemy import delete, select, update
from sqlalchemy.orm import Session

from moorfog.core.events import payloads as ev
from moorfog.core.events.payloads import instant
from moorfog.core.kernel.canonical import digest
from moorfog.core.kernel.codec import encode
from moorfog.core.kernel.days import day_in
from moorfog.core.transitions.admit import FUTURE_TOLERANCE, Refusal, admit
from moorfog.core.transitions.bound import PressedOn, not_of_this
from moorfog.core.transitions.fold import step
from moorfog.core.transitions.together import not_together
from moorfog.core.views.visit_view import VisitView, visit_view
from moorfog.core.visit.blocks import file_blocks
from moorfog.core.visit.proof import awaits_stream
from moorfog.core.visit.state import Visit
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import Scope
from moorfog.platform.log.log import events_of, keep_rules, load_visit, lock_head, write_event
from moorfog.platform.log.readmodels import refresh
from moorfog.platform.log.same import same_person
from moorfog.platform.log.summaries import TryResult, VisitSummary
from moorfog.platform.log.tables import EventRow, Lease, VisitHead
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.errors import Conflict, DomainError, NotFound
from moorfog.rooms.bench.competence import require_competence
from moorfog.rooms.bench.filled_in import facepiece_of, fill_in
from moorfog.rooms.bench.proposals import (
    AnswerTogether,
    ChooseFacepiece,
    Proposal,
    StartRun,
)
from moorfog.rooms.bench.senses import acknowledged_on, keep_answer
from moorfog.rooms.people.holding import hold_person
from moorfog.rooms.people.on_file import file_on
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.protocols import rules_of_site
from moorfog.rooms.sites.tables import Employer, Site
from moorfog.rooms.sites.tasks import find_task

LATE = timedelta(seconds=10)
RUN_STARTS = ("start_run", "start_qualitative")
"""Before these the person's file is read again."""
CLOCK_STARTS = ("donned", "start_run", "start_screening", "start_qualitative")
PRACTICE_SPEEDS = range(1, 61)


@dataclass(frozen=True)
class Appended:
    """What became of a proposal: the state after it, and whether it had been stored before."""

    visit_id: str
    visit: Visit
    was_known: bool


def open_visit(
    db: Session,
    clock: Clock,
    actor: Actor,
    *,
    visit_id: str,
    event_id: str,
    person_id: str,
    bench: str,
    is_practice: bool = False,
    speed: int = 1,
    origin: str = "bench",
    occurred_at: datetime | None = None,
) -> Appended:
    """Open a visit for a person at a bench; the rule set is pinned here. The same ids again change nothing.

    Raises :class:`NotFound` for a person outside the actor's scope, :class:`Conflict` if the person has an open
    visit, :class:`DomainError` for a speed without practice.
    """
    scope = actor.require("tester")
    person = hold_person(db, scope, person_id, kept=False)
    _must_be_here(db, person)
    if speed not in PRACTICE_SPEEDS or (speed != 1 and not is_practice):
        raise DomainError("speed", "Only a practice visit runs faster, 1 to 60 times. Choose practice, or speed 1.")
    known = db.get(VisitHead, visit_id)
    if known is not None:
        first = db.get(EventRow, (visit_id, 1))
        if first is None or first.id != event_id:
            raise Conflict("id_reused", "This visit id was used for something else. Reload the page and start again.")
        return Appended(visit_id, load_visit(db, known), was_known=True)
    if db.scalar(select(EventRow.visit_id).where(EventRow.id == event_id)) is not None:
        raise Conflict("id_reused", "This entry id was used in another visit. Reload the page and start again.")
    open_one = db.scalar(
        select(VisitSummary.visit_id).where(
            VisitSummary.person_id == person_id,
            VisitSummary.closed == "",
            VisitSummary.is_practice.is_(is_practice),
        )
    )
    if open_one is not None:
        raise Conflict(
            "already_here", f"{person.name} has an open visit already. Go on with that one.", {"visit_id": open_one}
        )
    site = db.get(Site, person.site_id)
    if site is None:
        raise NotFound("site")
    now = clock.now(db)
    opened_on = day_in(site.zone, occurred_at or now).isoformat()
    rules = rules_of_site(db, site, opened_on)
    keep_rules(db, rules)
    head = VisitHead(
        id=visit_id,
        employer_id=person.employer_id,
        site_id=site.id,
        rules_digest=rules.digest,
        origin=origin,
        seq=0,
        chain="",
    )
    db.add(head)
    db.flush()
    file = file_on(db, person_id, opened_on)
    payload = ev.VisitOpened(
        person_id=person_id,
        employer_id=person.employer_id,
        site_id=site.id,
        zone=site.zone,
        bench=bench,
        is_practice=is_practice,
        speed=speed,
        rules_digest=rules.digest,
        opened_on=opened_on,
        clearance=file.clearance,
        trained_on=file.trained_on,
        wore=last_result(db, person_id, visit_id),
        visit_id=visit_id,
    )
    event = write_event(db, head, event_id, payload, occurred_at or now, now, actor.id, digest(encode(payload)))
    visit = step(Visit(rules), event)
    refresh(db, head, visit)
    return Appended(visit_id, visit, was_known=False)


def _must_be_here(db: Session, person: Person) -> None:
    """Refuse to open a visit for somebody who has left, or at a place that is put away, saying what to do."""
    if person.merged_into is not None:
        raise DomainError("merged", f"{person.name} has another entry, which this one was made part of. Use that one.")
    if person.erased_at is not None:
        raise DomainError("erased", "Their personal data were erased. Enter them as somebody new.")
    if person.left_on is not None:
        raise DomainError(
            "has_left", f"{person.name} left on {person.left_on}. If they are back, say so on their page first."
        )
    site, employer = db.get(Site, person.site_id), db.get(Employer, person.employer_id)
    for place in (site, employer):
        if place is not None and place.archived_at is not None:
            raise DomainError("archived", f"{place.name} is put away. An administrator moves them or takes it out.")


def last_result(db: Session, person_id: str, visit_id: str) -> str:
    """Return what a person was last tested in and how it went, in words, before the visit named; nothing where they
    never were. Practice does not count."""
    last = db.scalar(
        select(TryResult)
        .where(
            TryResult.person_id.in_(same_person(db, person_id)),
            TryResult.visit_id != visit_id,
            TryResult.is_practice.is_(False),
        )
        .order_by(TryResult.tested_at.desc())
        .limit(1)
    )
    return f"{last.model} {last.size}, {last.outcome}" if last else ""


def find_head(db: Session, scope: Scope, visit_id: str) -> VisitHead:
    """Return the head of a visit within the scope. Raises :class:`NotFound`."""
    head = db.get(VisitHead, visit_id)
    if head is None or not scope.allows(head.employer_id):
        raise NotFound("visit")
    return head


def view_visit(db: Session, clock: Clock, scope: Scope, visit_id: str) -> tuple[VisitHead, Visit, VisitView]:
    """Return a visit and its view now. Raises :class:`NotFound`."""
    head = find_head(db, scope, visit_id)
    visit = load_visit(db, head)
    return head, visit, visit_view(visit, clock.now(db))


def append(
    db: Session,
    clock: Clock,
    actor_id: str,
    head: VisitHead,
    before: Visit,
    event_id: str,
    payload: ev.Payload,
    occurred_at: datetime,
    proposal_digest: str,
) -> Visit:
    """Write an admitted event to a locked head and bring the read models along; a run that is over is to stop.

    Returns the state after it.
    """
    event = write_event(db, head, event_id, payload, occurred_at, clock.now(db), actor_id, proposal_digest)
    visit = step(before, event)
    _bring_along(db, head, before, visit, occurred_at)
    return visit


def _bring_along(db: Session, head: VisitHead, before: Visit, visit: Visit, occurred_at: datetime) -> None:
    """Bring the read models to the state after what was written; end the lease of a run that is over."""
    refresh(db, head, visit)
    if before.running is not None and visit.running is None:
        db.execute(update(Lease).where(Lease.run_id == before.running.started.run_id).values(stop=True))
    held = awaits_stream(before, before.last_at or occurred_at)
    if held is not None and awaits_stream(visit, occurred_at) is None:
        runs = [one.started.run_id for one in visit.tries]
        db.execute(delete(Lease).where(Lease.visit_id == head.id, Lease.run_id.not_in(runs)))


def propose(
    db: Session,
    clock: Clock,
    actor: Actor,
    visit_id: str,
    proposal: Proposal,
    start_run: Callable[[Session, Clock, VisitHead, Visit, StartRun, datetime], ev.RunStarted],
) -> Appended:
    """Admit a proposal into a visit's log, or raise why not; the client's work is never half stored.

    Raises :class:`NotFound`, :class:`Conflict` (``id_reused``, ``moved_on``) or :class:`DomainError` with the
    refusal's code, its sentence and the remedy.
    """
    scope = actor.require("tester")
    head = lock_head(db, visit_id)
    if head is None or not scope.allows(head.employer_id):
        raise NotFound("visit")
    content = digest(encode(replace(proposal, occurred_at=None)) | {"occurred_at": instant(proposal.occurred_at)})  # type: ignore[arg-type]
    known = db.scalar(select(EventRow).where(EventRow.id == proposal.id))
    visit = load_visit(db, head)
    if known is not None:
        if known.visit_id != visit_id or known.proposal_digest != content:
            raise Conflict("id_reused", "This id was used for another entry. Reload the page and press again.")
        return Appended(visit_id, visit, was_known=True)
    now = clock.now(db)
    is_observation = proposal.body.kind in ev.OBSERVATIONS
    _check_bound(visit_id, visit, proposal, None)
    ahead = proposal.occurred_at - now
    if is_observation and ahead > timedelta():
        proposal = replace(proposal, occurred_at=now)  # taken all the same, and dated by the server
    is_late = is_observation and bool(visit.closed)
    if is_late and proposal.expects is None and proposal.body.kind not in ev.SAFETY:
        raise DomainError(
            "late_observation",
            "This visit is closed. What was observed in it can still be entered: look at it again first. It puts the "
            "record in question.",
            status=409,
        )
    if not is_observation or (is_late and proposal.expects is not None):
        _check_expected(db, visit_id, visit, proposal)
        _check_bound(visit_id, visit, proposal, proposal.mark or "")
    if not is_observation:
        _check_dated(visit, proposal, now)
    if proposal.body.kind in RUN_STARTS:
        require_competence(db, actor, visit, visit.method)
        filed = enter_file(db, clock, actor.id, head)
        if filed is not None:
            visit = filed.visit
            if file_blocks(visit):
                return filed  # nothing was started: what was filed meanwhile stands against it, and is shown
    if isinstance(proposal.body, AnswerTogether):
        apart = not_together(visit, [one.question for one in proposal.body.answers])
        if apart is not None:
            raise refused(apart)
    after = visit
    for entry_id, payload in _entries(db, clock, actor, head, visit, proposal, start_run):
        if isinstance(payload, ev.MethodChosen):
            require_competence(db, actor, visit, payload.method)
        refusal = admit(after, payload, proposal.occurred_at, now)
        if refusal is not None:
            raise refused(refusal)
        event = write_event(db, head, entry_id, payload, proposal.occurred_at, now, actor.id, content)
        after = step(after, event)
        if isinstance(payload, ev.Answered):
            keep_answer(db, clock, actor, after, payload)
    _bring_along(db, head, visit, after, proposal.occurred_at)
    if is_observation:
        after = flag_clock(db, clock, actor.id, head, after, ahead)
    return Appended(visit_id, after, was_known=False)


def _entries(
    db: Session,
    clock: Clock,
    actor: Actor,
    head: VisitHead,
    visit: Visit,
    proposal: Proposal,
    start_run: Callable[[Session, Clock, VisitHead, Visit, StartRun, datetime], ev.RunStarted],
) -> tuple[tuple[str, ev.Payload], ...]:
    """Return the entries a proposal comes to, each with its id: the first has the proposal's, the others follow from
    it. Raises :class:`Conflict` where one of them was used before."""
    body, payloads = proposal.body, list[ev.Payload]()
    if isinstance(body, AnswerTogether):
        payloads += [ev.Answered(one.question, "fine", one.facts, screen=body.screen) for one in body.answers]
    elif isinstance(body, ChooseFacepiece):
        if body.task_id is not None:
            payloads.append(ev.TaskChosen(find_task(db, head.site_id, body.task_id)))
        payloads.append(ev.FacepieceChosen(facepiece_of(db, body)))
        if body.method is not None:
            payloads.append(ev.MethodChosen(body.method, acknowledged_on(db, actor, body.method)))
    else:
        payloads.append(fill_in(db, clock, actor, head, visit, proposal, start_run))
    ids = [proposal.id, *(str(uuid5(UUID(proposal.id), str(number))) for number in range(1, len(payloads)))]
    if len(ids) > 1 and db.scalar(select(EventRow.id).where(EventRow.id.in_(ids)).limit(1)) is not None:
        raise Conflict("id_reused", "This id was used for another entry. Reload the page and press again.")
    return tuple(zip(ids, payloads, strict=True))


def flag_clock(db: Session, clock: Clock, actor_id: str, head: VisitHead, visit: Visit, ahead: timedelta) -> Visit:
    """Enter that the clock of the screen was ahead of the server's, where it was by more than a little."""
    if ahead <= FUTURE_TOLERANCE:
        return visit
    flag = ev.ClockDiffered(round(ahead.total_seconds() * 1000))
    return append(db, clock, actor_id, head, visit, new_id(), flag, clock.now(db), digest(encode(flag)))


def _check_dated(visit: Visit, proposal: Proposal, now: datetime) -> None:
    """Refuse a decision that starts a clock in the past, or that is dated before the very entry it was made on."""
    if now - proposal.occurred_at > LATE and proposal.body.kind in CLOCK_STARTS:
        raise DomainError(
            "too_late", "This was pressed some time ago; a clock cannot start in the past. Press it again now."
        )
    if visit.last_at is not None and proposal.occurred_at < visit.last_at - FUTURE_TOLERANCE:
        before = (visit.last_at - proposal.occurred_at).total_seconds()
        raise DomainError(
            "dated_before",
            f"This is dated {before:.0f} s before the entry it was made on. "
            "Reload the page to measure its clock again, then press it again.",
        )


def enter_file(db: Session, clock: Clock, actor_id: str, head: VisitHead) -> Appended | None:
    """Enter what is on file into the log of a locked, open visit, where it says something else than the log.

    Returns the state after it, None where nothing changed.
    """
    visit, now = load_visit(db, head), clock.now(db)
    if visit.opened is None or visit.closed:
        return None
    found = file_on(db, visit.person_id, day_in(visit.opened.zone, now).isoformat())
    known = visit.file
    if known is not None and (known.clearance, known.trained_on, known.on) == (
        found.clearance,
        found.trained_on,
        found.on,
    ):
        return None
    at = max(now, visit.last_at or now)
    return Appended(
        head.id, append(db, clock, actor_id, head, visit, new_id(), found, at, digest(encode(found))), was_known=False
    )


def tell_open_visits(db: Session, clock: Clock, actor_id: str, person_id: str) -> None:
    """Enter what was filed about a person into the logs of their open visits: it counts from this moment on."""
    open_ones = select(VisitSummary.visit_id).where(
        VisitSummary.person_id.in_(same_person(db, person_id)), VisitSummary.closed == ""
    )
    for visit_id in db.scalars(open_ones).all():
        head = lock_head(db, visit_id)
        if head is not None:
            enter_file(db, clock, actor_id, head)


def refused(refusal: Refusal) -> DomainError:
    """Return the error for a refusal of the core."""
    return DomainError(refusal.code, f"{refusal.sentence} {refusal.remedy}".strip(), {"remedy": refusal.remedy})


def _check_bound(visit_id: str, visit: Visit, proposal: Proposal, mark: str | None) -> None:
    """Refuse what was pressed in another visit, for another person, or on what the screen no longer shows."""
    found = not_of_this(visit_id, visit, PressedOn(proposal.visit_id, proposal.person_id, mark))
    if found is not None:
        raise Conflict(found.code, f"{found.sentence} {found.remedy}")


def _check_expected(db: Session, visit_id: str, visit: Visit, proposal: Proposal) -> None:
    if proposal.expects is None:
        raise DomainError(
            "expects_missing", "A decision must name the entry it was made on (expects). Reload the page."
        )
    if proposal.expects == visit.seq:
        return
    since = db.scalars(
        select(EventRow)
        .where(EventRow.visit_id == visit_id, EventRow.seq > proposal.expects)
        .order_by(EventRow.seq)
        .limit(5)
    )
    fresh = [one.payload for one in events_of(db, list(since))]
    if visit.seq - proposal.expects == len(fresh) and all(type(one) in ev.QUIET for one in fresh):
        return  # entered beside the work: what was decided on is as it was
    happened = [one.kind.replace("_", " ") for one in fresh if type(one) not in ev.QUIET]
    raise Conflict(
        "moved_on",
        "This visit has moved on meanwhile: "
        + (", ".join(happened) or "another state")
        + ". Look again, then press again.",
        {"seq": visit.seq, "happened": happened},
    )
