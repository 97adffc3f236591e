"""The news of the day: a page of visits, or of who may wear what, hears that something has changed and asks then."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from queue import Full, Queue
from typing import Any

from sqlalchemy import Engine, func, select
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

from moorfog.platform.db.base import quick_engine
from moorfog.platform.db.scope import Scope
from moorfog.platform.log.summaries import VisitSummary
from moorfog.rooms.kit.tables import KitRecall
from moorfog.rooms.people.tables import ChangeReport, ClearanceRow, TrainingRow

PERIOD_S = 0.5
"""How often it is looked whether anything has changed, by all pages of this process together."""
LATEST = 60
"""Lines of visits that are looked at, the last written first; more are not written between two looks."""
CHANGED = "event: changed\ndata: {}\n\n"
FILED: tuple[Any, ...] = (ClearanceRow, TrainingRow, ChangeReport)
log = logging.getLogger("moorfog.day")
Line = tuple[str, str, int, bool]


@dataclass
class Listener:
    """A page that listens: whose visits it lists, and where it hears of them."""

    scope: Scope
    queue: Queue[str]


@dataclass(frozen=True)
class Heard:
    """What the day looked like: visits written last (id, employer, entry, seal check open), and what else counts."""

    lines: frozenset[Line]
    rest: tuple[object, ...]


class Day:
    """Looks at the database for all pages of this process. One thread, started with the first of them."""

    def __init__(self, engine: Engine) -> None:
        self.engine = quick_engine(engine)
        self.listeners: list[Listener] = []
        self.lock = threading.Lock()
        self.over = threading.Event()
        self.thread: threading.Thread | None = None
        self.heard: Heard | None = None

    def listen(self, scope: Scope) -> tuple[Queue[str], Callable[[], None]]:
        """Return where a page hears of changes, and what ends it."""
        one = Listener(scope, Queue(2))
        with self.lock:
            self.listeners.append(one)
            if self.thread is None or not self.thread.is_alive():
                self.heard = None
                self.thread = threading.Thread(target=self._tail, daemon=True, name="day")
                self.thread.start()

        def end() -> None:
            with self.lock:
                if one in self.listeners:
                    self.listeners.remove(one)

        return one.queue, end

    def _tail(self) -> None:
        while True:
            with self.lock:
                if not self.listeners:
                    self.thread = None
                    return
            try:
                self._look()
            except DBAPIError:
                self.heard = None  # whatever was missed meanwhile: everybody asks anew
            except Exception:
                log.exception("day")
            self.over.wait(PERIOD_S)

    def _look(self) -> None:
        with Session(self.engine) as db:
            now = look(db)
        before, self.heard = self.heard, now
        with self.lock:
            listeners = list(self.listeners)
        for one in listeners:
            if before is None or before.rest != now.rest or _concerns(one.scope, before.lines ^ now.lines):
                with suppress(Full):  # it has heard already, and not asked yet
                    one.queue.put_nowait(CHANGED)


def look(db: Session) -> Heard:
    """Return how the day looks: a few lines by their indexes, however many visits there are."""
    latest = select(
        VisitSummary.visit_id, VisitSummary.employer_id, VisitSummary.source_seq, VisitSummary.seal_open
    ).order_by(VisitSummary.changed_at.desc())
    lines = frozenset((one, whose, seq, bool(open_)) for one, whose, seq, open_ in db.execute(latest.limit(LATEST)))
    recalls = db.execute(select(KitRecall.state, func.count(), func.max(KitRecall.until)).group_by(KitRecall.state))
    filed = [db.scalar(select(table.id).order_by(table.id.desc()).limit(1)) for table in FILED]  # ids rise with time
    return Heard(lines, (*sorted((state, number, str(until)) for state, number, until in recalls), *filed))


def _concerns(scope: Scope, lines: frozenset[Line]) -> bool:
    return any(scope.allows(employer) for _, employer, _, _ in lines)
