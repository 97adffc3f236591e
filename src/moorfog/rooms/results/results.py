"""Pass results by mask model and size."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any, Literal

from sqlalchemy import ColumnElement, and_, case, func, select
from sqlalchemy.orm import Session

from moorfog.core.advice.methods import METHODS
from moorfog.core.advice.shares import Share, share
from moorfog.core.events.payloads import instant
from moorfog.platform.db.scope import Scope, within
from moorfog.platform.log.counting import FIGURES
from moorfog.platform.log.summaries import ResultCount, ResultUnit
from moorfog.platform.log.tables import EventRow
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import DomainError
from moorfog.platform.web.fields import Label, MaybeId, day_of
from moorfog.platform.web.paging import cut_to_page
from moorfog.rooms.people.people import face_cell
from moorfog.rooms.people.tables import Person
from moorfog.rooms.records.searching import names_of
from moorfog.rooms.sites.sites import find_site

Whole = Literal["tested", "passed", "first", "failed"]


@dataclass(frozen=True)
class ResultsAsked:
    """Which results are counted: at which site, last tested since and until which day there, by which method; empty:
    all."""

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


def _method(asked: ResultsAsked) -> str:
    if asked.method and asked.method not in METHODS:
        raise DomainError("no_method", f"{asked.method!r} is no method; there are {', '.join(METHODS)}.")
    return asked.method


def _places(scope: Scope, asked: ResultsAsked) -> tuple[str, ...]:
    """Return the places whose counts are added up: a site, the employers of the scope, or everywhere."""
    if asked.site:
        return (asked.site,)
    return ("",) if scope.employers is None else tuple(sorted(scope.employers))


def _days(asked: ResultsAsked) -> tuple[date, date]:
    since = day_of(asked.since, "since") if asked.since else date.min
    return since, day_of(asked.until, "until") if asked.until else date.max


def periods(since: date, until: date, first: date, last: date) -> list[str]:
    """Return the months and days that make up the days from ``since`` until ``until``, both counted, of those from
    ``first`` until ``last`` on which there is anything."""
    day, end, out = max(since, first), min(until, last), list[str]()
    while day <= end:
        next_month = (day.replace(day=1) + timedelta(days=32)).replace(day=1)
        if day.day == 1 and next_month - timedelta(days=1) <= end:
            out.append(day.isoformat()[:7])
            day = next_month
        else:
            out.append(day.isoformat())
            day += timedelta(days=1)
    return out


def _periods(db: Session, asked: ResultsAsked) -> list[str]:
    since, until = _days(asked)
    if not asked.since and not asked.until:
        return [""]
    ends = select(func.min(ResultUnit.day), func.max(ResultUnit.day))
    first, last = db.execute(ends).one()
    return periods(since, until, first, last) if first is not None else []


def pass_results(db: Session, actor: Actor, page: int, asked: ResultsAsked) -> ResultsPage:
    """Return tested, passed, passed first time by mask model and size, as counts with intervals.

    Passed means that the last judged run passed, first time that the first did. Raises :class:`DomainError` for no
    date or no method, :class:`NotFound` for a site outside the scope.
    """
    shown = cut_to_page(db, _results(db, actor, asked), page, "model", ResultCount.size)
    return ResultsPage(tuple(_row(*one) for one in shown.rows), shown.total, shown.page, shown.pages)


def every_result(db: Session, actor: Actor, asked: ResultsAsked) -> tuple[ResultRow, ...]:
    """Return all of them, as :func:`pass_results`."""
    query = _results(db, actor, asked).order_by("model", ResultCount.size)
    return tuple(_row(*one) for one in db.execute(query))


def _results(db: Session, actor: Actor, asked: ResultsAsked) -> Any:
    scope, method = actor.require(*READERS), _method(asked)
    if asked.site:
        find_site(db, scope, asked.site)
    return (
        select(
            ResultCount.model_id,
            func.max(ResultCount.model).label("model"),
            ResultCount.size,
            *(func.sum(getattr(ResultCount, one)) for one in FIGURES),
        )
        .where(
            ResultCount.place.in_(_places(scope, asked)),
            ResultCount.method == method,
            ResultCount.period.in_(_periods(db, asked)),
        )
        .group_by(ResultCount.model_id, ResultCount.size)
        .having(func.sum(ResultCount.tested) > 0)
    )


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
    units = _counted(db, actor, asked, model_id, size, whole)
    query = units.add_columns(Person.name, Person.number).prefix_with("STRAIGHT_JOIN")
    query = query.select_from(ResultUnit).join(Person, Person.id == ResultUnit.person_id)
    latest = (ResultUnit.tested_at.desc(), ResultUnit.visit_id.desc())
    shown = cut_to_page(db, query, page, *latest, counted=units)
    rows = tuple(
        CountedPerson(
            person_id=row.person_id,
            person=row.name,
            number=row.number,
            visit_id=row.visit_id,
            tested_at=instant(row.tested_at),
            outcome=row.outcome,
            overall=row.overall,
            passed_first=row.first == "pass",
        )
        for row in shown.rows
    )
    return CountedPage(rows, shown.total, shown.page, shown.pages)


def _counted(db: Session, actor: Actor, asked: ResultsAsked, model_id: str, size: str, whole: Whole) -> Any:
    """Return the query of the units that a figure counts."""
    scope = actor.require(*READERS)
    if asked.site:
        find_site(db, scope, asked.site)
    wanted: dict[Whole, tuple[ColumnElement[bool], ...]] = {
        "tested": (),
        "passed": (ResultUnit.outcome == "pass",),
        "first": (ResultUnit.first == "pass",),
        "failed": (ResultUnit.outcome == "fail",),
    }
    since, until = _days(asked)
    query = select(
        ResultUnit.person_id,
        ResultUnit.visit_id,
        ResultUnit.tested_at,
        ResultUnit.outcome,
        ResultUnit.first,
        ResultUnit.overall,
    ).where(
        ResultUnit.model_id == model_id,
        ResultUnit.size == size,
        ResultUnit.method == _method(asked),
        *wanted[whole],
    )
    if asked.since or asked.until:
        query = query.where(ResultUnit.day.between(since, until))
    if asked.site:
        query = query.where(ResultUnit.site_id == asked.site)
    return within(query, scope, ResultUnit.employer_id)


By = Literal["cell", "task", "tester"]


@dataclass(frozen=True)
class PartRow:
    """What a part of the people behind a figure comes to; the shares are null where they are too few."""

    part: str
    tested: int
    passed: int
    passed_first: int
    passed_share: Share | None
    first_share: Share | None


@dataclass(frozen=True)
class ResultParts:
    """The people of a model in a size by face cell, task or tester, the most first."""

    by: By
    rows: tuple[PartRow, ...]


def counted_by(db: Session, actor: Actor, asked: ResultsAsked, *, model_id: str, size: str, by: By) -> ResultParts:
    """Return what a model in a size comes to by the cell of the face, the task or the tester."""
    units = _counted(db, actor, asked, model_id, size, "tested").with_only_columns(
        *_part_columns(by),
        func.count(),
        func.sum(case((ResultUnit.outcome == "pass", 1), else_=0)),
        func.sum(case((ResultUnit.first == "pass", 1), else_=0)),
    )
    if by == "cell":
        units = units.join(Person, Person.id == ResultUnit.person_id)
    if by == "tester":
        started = and_(EventRow.visit_id == ResultUnit.visit_id, EventRow.seq == ResultUnit.seq)
        units = units.join(EventRow, started)
    found: dict[str, list[int]] = {}
    for *part, tested, passed, first in db.execute(units.group_by(*_part_columns(by))):
        sums = found.setdefault(_cell_words(*part) if by == "cell" else str(part[0]), [0, 0, 0])
        for at, add in enumerate((tested, passed, first)):
            sums[at] += int(add)
    names = names_of(db, set(found)) if by == "tester" else {}
    rows = [
        PartRow(
            part=names.get(part, part) or NOT_KNOWN,
            tested=tested,
            passed=passed,
            passed_first=first,
            passed_share=share(passed, tested),
            first_share=share(first, tested),
        )
        for part, (tested, passed, first) in found.items()
    ]
    return ResultParts(by, tuple(sorted(rows, key=lambda one: (-one.tested, one.part))))


NOT_KNOWN = "not known"


def _part_columns(by: By) -> tuple[Any, ...]:
    return {
        "cell": (Person.face_length, Person.face_width),
        "task": (ResultUnit.task,),
        "tester": (EventRow.actor,),
    }[by]


def _cell_words(length: int | None, width: int | None) -> str:
    """Return the panel cell of a face by the measures on file, in words."""
    if length is None or width is None:
        return "not measured"
    cell = face_cell(length, width)
    return f"cell {cell}" if cell is not None else "outside the panel"
