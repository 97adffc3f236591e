"""Live updates: each process tails the heads of the visits it watches and fans changes out to its browsers."""

from __future__ import annotations

import json
import logging
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import datetime
from fractions import Fraction
from functools import partial
from queue import Empty, Full, Queue
from typing import TypeVar

from flask import Response
from pydantic import TypeAdapter
from sqlalchemy import Engine, bindparam, select
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import parse_instant
from moorfog.core.kernel.arithmetic import cut
from moorfog.core.kernel.codec import encode
from moorfog.core.measuring.live import live_numbers, value_of
from moorfog.core.measuring.readings import Reading
from moorfog.core.measuring.reduction import Reduction, reduction_for
from moorfog.core.rules.book import Book
from moorfog.core.views.wearer import WearerView, wearer_view
from moorfog.core.visit.proof import ProofStream, awaits_stream
from moorfog.core.visit.proof import followed as followed_on
from moorfog.core.visit.state import Visit
from moorfog.platform.db.base import quick_engine
from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import Scope
from moorfog.platform.log.log import load_visit
from moorfog.platform.log.tables import VisitHead
from moorfog.platform.web.errors import DomainError
from moorfog.platform.web.routing import Follow
from moorfog.rooms.bench.messages import LiveMessage, ProofMessage
from moorfog.rooms.bench.proofs import stream_of, stream_on
from moorfog.rooms.bench.readings import load_fresh_chunks
from moorfog.rooms.bench.views import BenchView, view_for_screen
from moorfog.steps import Apart

PERIOD_S = 0.05
"""How often what other processes stored is looked for."""
GATHER_S = 0.01
"""How long, after readings came to this process, others are waited for that come with them."""
QUEUE_LENGTH = 64
MOST_STREAMS = 60
"""Streams of one process at the most: each holds a thread, and of a hundred the rest answers requests."""
OF_ONE, OF_MACHINE = 12, 45
"""Of these, those of one sign-in or wearer's address, and those of one machine."""
ASK_EVERY_S = 10.0
"""How often it is asked again whether a browser may see what is streamed to it."""
_SEQS = select(VisitHead.id, VisitHead.seq).where(VisitHead.id.in_(bindparam("visits", expanding=True)))
_state = TypeAdapter(BenchView)
_wearer = TypeAdapter(WearerView)
log = logging.getLogger("moorfog.live")


@dataclass
class RunWatch:
    """A run being followed: its reduction so far, and what it is judged by."""

    run_id: str
    reduction: Reduction
    book: Book
    level: Fraction
    kind: str
    last_first: int = -1


@dataclass
class ProofWatch:
    """The proof of a held run being followed."""

    run_id: str
    stream: ProofStream
    last_first: int = -1


@dataclass
class Watch:
    """A visit being followed by at least one browser."""

    seq: int = -1
    changes_at: datetime | None = None
    run: RunWatch | None = None
    proof: ProofWatch | None = None
    queues: list[Queue[str]] = field(default_factory=list)
    wearers: list[Queue[str]] = field(default_factory=list)

    def of(self, for_wearer: bool) -> list[Queue[str]]:
        """Return the queues of the wearer's screens, or of the others."""
        return self.wearers if for_wearer else self.queues


def message(kind: str, content: str) -> str:
    """Return one server-sent event."""
    return f"event: {kind}\ndata: {content}\n\n"


class Places:
    """The places for streams in this process: so many in all, of one sign-in or address, and of one machine."""

    def __init__(self) -> None:
        self.lock = threading.Lock()
        self.taken: Counter[str] = Counter()

    def take(self, who: str, machine: str) -> Callable[[], None] | None:
        """Take a place; return what gives it back, or None where there is none."""
        wanted = (("all", MOST_STREAMS), (f"who {who}", OF_ONE), (f"machine {machine}", OF_MACHINE))
        with self.lock:
            if any(self.taken[key] >= most for key, most in wanted):
                return None
            self.taken.update(key for key, _ in wanted)

        def give_back() -> None:
            with self.lock:
                self.taken -= Counter(key for key, _ in wanted)

        return give_back


class Hub:
    """Tails the database for this process. One thread, started with the first browser."""

    def __init__(self, engine: Engine, clock: Clock) -> None:
        self.engine = quick_engine(engine)
        self.clock = clock
        self.news = threading.Event()
        self.apart = Apart(log, time.monotonic, "following a visit")
        self.places = Places()
        self.watches: dict[str, Watch] = {}
        self.lock = threading.Lock()
        self.thread: threading.Thread | None = None

    def subscribe(self, visit_id: str, for_wearer: bool = False) -> Queue[str]:
        """Return a bounded queue on which this visit's messages arrive, beginning with its whole state."""
        queue: Queue[str] = Queue(QUEUE_LENGTH)
        with self.lock:
            watch = self.watches.setdefault(visit_id, Watch())
            watch.of(for_wearer).append(queue)
            watch.seq = -1
            watch.run = watch.proof = None
            if self.thread is None or not self.thread.is_alive():
                self.thread = threading.Thread(target=self._tail, daemon=True, name="live")
                self.thread.start()
        return queue

    def unsubscribe(self, visit_id: str, queue: Queue[str], for_wearer: bool = False) -> None:
        """Stop following."""
        with self.lock:
            watch = self.watches.get(visit_id)
            if watch is not None and queue in watch.of(for_wearer):
                watch.of(for_wearer).remove(queue)
                if not watch.queues and not watch.wearers:
                    del self.watches[visit_id]

    def nudge(self) -> None:
        """Say that this process has stored readings: they are looked for at once."""
        self.news.set()

    def _send(self, watch: Watch, text: str, for_wearer: bool = False) -> None:
        with self.lock:
            queues = list(watch.of(for_wearer))
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
                        self._send(watch, message("away", "{}"), for_wearer=True)
                away = True
                time.sleep(0.3)
            except Exception:
                log.exception("live")
                time.sleep(0.5)
            if self.news.wait(PERIOD_S):
                time.sleep(GATHER_S)
                self.news.clear()

    def _look(self, db: Session, watched: dict[str, Watch]) -> None:
        seqs = dict(db.connection().execute(_SEQS, {"visits": list(watched)}).all())
        now = self.clock.now(db)
        for visit_id, watch in watched.items():
            seq = seqs.get(visit_id)
            due = watch.changes_at is not None and now >= watch.changes_at
            is_new = seq is not None and (seq != watch.seq or due) and not self.apart.is_resting(visit_id)
            if is_new and not self.apart.do(visit_id, partial(self._say, db, visit_id, watch, now)):
                for for_wearer in (False, True):
                    self._send(watch, message("away", "{}"), for_wearer=for_wearer)
        self._read(db, [(one, one.run) for one in watched.values() if one.run is not None])
        self._read_proofs(db, [(one, one.proof) for one in watched.values() if one.proof is not None])

    def _say(self, db: Session, visit_id: str, watch: Watch, now: datetime) -> None:
        """Tell the screens of a visit how it stands."""
        view = view_for_screen(db, self.clock, Scope(None), visit_id)
        changes = view.visit.changes_at
        watch.changes_at = parse_instant(changes, "changes_at") if changes else None
        self._send(watch, message("state", _state.dump_json(view).decode()))
        if watch.wearers:
            wearers = _wearer.dump_json(wearer_view(view.visit)).decode()
            self._send(watch, message("state", wearers), for_wearer=True)
        head = db.get(VisitHead, visit_id)
        if head is not None:
            visit = load_visit(db, head)
            self._follow(watch, visit)
            self._follow_proof(db, watch, visit_id, visit, now)
        watch.seq = view.visit.seq

    def _follow(self, watch: Watch, visit: Visit) -> None:
        running = visit.running
        started = running.counted if running is not None else None
        if running is None or started is None or started.source != "counter":
            watch.run = None
            return
        if watch.run is not None and watch.run.run_id == running.started.run_id:
            return
        protocol = visit.rules.protocol(running.started.protocol_id)
        if protocol is not None:
            book = visit.rules.book
            reduction = reduction_for(protocol, int(book.number("missing.maximum")))
            watch.run = RunWatch(
                run_id=running.started.run_id,
                reduction=reduction,
                book=book,
                level=Fraction(started.level),
                kind=running.facepiece.kind,
            )

    def _follow_proof(self, db: Session, watch: Watch, visit_id: str, visit: Visit, now: datetime) -> None:
        one = awaits_stream(visit, now)
        stream = stream_of(visit, one) if one is not None else None
        found = stream_on(db, visit_id) if stream is not None else None
        if stream is None or found is None:
            watch.proof = None
        elif watch.proof is None or watch.proof.run_id != found:
            watch.proof = ProofWatch(found, stream)

    def _read_proofs(self, db: Session, followed: list[tuple[Watch, ProofWatch]]) -> None:
        """Feed what is new of all proofs that are followed, and tell their screens; one question for all of them."""
        for watch, proof, fresh in _fresh(db, followed):
            if not self.apart.do(f"proof {proof.run_id}", partial(self._say_proof, watch, proof, fresh)):
                watch.proof = None

    def _say_proof(self, watch: Watch, proof: ProofWatch, fresh: list[Reading]) -> None:
        latest = followed_on(proof.stream, fresh).latest
        inside = cut(latest, 3) if latest is not None else None
        said = ProofMessage(inside, proof.stream.is_still, proof.stream.risen)
        self._send(watch, message("proof", json.dumps(encode(said))))

    def _read(self, db: Session, followed: list[tuple[Watch, RunWatch]]) -> None:
        """Feed what is new of all runs that are followed, and tell their screens; one question for all of them."""
        for watch, run, fresh in _fresh(db, followed):
            if not self.apart.do(f"run {run.run_id}", partial(self._say_live, watch, run, fresh)):
                watch.run = None

    def _say_live(self, watch: Watch, run: RunWatch, fresh: list[Reading]) -> None:
        for one in fresh:
            run.reduction.feed(one)
        self._send(watch, message("live", json.dumps(encode(live_message(run, fresh)))))


W = TypeVar("W", RunWatch, ProofWatch)


def _fresh(db: Session, followed: list[tuple[Watch, W]]) -> Iterator[tuple[Watch, W, list[Reading]]]:
    """Yield what is followed and has new readings, with these."""
    found = load_fresh_chunks(db, {one.run_id: one.last_first for _, one in followed})
    for watch, one in followed:
        chunks = found.get(one.run_id)
        if chunks:
            one.last_first = chunks[-1].first
            yield watch, one, [reading for chunk in chunks for reading in chunk.readings()]


def live_message(run: RunWatch, fresh: list[Reading]) -> LiveMessage:
    """Return the numbers of a running run with the readings since the last message. Geometry only, no judgement."""
    numbers = live_numbers(run.reduction, run.book, run.level, run.kind)
    outside = numbers.outside
    return LiveMessage(
        run_id=run.run_id,
        t=fresh[-1].t if fresh else None,
        outside=cut(outside, 0) if outside is not None else None,
        inside=cut(numbers.inside, 1) if numbers.inside is not None else None,
        inside_live=numbers.is_inside_live,
        wall=float(outside / run.level) if outside else None,
        wall_words=cut(outside / run.level, 1) if outside else None,
        shares=tuple(float(one) for one in numbers.shares),
        factors=tuple(cut(one, 0) if one is not None else None for one in numbers.factors),
        bounds=tuple(cut(Fraction(one), 0) if one is not None else None for one in numbers.bounds),
        heading=cut(numbers.heading, 0) if numbers.heading is not None else None,
        heading_bound=cut(Fraction(numbers.heading_bound), 0) if numbers.heading_bound is not None else None,
        unlikely=numbers.is_unlikely,
        lost=numbers.is_lost,
        ended_by=numbers.ended_by,
        points=tuple((one.t, float(value_of(run.reduction.protocol, one)), one.valve) for one in fresh),
    )


Listening = tuple[Queue[str], Callable[[], None]]


def follow_visit(hub: Hub, follow: Follow) -> Listening:
    """Return the queue on which a visit's messages arrive, and what ends it."""
    queue = hub.subscribe(follow.visit_id, follow.for_wearer)
    return queue, lambda: hub.unsubscribe(follow.visit_id, queue, follow.for_wearer)


def stream_response(
    places: Places, listen: Callable[[], Listening], still_may: Callable[[], bool], who: str, machine: str
) -> Response:
    """Return an event stream of what ``listen`` hears; the request's session is released by now.

    Every ten seconds it asks again whether this browser may see it. ``who``: by which sign-in or address it was asked
    for, ``machine``: from where. Raises :class:`DomainError` where this process streams to as many of them as it can
    beside answering requests.
    """
    give_back = places.take(who, machine)
    if give_back is None:
        raise DomainError(
            "too_many_screens",
            "As many screens follow along as this server can serve. This one shows what it knows and asks again.",
            status=503,
        )

    def events() -> Iterator[str]:
        queue, end = listen()
        try:
            yield "retry: 1000\n\n"
            asked = time.monotonic()
            while True:
                try:
                    yield queue.get(timeout=ASK_EVERY_S)
                except Empty:
                    yield ": still here\n\n"
                if time.monotonic() - asked >= ASK_EVERY_S:
                    asked = time.monotonic()
                    if not may_go_on(still_may):
                        yield message("over", "{}")
                        return
        finally:
            end()

    response = Response(events(), mimetype="text/event-stream")
    response.call_on_close(give_back)
    response.headers.update({"Cache-Control": "no-cache", "X-Accel-Buffering": "no"})
    return response


def may_go_on(still_may: Callable[[], bool]) -> bool:
    """Tell whether a stream may go on; while the database is away nobody can say, and nothing new is streamed."""
    try:
        return still_may()
    except DBAPIError:
        return True
