"""Screens that take part in a visit: each says now and then that it is there, and whether it holds unsent presses."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime, timedelta
from typing import Literal

from sqlalchemy import delete, select, update
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from moorfog.core.events import payloads as ev
from moorfog.core.kernel.canonical import digest
from moorfog.core.kernel.codec import encode
from moorfog.core.visit.screens import WAIT, waited_until
from moorfog.core.visit.state import Visit
from moorfog.core.visit.tries import find_try
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.log import load_visit, lock_head
from moorfog.platform.log.tables import VisitHead, VisitScreen
from moorfog.platform.web.errors import NotFound
from moorfog.rooms.bench.visits import Appended, append

PRESENT = timedelta(seconds=10)
"""Heard of so lately, a screen counts as there: it says so every few seconds."""
FORGOTTEN = timedelta(days=1)
Role = Literal["bench", "wearer"]


def hear(
    db: Session, clock: Clock, visit_id: str, screen: str, role: Role, *, unsent: int, seq: int
) -> Appended | None:
    """Note that a screen is there, holds ``unsent`` presses and knows the log up to ``seq``; enter what follows of it.

    During a run it is entered as taking part. Once the run is over, the screen knows that, and holds nothing, it is
    entered as clear. Returns what was entered, None for nothing. Raises :class:`NotFound`.
    """
    head = db.get(VisitHead, visit_id)
    if head is None:
        raise NotFound("visit")
    now = clock.now(db)
    row = {"visit_id": visit_id, "screen": screen, "role": role, "seen_at": now}
    db.execute(insert(VisitScreen).values(**row).on_duplicate_key_update(seen_at=now))
    if _entry(load_visit(db, head), screen, role, unsent, seq) is None:
        return None
    locked = lock_head(db, visit_id)
    if locked is None:
        raise NotFound("visit")
    visit = load_visit(db, locked)
    payload = _entry(visit, screen, role, unsent, seq)
    return Appended(visit_id, _enter(db, clock, locked, visit, payload), was_known=False) if payload else None


def leave(db: Session, visit_id: str, screen: str) -> None:
    """Note that a screen was closed and held nothing. One that a run waits for stays awaited: it must say so again."""
    where = (VisitScreen.visit_id == visit_id, VisitScreen.screen == screen, VisitScreen.awaited_run.is_(None))
    db.execute(delete(VisitScreen).where(*where))


def _entry(visit: Visit, screen: str, role: Role, unsent: int, seq: int) -> ev.ScreenTookPart | ev.ScreenCleared | None:
    one = visit.current_try
    if one is None or visit.rules.book.ratio(WAIT) is None:
        return None
    known = next((each for each in one.screens if each.screen == screen), None)
    if known is not None and known.role != role:
        return None  # a wearer's screen does not speak for the bench's, nor the other way round
    run_id = one.started.run_id
    if known is None:
        return ev.ScreenTookPart(run_id, screen, role) if one.is_running else None
    is_clear = not one.is_running and unsent == 0 and seq >= one.ended_seq
    return ev.ScreenCleared(run_id, screen) if known.state == "awaited" and is_clear else None


def name_those_present(db: Session, clock: Clock, done: Appended) -> Appended:
    """Enter which screens are there where a run has just been started; return the state after it."""
    visit, head = done.visit, lock_head(db, done.visit_id)
    if done.was_known or head is None or visit.running is None or visit.rules.book.ratio(WAIT) is None:
        return done
    since = clock.now(db) - PRESENT
    here = select(VisitScreen).where(VisitScreen.visit_id == head.id, VisitScreen.seen_at > since)
    for row in db.scalars(here.order_by(VisitScreen.screen)).all():
        payload = ev.ScreenTookPart(visit.running.started.run_id, row.screen, row.role)
        visit = _enter(db, clock, head, visit, payload)
    return replace(done, visit=visit)


def lose_screens(db: Session, clock: Clock) -> int:
    """Give up on screens not heard of in time after their run; returns how many."""
    now, count = clock.now(db), 0
    awaited = select(VisitScreen.visit_id, VisitScreen.screen, VisitScreen.awaited_run)
    for visit_id, screen, run_id in db.execute(awaited.where(VisitScreen.awaited_run.is_not(None))).all():
        known = db.get(VisitHead, visit_id)
        if known is None or run_id is None or not _is_over(load_visit(db, known), run_id, now):
            continue
        head = lock_head(db, visit_id)  # only now: heads that are merely waited for stay free for presses
        if head is not None:
            _enter(db, clock, head, load_visit(db, head), ev.ScreenLost(run_id, screen))
            count += 1
    return count


def forget_screens(db: Session, clock: Clock) -> None:
    """Delete screens not heard of for long that no run waits for."""
    gone = VisitScreen.seen_at < clock.now(db) - FORGOTTEN
    db.execute(delete(VisitScreen).where(gone, VisitScreen.awaited_run.is_(None)))


def _is_over(visit: Visit, run_id: str, now: datetime) -> bool:
    one = find_try(visit, run_id)
    until = waited_until(visit, one) if one is not None else None
    return until is not None and now > until


def forget_wearers(db: Session, visit_id: str) -> None:
    """Forget the wearer's screens of a visit that no run waits for: their address has ended."""
    where = (VisitScreen.visit_id == visit_id, VisitScreen.role == "wearer", VisitScreen.awaited_run.is_(None))
    db.execute(delete(VisitScreen).where(*where))


def _enter(
    db: Session,
    clock: Clock,
    head: VisitHead,
    visit: Visit,
    payload: ev.ScreenTookPart | ev.ScreenCleared | ev.ScreenLost,
) -> Visit:
    awaited = payload.run_id if isinstance(payload, ev.ScreenTookPart) else None
    where = (VisitScreen.visit_id == head.id, VisitScreen.screen == payload.screen)
    db.execute(update(VisitScreen).where(*where).values(awaited_run=awaited))
    now = clock.now(db)
    moment = max(now, visit.last_at or now)
    return append(db, clock, "screens", head, visit, new_id(), payload, moment, digest(encode(payload)))
