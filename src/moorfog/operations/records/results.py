"""Pass results by mask model and size."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, time, timedelta
from typing import Any, Literal

from sqlalchemy import ColumnElement, and_, case, func, select
from sqlalchemy.orm import Session, aliased

from moorfog.core.advice.methods import METHODS, QUALITATIVE
from moorfog.core.advice.shares import Share, share
from moorfog.core.events.payloads import instant
from moorfog.operations.accounts.sessions import READERS, Actor
from moorfog.operations.errors import DomainError
from moorfog.operations.fields import Label, MaybeId, day_of
from moorfog.operations.paging import cut_to_page
from moorfog.store.models import Person, TryResult, VisitSummary
from moorfog.store.scope import within

Whole = Literal["tested", "passed", "first", "failed"]


@dataclass(frozen=True)
class ResultsAsked:
    """Which results are counted: at which site, tested since and until which day (UTC), by which method; empty: all."""

    site: MaybeId = ""
    since: Label = ""
    until: Label = ""
    method: Label = ""


@dataclass(frozen=True)
class ResultRow:
    """Pass results of a model in a size. One person × model × size × visit counts once; ``sensed`` of them were
    judged by taste, smell or irritation, without a number. The shares are null where the people are too few."""

    model_id: str
    model: str
    size: str
    tested: int
    passed: int
    passed_first: int
    sensed: int
    passed_share: Share | None
    first_share: Share | None


@dataclass(frozen=True)
class ResultsPage:
    """One page of pass results by mask model and size."""

    rows: tuple[ResultRow, ...]
    total: int
    page: int
    pages: int


@dataclass(frozen=True)
class CountedPerson:
    """Somebody who is counted: when, how it went at last, and the fit factor where there is one."""

    person_id: str
    person: str
    number: str
    visit_id: str
    tested_at: str
    outcome: str
    overall: str
    passed_first: bool


@dataclass(frozen=True)
class CountedPage:
    """One page of those whom a figure counts, the latest first."""

    rows: tuple[CountedPerson, ...]
    total: int
    page: int
    pages: int


def _moment(day: str, what: str, later: int = 0) -> datetime:
    return datetime.combine(day_of(day, what) + timedelta(days=later), time(), UTC)


def _units(actor: Actor, asked: ResultsAsked) -> Any:
    """Return the units that are counted as a subquery: visit, model, size, first and last judged try.

    The unit is one person × model × size × visit with at least one pass or fail in a signed record; void-only is
    left out. Practice never counts.
    """
    scope = actor.require(*READERS)
    judged = within(
        select(
            TryResult.visit_id,
            TryResult.model_id,
            TryResult.size,
            func.min(TryResult.no).label("first"),
            func.max(TryResult.no).label("last"),
        ).where(
            TryResult.is_practice.is_(False), TryResult.is_signed.is_(True), TryResult.outcome.in_(("pass", "fail"))
        ),
        scope,
        TryResult.employer_id,
    )
    if asked.since:
        judged = judged.where(TryResult.tested_at >= _moment(asked.since, "since"))
    if asked.until:
        judged = judged.where(TryResult.tested_at < _moment(asked.until, "until", 1))
    if asked.method:
        if asked.method not in METHODS:
            raise DomainError("no_method", f"{asked.method!r} is no method; there are {', '.join(METHODS)}.")
        judged = judged.where(TryResult.method == asked.method)
    if asked.site:
        judged = judged.join(VisitSummary, VisitSummary.visit_id == TryResult.visit_id).where(
            VisitSummary.site_id == asked.site
        )
    return judged.group_by(TryResult.visit_id, TryResult.model_id, TryResult.size).subquery()


def pass_results(db: Session, actor: Actor, page: int, asked: ResultsAsked) -> ResultsPage:
    """Return tested, passed, passed first time by mask model and size, as counts with intervals.

    Passed means that the last judged run passed, first time that the first did. Raises :class:`DomainError` for no
    date or no method.
    """
    units, first, last = _units(actor, asked), aliased(TryResult), aliased(TryResult)
    query = (
        select(
            units.c.model_id,
            func.max(last.model).label("model"),
            units.c.size,
            func.count(),
            func.sum(case((last.outcome == "pass", 1), else_=0)),
            func.sum(case((first.outcome == "pass", 1), else_=0)),
            func.sum(case((last.method.in_(sorted(QUALITATIVE)), 1), else_=0)),
        )
        .select_from(units)
        .join(first, and_(first.visit_id == units.c.visit_id, first.no == units.c.first))
        .join(last, and_(last.visit_id == units.c.visit_id, last.no == units.c.last))
        .group_by(units.c.model_id, units.c.size)
    )
    shown = cut_to_page(db, query, page, "model", units.c.size)
    rows = tuple(_row(*one) for one in shown.rows)
    return ResultsPage(rows, shown.total, shown.page, shown.pages)


def _row(model_id: str, model: str, size: str, *counts: Any) -> ResultRow:
    tested, passed, passed_first, sensed = map(int, counts)
    return ResultRow(
        model_id=model_id,
        model=model,
        size=size,
        tested=tested,
        passed=passed,
        passed_first=passed_first,
        sensed=sensed,
        passed_share=share(passed, tested),
        first_share=share(passed_first, tested),
    )


def counted_people(
    db: Session, actor: Actor, asked: ResultsAsked, *, model_id: str, size: str, whole: Whole, page: int
) -> CountedPage:
    """Return those whom a figure of the pass results counts."""
    units, first, last = _units(actor, asked), aliased(TryResult), aliased(TryResult)
    wanted: dict[Whole, tuple[ColumnElement[bool], ...]] = {
        "tested": (),
        "passed": (last.outcome == "pass",),
        "first": (first.outcome == "pass",),
        "failed": (last.outcome == "fail",),
    }
    query = (
        select(
            last.person_id,
            Person.name,
            Person.number,
            last.visit_id,
            last.tested_at,
            last.outcome,
            last.overall,
            first.outcome.label("at_first"),
        )
        .select_from(units)
        .join(first, and_(first.visit_id == units.c.visit_id, first.no == units.c.first))
        .join(last, and_(last.visit_id == units.c.visit_id, last.no == units.c.last))
        .join(Person, Person.id == last.person_id)
        .where(units.c.model_id == model_id, units.c.size == size, *wanted[whole])
    )
    shown = cut_to_page(db, query, page, last.tested_at.desc(), last.visit_id)
    rows = tuple(
        CountedPerson(
            person_id=row.person_id,
            person=row.name,
            number=row.number,
            visit_id=row.visit_id,
            tested_at=instant(row.tested_at),
            outcome=row.outcome,
            overall=row.overall,
            passed_first=row.at_first == "pass",
        )
        for row in shown.rows
    )
    return CountedPage(rows, shown.total, shown.page, shown.pages)
