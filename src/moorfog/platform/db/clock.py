"""The moment, as all processes of an installation take it: the database's clock, held steady over its jumps.

A clock that is set forward or back while somebody is being tested would end waits that have not been waited, or leave
presses in a future that never was. So each process compares what the database says with how much time it has seen
pass itself. Where the two part company the clock has jumped: how far is stored, every process takes it off again, and
times go on as they were. The new time is taken on purpose, once nobody is being tested (:func:`take_new_time`).
"""

from __future__ import annotations

import logging
import time
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from threading import Lock
from typing import Protocol

from sqlalchemy import URL, Connection, func, insert, select, text, update
from sqlalchemy.orm import Session

from moorfog.platform.db.base import new_id, quick_engine
from moorfog.platform.db.tables import ClockJump, ClockRow
from moorfog.platform.log.tables import Lease, VisitScreen

log = logging.getLogger("moorfog.clock")
SLACK_S = 1.5
"""No jump: so much is a machine out of breath."""
DRIFT = 0.001
"""No jump: a clock that is being drawn to the right time goes at most so much faster or slower."""
QUIET = timedelta(minutes=15)
"""Nobody is being tested when no screen of a visit was heard of for so long and no instrument is held by a run."""
AT_MOST = 20
"""Jumps that are told of."""


class Clock(Protocol):
    """Where operations take the moment from."""

    def now(self, db: Session) -> datetime:
        """Return the moment, with time zone."""


class FixedClock:
    """A clock that stands where it was put; for demo history and tests."""

    def __init__(self, at: datetime) -> None:
        self.at = at

    def now(self, db: Session) -> datetime:
        """Return the moment it was put to."""
        return self.at


@dataclass(frozen=True)
class _Seen:
    """What the clock said, after which correction, between two readings of the time this process has seen pass."""

    at: datetime
    behind_ms: int
    before: float
    after: float

    def allows(self, later: _Seen) -> bool:
        """Tell whether the clock went on as time did; after a correction by somebody else it is believed."""
        if later.behind_ms != self.behind_ms:
            return True
        slack = SLACK_S + DRIFT * (later.after - self.before)
        went = (later.at - self.at).total_seconds()
        return later.before - self.after - slack <= went <= later.after - self.before + slack

    def jump_ms(self, later: _Seen) -> int:
        """Return how far the clock jumped ahead, in milliseconds; below zero where it was put back."""
        passed = (later.before + later.after - self.before - self.after) / 2
        return round(((later.at - self.at).total_seconds() - passed) * 1000)


_ASK = text("SELECT UTC_TIMESTAMP(3), (SELECT behind_ms FROM clock WHERE id = 1)")
_last: dict[URL, _Seen] = {}
_guard = Lock()


def passed_s() -> float:
    """Return the seconds this machine has seen pass, its sleep among them; nobody can set them."""
    return time.clock_gettime(time.CLOCK_BOOTTIME) if hasattr(time, "CLOCK_BOOTTIME") else time.monotonic()


def _look(db: Session | Connection) -> _Seen:
    before = passed_s()
    moment, behind = db.execute(_ASK).one()
    at = moment.replace(tzinfo=UTC) - timedelta(milliseconds=behind or 0)
    return _Seen(at, behind or 0, before, passed_s())


class DatabaseClock:
    """The database's own clock, one for all processes, held steady."""

    def now(self, db: Session) -> datetime:
        """Return the UTC time with milliseconds, as if the database's clock had never jumped."""
        seen = _look(db)
        engine = db.get_bind().engine
        known = _last.get(engine.url)
        if known is None or known.allows(seen):
            _last[engine.url] = seen
            return seen.at
        with _guard, quick_engine(engine).connect() as connection:
            seen = _hold_steady(connection, _last[engine.url])
            _last[engine.url] = seen
        return seen.at


def _hold_steady(connection: Connection, known: _Seen) -> _Seen:
    """Take a jump off again, unless somebody else has done so or a second look shows none; return what holds now."""
    while True:
        seen = _look(connection)
        if known.allows(seen):
            return seen
        jump = known.jump_ms(seen)
        where = (ClockRow.id == 1, ClockRow.behind_ms == seen.behind_ms)
        if connection.execute(update(ClockRow).where(*where).values(behind_ms=seen.behind_ms + jump)).rowcount:
            at = seen.at - timedelta(milliseconds=jump)
            connection.execute(insert(ClockJump).values(id=new_id(), at=at, by_ms=jump))
            log.warning("the database's clock jumped by %.1f s; times go on as they were", jump / 1000)
            return _Seen(at, seen.behind_ms + jump, seen.before, seen.after)


def take_new_time(db: Session, clock: Clock) -> bool:
    """Follow the database's clock again after a jump, unless somebody is being tested; say whether that was done."""
    row = db.get(ClockRow, 1)
    if row is None or row.behind_ms == 0:
        return False
    now = clock.now(db)
    is_tested = db.scalar(select(func.count()).select_from(Lease)) or db.scalar(
        select(func.count()).select_from(VisitScreen).where(VisitScreen.seen_at > now - QUIET)
    )
    if is_tested:
        return False
    done = db.execute(update(ClockRow).where(ClockRow.id == 1).values(behind_ms=0))
    db.execute(update(ClockJump).where(ClockJump.taken_at.is_(None)).values(taken_at=now))
    log.warning("nobody is being tested: times follow the database's clock again, %.1f s on", row.behind_ms / 1000)
    return bool(done)


def recent_jumps(db: Session) -> tuple[ClockJump, ...]:
    """Return the last jumps of the database's clock, the latest first."""
    return tuple(db.scalars(select(ClockJump).order_by(ClockJump.at.desc()).limit(AT_MOST)))
