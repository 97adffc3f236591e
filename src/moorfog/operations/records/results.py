"""Pass results by mask model and size."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import and_, case, func, select
from sqlalchemy.orm import Session, aliased

from moorfog.core.advice.methods import QUALITATIVE
from moorfog.operations.accounts.sessions import READERS, Actor
from moorfog.operations.paging import cut_to_page
from moorfog.store.models import TryResult, VisitSummary
from moorfog.store.scope import within


@dataclass(frozen=True)
class ResultRow:
    """Pass results of a model in a size. One person × model × size × visit counts once; ``sensed`` of them were
    judged by taste, smell or irritation, without a number."""

    model: str
    size: str
    tested: int
    passed: int
    passed_first: int
    sensed: int


@dataclass(frozen=True)
class ResultsPage:
    """One page of pass results by mask model and size."""

    rows: tuple[ResultRow, ...]
    total: int
    page: int
    pages: int


def pass_results(db: Session, actor: Actor, page: int, site_id: str | None = None) -> ResultsPage:
    """Return tested, passed, passed first time by mask model and size, as counts.

    The unit is one person × model × size × visit with at least one pass or fail in a signed record; void-only is
    left out; passed means that the last judged run passed, first time that the first did. Practice never counts.
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
    if site_id:
        judged = judged.join(VisitSummary, VisitSummary.visit_id == TryResult.visit_id).where(
            VisitSummary.site_id == site_id
        )
    units = judged.group_by(TryResult.visit_id, TryResult.model_id, TryResult.size).subquery()
    first, last = aliased(TryResult), aliased(TryResult)
    query = (
        select(
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
    rows = tuple(ResultRow(m, s, *map(int, counts)) for m, s, *counts in shown.rows)
    return ResultsPage(rows, shown.total, shown.page, shown.pages)
