"""Live updates: each process tails the heads of the visits it watches and fans changes out to its browsers."""

from __future__ import annotations

import json
import logging
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime
from fractions import Fraction
from queue import Empty, Full, Queue
from typing import Any

from flask import Response
from pydantic import TypeAdapter
from sqlalchemy import Engine, select
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

from moorfog.core.arithmetic import cut
from moorfog.core.events import parse_instant
from moorfog.core.readings import Reading, Reduction, live_numbers
from moorfog.core.visit import Visit
from moorfog.operations.runs import load_chunks
from moorfog.operations.views import VisitView, view_for_screen
from moorfog.store.base import Clock
from moorfog.store.log import load_visit
from moorfog.store.models import ReadingChunk, VisitHead
from moorfog.store.scope import Scope

PERIOD_S = 0.05
QUEUE_LENGTH = 64
_state = TypeAdapter(VisitView)
log = logging.getLogger("moorfog.live")


@dataclass
class RunWatch:
    """A run being followed: its reduction and its readings so far."""

    run_id: str
    reduction: Reduction
    level: Fraction
    drift: Fraction
    last_first: int = -1
    readings: list[Reading] = field(default_factory=list)


@dataclass
class Watch:
    """A visit being followed by at least one browser."""

    seq: int = -1
    changes_at: datetime | None = None
    run: RunWatch | None = None
    queues: list[Queue[str]] = field(default_factory=list)


def message(kind: str, content: str) -> str:
    """Return one server-sent event."""
    return f"event: {kind}\ndata: {content}\n\n"


class Hub:
    """Tails the database for this process. One thread, started with the first browser."""

    def __init__(self, engine: Engine, clock: Clock) -> None:
        self.engine = engine
        self.clock = clock
        self.watches: dict[str, Watch] = {}
        self.lock = threading.Lock()
        self.thread: threading.Thread | None = None

    def subscribe(self, visit_id: str) -> Queue[str]:
        """Return a bounded queue on which this visit's messages arrive, beginning with its whole state."""
        queue: Queue[str] = Queue(QUEUE_LENGTH)
        with self.lock:
            watch = self.watches.setdefault(visit_id, Watch())
            watch.queues.append(queue)
            watch.seq = -1
            if watch.run is not None:
                watch.run = None
            if self.thread is None or not self.thread.is_alive():
                self.thread = threading.Thread(target=self._tail, daemon=True, name="live")
                self.thread.start()
        return queue

    def unsubscribe(self, visit_id: str, queue: Queue[str]) -> None:
        """Stop following."""
        with self.lock:
            watch = self.watches.get(visit_id)
            if watch is not None and queue in watch.queues:
                watch.queues.remove(queue)
                if not watch.queues:
                    del self.watches[visit_id]

    def _send(self, watch: Watch, text: str) -> None:
        with self.lock:
            queues = list(watch.queues)
        for queue in queues:
            try:
                queue.put_nowait(text)
            except Full:
                while not queue.empty():
                    try:
                        queue.get_nowait()
                    except Empty:
                        break
                queue.put_nowait(message("resync", "{}"))

    def _tail(self) -> None:
        away = False
        while True:
            with self.lock:
                watched = dict(self.watches)
                if not watched:
                    self.thread = None
                    return
            try:
                with Session(self.engine) as db:
                    self._look(db, watched)
                if away:
                    away = False
                    for watch in watched.values():
                        watch.seq = -1
            except DBAPIError:
                if not away:
                    log.warning("the database does not answer")
                    for watch in watched.values():
                        self._send(watch, message("away", "{}"))
                away = True
                time.sleep(0.3)
            except Exception:
                log.exception("live")
                time.sleep(0.5)
            time.sleep(PERIOD_S)

    def _look(self, db: Session, watched: dict[str, Watch]) -> None:
        heads = {one.id: one for one in db.scalars(select(VisitHead).where(VisitHead.id.in_(watched)))}
        now = self.clock.now(db)
        for visit_id, watch in watched.items():
            head = heads.get(visit_id)
            if head is None:
                continue
            due = watch.changes_at is not None and now >= watch.changes_at
            if head.seq != watch.seq or due:
                view = view_for_screen(db, self.clock, Scope(None), visit_id)
                changes = view.picture.changes_at
                watch.changes_at = parse_instant(changes, "changes_at") if changes else None
                watch.seq = view.picture.seq
                self._send(watch, message("state", _state.dump_json(view).decode()))
                self._follow(watch, load_visit(db, head))
            if watch.run is not None:
                self._read(db, watch, watch.run)

    def _follow(self, watch: Watch, visit: Visit) -> None:
        running = visit.running
        if running is None or running.started.source != "counter":
            watch.run = None
            return
        if watch.run is not None and watch.run.run_id == running.started.run_id:
            return
        protocol = visit.rules.protocol(running.started.protocol_id)
        if protocol is not None:
            book = visit.rules.book
            reduction = Reduction(protocol, int(book.number("missing.maximum")))
            watch.run = RunWatch(
                running.started.run_id, reduction, Fraction(running.started.level), book.number("drift.maximum")
            )

    def _read(self, db: Session, watch: Watch, run: RunWatch) -> None:
        newest = db.scalar(
            select(ReadingChunk.first)
            .where(ReadingChunk.run_id == run.run_id)
            .order_by(ReadingChunk.first.desc())
            .limit(1)
        )
        if newest is None or newest <= run.last_first:
            return
        fresh: list[Reading] = []
        for chunk in load_chunks(db, run.run_id, run.last_first):
            fresh.extend(chunk.readings())
            run.last_first = max(run.last_first, chunk.first)
        for one in fresh:
            run.reduction.feed(one)
        run.readings.extend(fresh)
        self._send(watch, message("live", json.dumps(live_message(run, fresh))))


def live_message(run: RunWatch, fresh: list[Reading]) -> dict[str, Any]:
    """Return the numbers of a running run with the readings since the last message. Geometry only, no judgement."""
    numbers = live_numbers(run.reduction, run.level, run.drift)
    outside = numbers.outside
    return {
        "run_id": run.run_id,
        "t": fresh[-1].t if fresh else None,
        "outside": cut(outside, 0) if outside is not None else None,
        "inside": cut(numbers.inside, 1) if numbers.inside is not None else None,
        "inside_live": numbers.is_inside_live,
        "wall": float(outside / run.level) if outside else None,
        "wall_words": cut(outside / run.level, 1) if outside else None,
        "shares": [float(one) for one in numbers.shares],
        "factors": [cut(one, 0) if one is not None else None for one in numbers.factors],
        "unlikely": numbers.is_unlikely,
        "lost": numbers.is_lost,
        "points": [[one.t, one.counts * 1e6 / one.volume_nl, one.valve] for one in fresh],
    }


def stream_response(hub: Hub, visit_id: str) -> Response:
    """Return the event stream of one visit; the request's database session is released by now."""

    def events() -> Iterator[str]:
        queue = hub.subscribe(visit_id)
        try:
            yield "retry: 1000\n\n"
            while True:
                try:
                    yield queue.get(timeout=10)
                except Empty:
                    yield ": still here\n\n"
        finally:
            hub.unsubscribe(visit_id, queue)

    response = Response(events(), mimetype="text/event-stream")
    response.headers.update({"Cache-Control": "no-cache", "X-Accel-Buffering": "no"})
    return response
