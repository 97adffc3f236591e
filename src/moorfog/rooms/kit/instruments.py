"""Instruments: figures, daily checks as values against limits, what is done to them, what their links say."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from typing import Any, Literal
from zoneinfo import ZoneInfo

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import DailyCheck, Instrument, instant
from moorfog.core.kernel.codec import DataError
from moorfog.core.kernel.days import day_in
from moorfog.core.rules.instruments import CheckRule, KindRule, strictest_limit
from moorfog.core.rules.kit_gate import same_serial, unfit_today
from moorfog.data import instrument_kinds
from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import Scope, within
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import DomainError, NotFound
from moorfog.platform.web.paging import cut_to_page
from moorfog.rooms.kit.entering import figure_problems
from moorfog.rooms.kit.tables import InstrumentActRow, InstrumentCheckRow, InstrumentRow

SENSES = {"at_least": "at least", "at_most": "at most", "within": "within"}
LINK_SILENT = timedelta(seconds=5)
TREND_DAYS = 90
TREND_MOST = 400


@dataclass(frozen=True)
class CheckView:
    """A daily check: what it is, how it is done, its limit, and today's value if there is one. ``read_now``: what the
    link reads at this moment, where that is the value of the check."""

    name: str
    title: str
    what: str
    steps: tuple[str, ...]
    limit: str
    limit_word: str
    value: str | None
    passed: bool | None
    checked_at: str | None
    read_now: str | None
    reads: Literal["figure", "serial"] = "figure"


@dataclass(frozen=True)
class ActView:
    """Something done to an instrument: when it was done last, and whether that was today where it stands."""

    name: str
    title: str
    when: str
    closes_day: bool
    done_at: str | None
    is_today: bool


@dataclass(frozen=True)
class CounterView:
    """An instrument as the kit page shows it. ``blocked_by`` says why no run may be made with it today.

    ``charge_until`` is when the alcohol must be charged again, None where it needs none or was never charged.
    """

    id: str
    name: str
    kind: str
    title: str
    unit: str
    serial_number: str
    counted_flow: str
    resolution: str
    calibrated_until: str
    is_simulated: bool
    is_linked: bool
    link_state: str
    ambient: str | None
    seen_at: str | None
    charge_until: str | None
    checks: tuple[CheckView, ...]
    acts: tuple[ActView, ...]
    blocked_by: tuple[str, ...]


def kind_of(row: InstrumentRow) -> KindRule:
    """Return the kind of an instrument; one without a kind is a counter."""
    return instrument_kinds()[str(row.content.get("kind", "counter"))]


def limit_of(row: InstrumentRow, check: CheckRule) -> str:
    """Return the limit of a check: the instrument's own figure, else that of its kind."""
    own = row.content.get(f"limit_{check.name}")
    try:
        return strictest_limit(check, str(own) if own is not None else None)
    except DataError:
        return str(own)  # whoever checks against it is told that it cannot be read


def owner_of_kit(actor: Actor, employer_id: str | None) -> str | None:
    """Return whose new kit is: the employer named, else the only one the actor works for, else nobody's in particular.

    Raises :class:`NotFound` for a foreign employer, :class:`DomainError` where one of several must be named.
    """
    scope = actor.require("tester", "administrator")
    if employer_id is not None:
        if not scope.allows(employer_id):
            raise NotFound("employer")
        return employer_id
    if scope.employers is None:
        return None
    if len(scope.employers) > 1:
        raise DomainError("employer_missing", "You work for several employers: name the one this kit belongs to.")
    return next(iter(scope.employers))


def find_instrument(db: Session, scope: Scope, instrument_id: str) -> InstrumentRow:
    """Return a counter within the scope. Raises :class:`NotFound`."""
    row = db.scalar(
        within(
            select(InstrumentRow).where(InstrumentRow.id == instrument_id, InstrumentRow.retired_at.is_(None)),
            scope,
            InstrumentRow.employer_id,
            kit=InstrumentRow.id,
        )
    )
    if row is None:
        raise NotFound("counter")
    return row


def local_day(row: InstrumentRow, now: datetime) -> date:
    """Return the date at ``now`` where the counter stands."""
    return day_in(row.content["zone"], now)


@dataclass(frozen=True)
class Day:
    """What was done to an instrument: today's latest checks by name, and when each act was done last."""

    checks: Mapping[str, InstrumentCheckRow]
    acts: Mapping[str, datetime]


def days_of(db: Session, rows: Sequence[InstrumentRow], now: datetime) -> dict[str, Day]:
    """Return the day of each instrument, by id: the day where it stands. Two questions in all."""
    starts = {row.id: datetime.combine(local_day(row, now), time(), ZoneInfo(row.content["zone"])) for row in rows}
    if not rows:
        return {}
    checks: dict[str, dict[str, InstrumentCheckRow]] = {one: {} for one in starts}
    acts: dict[str, dict[str, datetime]] = {one: {} for one in starts}
    query = select(InstrumentCheckRow).where(
        InstrumentCheckRow.instrument_id.in_(starts),
        InstrumentCheckRow.checked_at >= min(starts.values()),
        InstrumentCheckRow.checked_at <= now,
    )
    for check in db.scalars(query.order_by(InstrumentCheckRow.checked_at, InstrumentCheckRow.id)):
        if check.checked_at >= starts[check.instrument_id]:
            checks[check.instrument_id][check.name] = check
    done = (
        select(InstrumentActRow.instrument_id, InstrumentActRow.name, func.max(InstrumentActRow.done_at))
        .where(InstrumentActRow.instrument_id.in_(starts), InstrumentActRow.done_at <= now)
        .group_by(InstrumentActRow.instrument_id, InstrumentActRow.name)
    )
    for instrument_id, name, at in db.execute(done):
        acts[instrument_id][name] = at
    return {one: Day(checks[one], acts[one]) for one in starts}


def instrument_facts(db: Session, row: InstrumentRow, now: datetime, mode: str) -> Instrument:
    """Return the instrument by value as a run freezes it, with today's latest checks and the limits of ``mode``."""
    return _by_value(row, days_of(db, [row], now)[row.id], now, mode)


def _by_value(row: InstrumentRow, today: Day, now: datetime, mode: str) -> Instrument:
    figures, day, kind = row.content, local_day(row, now).isoformat(), kind_of(row)
    checks = tuple(
        DailyCheck(name=one.name, value=one.value, limit=one.limit, passed=one.passed, checked_on=day)
        for one in today.checks.values()
    )
    charged = today.acts.get("alcohol") if kind.charge_h else None
    said = heard_serial(row, now)
    return Instrument(
        id=row.id,
        name=row.name,
        serial_number=figures.get("serial_number", ""),
        counted_flow=figures.get("counted_flow", ""),
        resolution=figures.get("resolution", ""),
        ambient_minimum=figures.get(f"ambient_minimum_{mode}", "0" if kind.id == "pressure" else ""),
        ambient_maximum=figures.get("ambient_maximum", ""),
        calibrated_until=figures.get("calibrated_until", ""),
        used_on=day,
        checks=checks,
        kind=kind.id,
        required=kind.required if said != "" else (*kind.required, PLATE),
        charged_at=instant(charged) if charged is not None else "",
        charge_h=kind.charge_h,
        said_serial=said or "",
    )


PLATE = "plate"
"""The check of an instrument on a link that does not say which it is: its serial number, read from its plate."""
PLATE_TITLE = "Serial number on its plate"


def _is_linked(row: InstrumentRow, now: datetime) -> bool:
    return row.seen_at is not None and now - row.seen_at < LINK_SILENT


def heard_serial(row: InstrumentRow, now: datetime) -> str | None:
    """Return the serial number that the instrument on the link says, empty where it says none, None without a link."""
    return str((row.live or {}).get("serial", "")) if _is_linked(row, now) else None


def why_another(row: InstrumentRow, frozen: Instrument) -> str:
    """Return why what a link has read may be another instrument's than the one a run was started with, or nothing.

    Asked when the run is sealed: at its start the link may have been silent, and a cable is quickly changed.
    """
    if row.live is None:
        return ""
    said = str(row.live.get("serial", ""))
    if said:
        words = f"The instrument on the link is {said}, not {frozen.serial_number}."
        return "" if same_serial(said, frozen.serial_number) else words
    is_read = any(one.name == PLATE and one.passed and one.checked_on == frozen.used_on for one in frozen.checks)
    return "" if is_read else "The instrument on the link does not say which it is, and its plate was not read."


def _plate(row: InstrumentRow, day: Day) -> CheckView:
    found = day.checks.get(PLATE)
    return CheckView(
        name=PLATE,
        title=PLATE_TITLE,
        what="as it stands on the instrument that is plugged in",
        steps=("The instrument does not say which it is: read the number from its plate and type it.",),
        limit=str(row.content.get("serial_number", "")),
        limit_word="the same as on file,",
        value=found.value if found else None,
        passed=found.passed if found else None,
        checked_at=instant(found.checked_at) if found else None,
        read_now=None,
        reads="serial",
    )


def _acts(row: InstrumentRow, acts: Mapping[str, datetime], now: datetime) -> tuple[ActView, ...]:
    out = []
    for rule in kind_of(row).act:
        done = acts.get(rule.name)
        is_today = done is not None and local_day(row, done) == local_day(row, now)
        out.append(
            ActView(
                name=rule.name,
                title=rule.title,
                when=rule.when,
                closes_day=rule.closes_day,
                done_at=instant(done) if done is not None else None,
                is_today=is_today,
            )
        )
    return tuple(out)


def view_counter(db: Session, row: InstrumentRow, now: datetime) -> CounterView:
    """Return an instrument for the kit page."""
    return _view(row, days_of(db, [row], now)[row.id], now)


def _blocking_words(row: InstrumentRow, day: Day, code: str) -> str:
    """Return what stands against a run with an instrument today, in words, for a code of the core's gate."""
    rule = kind_of(row).find(code.removeprefix("check_")) if code.startswith("check_") else None
    if rule is not None:
        found = day.checks.get(rule.name)
        return f"{rule.title}: " + (f"failed today with {found.value}" if found is not None else "not done today")
    if code == "other_instrument":
        said, known = (row.live or {}).get("serial", ""), row.content.get("serial_number", "")
        return f"On its link is {said}, on file is {known}: plug in the right one, or choose that one"
    if code == f"check_{PLATE}":
        return f"{PLATE_TITLE}: " + ("another one than on file" if PLATE in day.checks else "not read today")
    if code == "calibration":
        return f"Calibration ran out on {row.content.get('calibrated_until', 'a day nobody entered')}"
    if code == "alcohol":
        return "Alcohol: charge it again" if "alcohol" in day.acts else "Alcohol: not charged today"
    return "Figures: " + ("; ".join(figure_problems(row.content)) or "one cannot be read; enter them anew")


def _view(row: InstrumentRow, day: Day, now: datetime) -> CounterView:
    latest, acts, kind = day.checks, day.acts, kind_of(row)
    figures: dict[str, Any] = row.content
    linked = _is_linked(row, now)
    live = row.live or {}
    outside = live.get("ambient") if linked else None
    checks = []
    for rule in kind.check:
        found = latest.get(rule.name)
        checks.append(
            CheckView(
                name=rule.name,
                title=rule.title,
                what=rule.what,
                steps=rule.steps,
                limit=limit_of(row, rule),
                limit_word=SENSES[rule.sense],
                value=found.value if found else None,
                passed=found.passed if found else None,
                checked_at=instant(found.checked_at) if found else None,
                read_now=str(outside) if rule.reads == "outside" and outside is not None else None,
            )
        )
    if heard_serial(row, now) == "":
        checks.append(_plate(row, day))
    facts = _by_value(row, day, now, "ordinary" if kind.id == "counter" else kind.id)
    blocking = tuple(_blocking_words(row, day, one) for one in unfit_today(facts, now))
    charged = acts.get("alcohol") if kind.charge_h else None
    until = charged + timedelta(hours=kind.charge_h) if charged is not None else None
    return CounterView(
        id=row.id,
        name=row.name,
        kind=kind.id,
        title=kind.title,
        unit=kind.unit,
        serial_number=figures.get("serial_number", ""),
        counted_flow=figures.get("counted_flow", ""),
        resolution=figures.get("resolution", ""),
        calibrated_until=figures.get("calibrated_until", ""),
        is_simulated=row.is_simulated,
        is_linked=linked,
        link_state=str(live.get("state", "")) if linked else "no link",
        ambient=str(live["ambient"]) if linked and live.get("ambient") else None,
        seen_at=instant(row.seen_at) if row.seen_at else None,
        charge_until=instant(until) if until is not None else None,
        checks=tuple(checks),
        acts=_acts(row, acts, now),
        blocked_by=blocking,
    )


@dataclass(frozen=True)
class CounterPage:
    """One page of instruments."""

    rows: tuple[CounterView, ...]
    total: int
    page: int
    pages: int


def list_counters(db: Session, clock: Clock, actor: Actor, page: int, kind: str = "", name: str = "") -> CounterPage:
    """Return a page of the instruments within the actor's scope, by name; of one kind or by its name where given."""
    now = clock.now(db)
    query = within(select(InstrumentRow), actor.require(*READERS), InstrumentRow.employer_id, kit=InstrumentRow.id)
    query = query.where(InstrumentRow.retired_at.is_(None))
    if kind:
        query = query.where(func.coalesce(func.json_value(InstrumentRow.content, "$.kind"), "counter") == kind)
    if name:
        query = query.where(InstrumentRow.name == name)
    shown = cut_to_page(db, query, page, InstrumentRow.name, InstrumentRow.id)
    return CounterPage(_views(db, [one for (one,) in shown.rows], now), shown.total, shown.page, shown.pages)


def kinds_ready(db: Session, clock: Clock, actor: Actor) -> set[str]:
    """Return the kinds of instrument of which at least one within the actor's scope may be used now."""
    mine = within(select(InstrumentRow), actor.require(*READERS), InstrumentRow.employer_id, kit=InstrumentRow.id)
    mine = mine.where(InstrumentRow.retired_at.is_(None))
    return {one.kind for one in _views(db, list(db.scalars(mine)), clock.now(db)) if not one.blocked_by}


def _views(db: Session, rows: list[InstrumentRow], now: datetime) -> tuple[CounterView, ...]:
    days = days_of(db, rows, now)
    return tuple(_view(row, days[row.id], now) for row in rows)
