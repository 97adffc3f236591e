"""Who may wear what on a day: gathers the facts for the core's one answer, and judges nothing itself."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from fractions import Fraction
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.advice.methods import method_words
from moorfog.core.events.facts import Facepiece
from moorfog.core.events.payloads import Task, instant
from moorfog.core.kernel.codec import decode
from moorfog.core.permission.may_wear import End, Held, PersonFacts, may_wear
from moorfog.core.rules.book import Book
from moorfog.operations.accounts.sessions import READERS, Actor
from moorfog.operations.errors import DomainError, NotFound
from moorfog.operations.fields import day_of
from moorfog.operations.kit.ledger import suspensions_of
from moorfog.operations.people.people import clearances_of, find_person, trainings_of
from moorfog.operations.people.reported import report_facts
from moorfog.operations.sites.sites import site_book, task_of
from moorfog.store.clock import Clock
from moorfog.store.models import PermissionEnd, Person, Site, SiteTask, VisitSummary, WearPermission
from moorfog.store.same import same_person

MOST = 200
"""Passes of one person that are looked at, the latest first."""


@dataclass(frozen=True)
class WhyView:
    """A reason against wearing it, and who settles it."""

    code: str
    sentence: str
    settled_by: str


@dataclass(frozen=True)
class PermissionRow:
    """A set-up somebody has passed in, and whether they may wear it on the day asked for: with every reason if not."""

    visit_id: str
    configuration: str
    model: str
    size: str
    setup: str
    overall: str
    method: str
    limits: tuple[str, ...]
    tested_on: str
    test_until: str
    may: bool
    until: str
    ends_by: str
    reasons: tuple[WhyView, ...]


@dataclass(frozen=True)
class Permissions:
    """What a person may wear on a day, at a task: what they may first, then what they may not and why."""

    person_id: str
    day: str
    task_id: str
    task: str
    rows: tuple[PermissionRow, ...]


QUESTIONED = "Its record is under question: something was heard after it was closed. A tester settles it."


def facts_of(db: Session, person_id: str, rows: Sequence[WearPermission]) -> PersonFacts:
    """Return everything known of a person that decides what they may wear of the passes in ``rows``."""
    ended = db.scalars(select(PermissionEnd).where(PermissionEnd.person_id.in_(same_person(db, person_id))))
    ends = [End(one.configuration, instant(one.ended_at), one.why, "tester") for one in ended]
    ends += [
        End("", "", what, "administrator", is_suspension=True, visit_id=visit, no=no)
        for visit, no, what in suspensions_of(db, person_id)
    ]
    questioned = select(VisitSummary.visit_id).where(
        VisitSummary.person_id.in_(same_person(db, person_id)), VisitSummary.under_question.is_(True)
    )
    doubtful = set(db.scalars(questioned))
    held = tuple(_held(one) for one in rows)
    ends += [
        End("", "", QUESTIONED, "tester", is_suspension=True, visit_id=one.visit_id, no=one.no)
        for one in held
        if one.visit_id in doubtful
    ]
    reports, cleared = report_facts(db, person_id)
    return PersonFacts(
        clearances=clearances_of(db, person_id),
        trained=trainings_of(db, person_id),
        ends=tuple(ends),
        passes=held,
        reports=reports,
        cleared=cleared,
    )


def _held(row: WearPermission) -> Held:
    facts = row.facts or {}
    piece = decode(Facepiece, facts["piece"], "facts.piece")
    up_to, level = facts.get("up_to"), facts.get("level")
    return Held(
        visit_id=row.visit_id,
        no=row.no,
        piece=piece,
        tested_at=instant(row.tested_at),
        valid_from=row.valid_from.isoformat(),
        valid_until=row.valid_until.isoformat(),
        up_to=Fraction(up_to) if up_to else None,
        level=Fraction(level) if level else None,
    )


def usual_task(db: Session, person: Person) -> Task | None:
    """Return the task a person does, as their site has it, or None."""
    query = select(SiteTask).where(
        SiteTask.site_id == person.site_id, SiteTask.is_current.is_(True), SiteTask.name == person.task
    )
    row = db.scalar(query.limit(1))
    return task_of(row) if row is not None else None


def today_at(db: Session, person: Person, now: datetime) -> str:
    """Return the date at a person's site, YYYY-MM-DD."""
    site = db.get(Site, person.site_id)
    return now.astimezone(ZoneInfo(site.zone if site is not None else "UTC")).date().isoformat()


def permissions_of(
    db: Session, clock: Clock, actor: Actor, person_id: str, day: str = "", task_id: str = ""
) -> Permissions:
    """Return what a person may wear on a day (empty: today) at a task (empty: their usual one).

    Raises :class:`NotFound` outside the scope or for a task of another site, :class:`DomainError` for no date.
    """
    person = find_person(db, actor.require(*READERS), person_id)
    on = day_of(day, "day").isoformat() if day else today_at(db, person, clock.now(db))
    task = usual_task(db, person)
    if task_id:
        row = db.get(SiteTask, task_id)
        if row is None or row.site_id != person.site_id or not row.is_current:
            raise NotFound("task")
        task = task_of(row)
    return judge_permissions(db, person, on, task)


def judge_permissions(
    db: Session, person: Person, day: str, task: Task | None, book: Book | None = None
) -> Permissions:
    """Return every signed pass of a person, judged for a day and a task by the core. ``book``: their site's, where it
    is at hand."""
    site = db.get(Site, person.site_id)
    if site is None:
        raise DomainError("no_site", f"{person.name} is at no site. Move them to one first.")
    passes = (
        select(WearPermission)
        .where(WearPermission.person_id.in_(same_person(db, person.id)))
        .order_by(WearPermission.tested_at.desc())
        .limit(MOST)
    )
    rows = db.scalars(passes).all()
    book = book or site_book(db, site, site.rule_book)
    facts = facts_of(db, person.id, rows)
    shown = {(row.visit_id, row.configuration): row for row in rows}
    out = []
    for held in facts.passes:
        row = shown[(held.visit_id, held.piece.configuration)]
        found = may_wear(held, facts, task, book, day)
        out.append(
            PermissionRow(
                visit_id=held.visit_id,
                configuration=row.configuration,
                model=row.model,
                size=row.size,
                setup=row.setup,
                overall=row.overall,
                method=method_words(row.method),
                limits=(*row.limits, *found.limits),
                tested_on=held.valid_from,
                test_until=held.valid_until,
                may=found.may,
                until=found.until,
                ends_by=found.ends_by,
                reasons=tuple(WhyView(one.code, one.sentence, one.settled_by) for one in found.reasons),
            )
        )
    out.sort(key=lambda one: (not one.may, one.tested_on))
    return Permissions(
        person_id=person.id, day=day, task_id=task.id if task else "", task=task.name if task else "", rows=tuple(out)
    )
