"""Daily checks of instruments as values against limits, acts done to them, and their trend."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import instant
from moorfog.core.kernel.arithmetic import NotANumber, parse_decimal
from moorfog.core.kernel.codec import DataError
from moorfog.core.rules.instruments import CheckRule, check_passes, limits_of
from moorfog.core.rules.kit_gate import same_serial
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import Conflict, DomainError, NotFound
from moorfog.rooms.kit.found_wrong import Found, open_recall, to_the_minute
from moorfog.rooms.kit.instruments import (
    PLATE,
    SENSES,
    TREND_DAYS,
    TREND_MOST,
    find_instrument,
    heard_serial,
    kind_of,
    limit_of,
)
from moorfog.rooms.kit.tables import InstrumentActRow, InstrumentCheckRow, InstrumentRow


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


def record_check(
    db: Session, clock: Clock, actor: Actor, instrument_id: str, name: str, value: str
) -> InstrumentCheckRow:
    """Record a daily check as the value read; whether it passes is computed, never ticked.

    Raises :class:`DomainError` for a check its kind does not have or a value that is no number, :class:`NotFound`
    outside the scope.
    """
    row = find_instrument(db, actor.require("tester", "administrator"), instrument_id)
    said = heard_serial(row, clock.now(db))
    if said and not same_serial(said, str(row.content.get("serial_number", ""))):
        raise Conflict(
            "other_instrument",
            f"On the link is {said}, and {row.name} is {row.content.get('serial_number', '')}: this would be a check "
            "of another instrument. Plug in the right one.",
        )
    if name == PLATE:
        return _plate_read(db, clock, actor, row, value)
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


LONGEST = 30


def _plate_read(db: Session, clock: Clock, actor: Actor, row: InstrumentRow, value: str) -> InstrumentCheckRow:
    """Keep the serial number that was read from the plate of an instrument that does not say its own."""
    known, read = str(row.content.get("serial_number", "")), " ".join(value.split())
    if not read or len(read) > LONGEST:
        raise DomainError("no_serial", f"Type the serial number as it stands on the plate, up to {LONGEST} signs.")
    check = InstrumentCheckRow(
        id=new_id(),
        instrument_id=row.id,
        name=PLATE,
        value=read,
        limit=known[:LONGEST],
        passed=same_serial(read, known),
        checked_at=clock.now(db),
        actor=actor.id,
    )
    db.add(check)
    db.flush()
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


def note_act(db: Session, actor: Actor, instrument_id: str, name: str, at: datetime) -> None:
    """Note on the instrument's own list what was done to it in a visit, where that is done to its kind."""
    row = db.get(InstrumentRow, instrument_id)
    if row is not None and name in [one.name for one in kind_of(row).act]:
        db.add(InstrumentActRow(id=new_id(), instrument_id=instrument_id, name=name, done_at=at, account_id=actor.id))


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
