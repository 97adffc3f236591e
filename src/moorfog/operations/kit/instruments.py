"""Instruments: figures, daily checks as values against limits, what is done to them, what their links say."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import DailyCheck, Instrument, instant
from moorfog.core.kernel.arithmetic import NotANumber, parse_decimal
from moorfog.core.kernel.codec import DataError
from moorfog.core.rules.instruments import CheckRule, KindRule, check_passes, limits_of
from moorfog.core.rules.kit_gate import unfit_today
from moorfog.data import instrument_kinds
from moorfog.operations.accounts.sessions import READERS, Actor, digest_of
from moorfog.operations.errors import DomainError, NotFound
from moorfog.operations.kit.ledger import Found, open_recall, to_the_minute
from moorfog.operations.paging import cut_to_page
from moorfog.store.base import Clock, new_id
from moorfog.store.models import InstrumentActRow, InstrumentCheckRow, InstrumentRow
from moorfog.store.scope import Scope, within

SENSES = {"at_least": "at least", "at_most": "at most", "within": "within"}
LINK_SILENT = timedelta(seconds=5)
TREND_DAYS = 90
TREND_MOST = 400


@dataclass(frozen=True)
class CheckView:
    """A daily check: what it is, how it is done, its limit, and today's value if there is one."""

    name: str
    title: str
    what: str
    steps: tuple[str, ...]
    limit: str
    limit_word: str
    value: str | None
    passed: bool | None
    checked_at: str | None


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


@dataclass(frozen=True)
class TrendPoint:
    """A value of a check as it was read, against the limit of its day."""

    at: str
    value: str
    passed: bool


@dataclass(frozen=True)
class Trend:
    """The values of one check over the last ninety days, oldest first, at most four hundred."""

    title: str
    what: str
    limit: str
    limits: tuple[float, ...]
    points: tuple[TrendPoint, ...]


def kind_of(row: InstrumentRow) -> KindRule:
    """Return the kind of an instrument; one without a kind is a counter."""
    return instrument_kinds()[str(row.content.get("kind", "counter"))]


def limit_of(row: InstrumentRow, check: CheckRule) -> str:
    """Return the limit of a check: the instrument's own figure, else that of its kind."""
    return str(row.content.get(f"limit_{check.name}", check.limit))


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


def create_instrument(
    db: Session, *, name: str, employer_id: str | None, content: dict[str, str], is_simulated: bool, token: str
) -> str:
    """Enter an instrument; ``token`` is what its link signs in with. Returns its id.

    Raises :class:`DomainError` naming every figure that is missing or cannot be read.
    """
    problems = figure_problems(content)
    if problems:
        raise DomainError("figures", f"{name} was not entered: {'; '.join(problems)}.", {"problems": list(problems)})
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


def figure_problems(content: Mapping[str, Any]) -> tuple[str, ...]:
    """Return everything that is missing or wrong about the figures of an instrument, in words; empty where nothing."""
    kinds = instrument_kinds()
    rule = kinds.get(str(content.get("kind", "counter")))
    if rule is None:
        return (f"kind {content.get('kind')!r} is not known; known are {', '.join(kinds)}",)
    out = []
    for name in ("serial_number", "zone", "calibrated_until", *rule.figures):
        text = content.get(name)
        if not isinstance(text, str) or not text.strip():
            out.append(f"{name} is missing")
        elif name in rule.figures:
            out += _bad_figure(name, text)
    for check in rule.check:
        limit = content.get(f"limit_{check.name}")
        if limit is not None:
            try:
                limits_of(str(limit), check.sense, f"limit_{check.name}")
            except DataError as error:
                out.append(str(error))
    out += _bad_places(content)
    return tuple(out)


def _bad_figure(name: str, text: str) -> list[str]:
    try:
        return [] if parse_decimal(text, name) > 0 else [f"{name} is {text}; above zero is expected"]
    except NotANumber as error:
        return [str(error)]


def _bad_places(content: Mapping[str, Any]) -> list[str]:
    out = []
    zone, until = content.get("zone"), content.get("calibrated_until")
    if isinstance(zone, str) and zone.strip():
        try:
            ZoneInfo(zone)
        except (KeyError, ValueError, OSError):
            out.append(f"zone {zone!r} is none; write one such as Europe/London")
    if isinstance(until, str) and until.strip():
        try:
            date.fromisoformat(until)
        except ValueError:
            out.append(f"calibrated_until {until!r} is not a date as 2026-01-31")
    return out


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
        required=kind.required,
        charged_at=instant(charged) if charged is not None else "",
        charge_h=kind.charge_h,
    )


def record_check(
    db: Session, clock: Clock, actor: Actor, instrument_id: str, name: str, value: str
) -> InstrumentCheckRow:
    """Record a daily check as the value read; whether it passes is computed, never ticked.

    Raises :class:`DomainError` for a check its kind does not have or a value that is no number, :class:`NotFound`
    outside the scope.
    """
    row = find_instrument(db, actor.require("tester", "administrator"), instrument_id)
    rule = kind_of(row).find(name)
    if rule is None:
        known = ", ".join(kind_of(row).required)
        raise DomainError("no_such_check", f"{row.name} has no check called {name!r}; it has: {known}.")
    try:
        figure = parse_decimal(value, rule.title)
    except NotANumber as error:
        raise DomainError("not_a_number", str(error)) from error
    if figure < 0:
        raise DomainError("negative", f"{rule.title}: {value} is below zero. Type what the instrument shows.")
    limit = limit_of(row, rule)
    try:
        passed = check_passes(figure, limit, rule.sense)
    except DataError as error:
        raise DomainError("bad_limit", f"{row.name}: the limit of {rule.title} cannot be read; {error}") from error
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
    if not passed:
        _into_the_ledger(db, row, rule, check)
    return check


def _into_the_ledger(db: Session, row: InstrumentRow, rule: CheckRule, failed: InstrumentCheckRow) -> None:
    """Suspend what rests on an instrument since this very check last held."""
    last = select(func.max(InstrumentCheckRow.checked_at)).where(
        InstrumentCheckRow.instrument_id == row.id,
        InstrumentCheckRow.name == failed.name,
        InstrumentCheckRow.passed.is_(True),
        InstrumentCheckRow.checked_at < failed.checked_at,
    )
    since = db.scalar(last)
    held = f"last held {to_the_minute(instant(since))}" if since is not None else "it never held before"
    what = f"{row.name}: {rule.title} failed with {failed.value}; {held}."
    found = Found(
        kit_kind="instrument",
        kit_id=row.id,
        kit_name=row.name,
        check_name=failed.name,
        what=what,
        employer_id=row.employer_id,
        since=since,
        until=failed.checked_at,
    )
    open_recall(db, found, failed.actor)


def record_act(db: Session, clock: Clock, actor: Actor, instrument_id: str, name: str) -> None:
    """Note that something was done to an instrument now.

    Raises :class:`DomainError` for what is not done to this kind, :class:`NotFound` outside the scope.
    """
    row = find_instrument(db, actor.require("tester", "administrator"), instrument_id)
    known = [one.name for one in kind_of(row).act]
    if name not in known:
        raise DomainError("no_such_act", f"{name!r} is nothing done to {row.name}; known are {', '.join(known)}.")
    act = InstrumentActRow(id=new_id(), instrument_id=row.id, name=name, done_at=clock.now(db), account_id=actor.id)
    db.add(act)
    db.flush()


def trend_of(db: Session, clock: Clock, actor: Actor, instrument_id: str, name: str) -> Trend:
    """Return the values of one check over the last ninety days. Raises :class:`NotFound` for an unknown one."""
    row = find_instrument(db, actor.require(*READERS), instrument_id)
    rule = kind_of(row).find(name)
    if rule is None:
        raise NotFound("check")
    query = select(InstrumentCheckRow).where(
        InstrumentCheckRow.instrument_id == row.id,
        InstrumentCheckRow.name == name,
        InstrumentCheckRow.checked_at >= clock.now(db) - timedelta(days=TREND_DAYS),
    )
    found = list(db.scalars(query.order_by(InstrumentCheckRow.checked_at.desc()).limit(TREND_MOST)))
    points = tuple(TrendPoint(instant(one.checked_at), one.value, one.passed) for one in reversed(found))
    limit = limit_of(row, rule)
    try:
        limits = tuple(float(one) for one in limits_of(limit, rule.sense, "limit"))
    except DataError:
        limits = ()  # it cannot be read: the check itself says so
    return Trend(title=rule.title, what=rule.what, limit=f"{SENSES[rule.sense]} {limit}", limits=limits, points=points)


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
    if code == "calibration":
        return f"Calibration ran out on {row.content.get('calibrated_until', 'a day nobody entered')}"
    if code == "alcohol":
        return "Alcohol: charge it again" if "alcohol" in day.acts else "Alcohol: not charged today"
    return "Figures: " + ("; ".join(figure_problems(row.content)) or "one cannot be read; enter them anew")


def _view(row: InstrumentRow, day: Day, now: datetime) -> CounterView:
    latest, acts, kind = day.checks, day.acts, kind_of(row)
    figures: dict[str, Any] = row.content
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
            )
        )
    facts = _by_value(row, day, now, "ordinary" if kind.id == "counter" else kind.id)
    blocking = tuple(_blocking_words(row, day, one) for one in unfit_today(facts, now))
    charged = acts.get("alcohol") if kind.charge_h else None
    until = charged + timedelta(hours=kind.charge_h) if charged is not None else None
    linked = row.seen_at is not None and now - row.seen_at < LINK_SILENT
    live = row.live or {}
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
    query = within(select(InstrumentRow), actor.require(*READERS), InstrumentRow.employer_id, shared=True)
    if kind:
        query = query.where(func.coalesce(func.json_value(InstrumentRow.content, "$.kind"), "counter") == kind)
    if name:
        query = query.where(InstrumentRow.name == name)
    shown = cut_to_page(db, query, page, InstrumentRow.name, InstrumentRow.id)
    return CounterPage(_views(db, [one for (one,) in shown.rows], now), shown.total, shown.page, shown.pages)


def kinds_ready(db: Session, clock: Clock, actor: Actor) -> set[str]:
    """Return the kinds of instrument of which at least one within the actor's scope may be used now."""
    mine = within(select(InstrumentRow), actor.require(*READERS), InstrumentRow.employer_id, shared=True)
    return {one.kind for one in _views(db, list(db.scalars(mine)), clock.now(db)) if not one.blocked_by}


def _views(db: Session, rows: list[InstrumentRow], now: datetime) -> tuple[CounterView, ...]:
    days = days_of(db, rows, now)
    return tuple(_view(row, days[row.id], now) for row in rows)
