"""Counters: their figures, their daily checks as values against limits, and what their links say."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from typing import Any, Literal
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.arithmetic import NotANumber, parse_decimal
from moorfog.core.events import DailyCheck, Instrument, instant
from moorfog.operations.accounts import Actor, digest_of
from moorfog.operations.errors import DomainError, NotFound
from moorfog.store.base import Clock, new_id
from moorfog.store.models import InstrumentCheckRow, InstrumentRow
from moorfog.store.scope import Scope, within

CheckName = Literal["particle", "zero", "max_fit_factor"]
CHECK_WORDS = {
    "particle": ("Particle check", "particles per cm³ in room air", "at least"),
    "zero": ("Zero check", "particles per cm³ through a HEPA filter", "at most"),
    "max_fit_factor": ("Maximum fit factor", "fit factor with the zero filter on the sample line", "at least"),
}
LINK_SILENT = timedelta(seconds=5)


@dataclass(frozen=True)
class CheckView:
    """A daily check: what it is, its limit, and today's value if there is one."""

    name: str
    title: str
    what: str
    limit: str
    limit_word: str
    value: str | None
    passed: bool | None
    checked_at: str | None


@dataclass(frozen=True)
class CounterView:
    """A counter as the kit page shows it. ``stands_against`` says why no run may be made with it today."""

    id: str
    name: str
    serial_number: str
    counted_flow: str
    calibrated_until: str
    is_simulated: bool
    is_linked: bool
    link_state: str
    ambient: str | None
    seen_at: str | None
    checks: tuple[CheckView, ...]
    stands_against: tuple[str, ...]


def create_instrument(
    db: Session, *, name: str, employer_id: str | None, content: dict[str, str], is_simulated: bool, token: str
) -> str:
    """Enter a counter; ``token`` is what its link signs in with. Returns its id."""
    row = InstrumentRow(
        id=new_id(),
        employer_id=employer_id,
        name=name,
        content=content,
        is_simulated=is_simulated,
        link_token_digest=digest_of(token),
        seen_at=None,
        live=None,
    )
    db.add(row)
    db.flush()
    return row.id


def find_instrument(db: Session, scope: Scope, instrument_id: str) -> InstrumentRow:
    """Return a counter within the scope. Raises :class:`NotFound`."""
    row = db.scalar(
        within(
            select(InstrumentRow).where(InstrumentRow.id == instrument_id),
            scope,
            InstrumentRow.employer_id,
            shared=True,
        )
    )
    if row is None:
        raise NotFound("counter")
    return row


def local_day(row: InstrumentRow, now: datetime) -> date:
    """Return the date at ``now`` where the counter stands."""
    return now.astimezone(ZoneInfo(row.content["zone"])).date()


def todays_checks(db: Session, row: InstrumentRow, now: datetime) -> list[InstrumentCheckRow]:
    """Return the checks recorded on this day where the counter stands, oldest first."""
    start = datetime.combine(local_day(row, now), time(), ZoneInfo(row.content["zone"]))
    query = select(InstrumentCheckRow).where(
        InstrumentCheckRow.instrument_id == row.id,
        InstrumentCheckRow.checked_at >= start,
        InstrumentCheckRow.checked_at <= now,
    )
    return list(db.scalars(query.order_by(InstrumentCheckRow.checked_at, InstrumentCheckRow.id)))


def instrument_facts(db: Session, row: InstrumentRow, now: datetime, mode: str) -> Instrument:
    """Return the counter by value as a run freezes it, with today's latest checks and the limits of ``mode``."""
    latest = {one.name: one for one in todays_checks(db, row, now)}
    figures, day = row.content, local_day(row, now).isoformat()
    checks = tuple(
        DailyCheck(one.name, one.value, one.limit, one.passed, day)  # type: ignore[arg-type]
        for one in latest.values()
    )
    return Instrument(
        row.id,
        row.name,
        figures["serial_number"],
        figures["counted_flow"],
        figures["resolution"],
        figures[f"ambient_minimum_{mode}"],
        figures["ambient_maximum"],
        figures["calibrated_until"],
        day,
        checks,
    )


def record_check(
    db: Session, clock: Clock, actor: Actor, instrument_id: str, name: CheckName, value: str
) -> InstrumentCheckRow:
    """Record a daily check as the value read; whether it passes is computed, never ticked.

    Raises :class:`DomainError` for a value that is no number, :class:`NotFound` outside the scope.
    """
    row = find_instrument(db, actor.require("tester", "administrator"), instrument_id)
    try:
        figure = parse_decimal(value, CHECK_WORDS[name][0])
    except NotANumber as error:
        raise DomainError("not_a_number", str(error)) from error
    if figure < 0:
        raise DomainError("negative", f"{CHECK_WORDS[name][0]}: {value} is below zero. Type what the counter shows.")
    limit = row.content[f"limit_{name}"]
    bound = parse_decimal(limit, "limit")
    passed = figure <= bound if name == "zero" else figure >= bound
    check = InstrumentCheckRow(
        id=new_id(),
        instrument_id=row.id,
        name=name,
        value=value.strip(),
        limit=limit,
        passed=passed,
        checked_at=clock.now(db),
        actor=actor.id,
    )
    db.add(check)
    db.flush()
    return check


def view_counter(db: Session, row: InstrumentRow, now: datetime) -> CounterView:
    """Return a counter for the kit page."""
    latest = {one.name: one for one in todays_checks(db, row, now)}
    figures: dict[str, Any] = row.content
    checks, against = [], []
    for name, (title, what, word) in CHECK_WORDS.items():
        found = latest.get(name)
        checks.append(
            CheckView(
                name,
                title,
                what,
                figures[f"limit_{name}"],
                word,
                found.value if found else None,
                found.passed if found else None,
                instant(found.checked_at) if found else None,
            )
        )
        if found is None:
            against.append(f"{title}: not done today")
        elif not found.passed:
            against.append(f"{title}: failed today with {found.value}")
    if figures["calibrated_until"] < local_day(row, now).isoformat():
        against.append(f"Calibration ran out on {figures['calibrated_until']}")
    linked = row.seen_at is not None and now - row.seen_at < LINK_SILENT
    live = row.live or {}
    return CounterView(
        row.id,
        row.name,
        figures["serial_number"],
        figures["counted_flow"],
        figures["calibrated_until"],
        row.is_simulated,
        linked,
        str(live.get("state", "")) if linked else "no link",
        str(live["ambient"]) if linked and live.get("ambient") else None,
        instant(row.seen_at) if row.seen_at else None,
        tuple(checks),
        tuple(against),
    )


def list_counters(db: Session, clock: Clock, actor: Actor) -> list[CounterView]:
    """Return the counters within the actor's scope, by name."""
    scope = actor.require("tester", "administrator", "supervisor")
    now = clock.now(db)
    rows = db.scalars(
        within(select(InstrumentRow), scope, InstrumentRow.employer_id, shared=True).order_by(InstrumentRow.name)
    )
    return [view_counter(db, row, now) for row in rows]
