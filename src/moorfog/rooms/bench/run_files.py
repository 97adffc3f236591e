"""A run whose readings come as a file, from an instrument that gives only files."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import insert
from sqlalchemy.orm import Session

from moorfog.core.kernel.canonical import digest
from moorfog.core.kernel.codec import DataError, encode
from moorfog.core.measuring.readings import chunk_of
from moorfog.core.visit.state import Visit
from moorfog.core.visit.tries import find_try
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.log import load_visit, lock_head
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.errors import Conflict, DomainError, NotFound
from moorfog.rooms.bench.readings import chunk_row
from moorfog.rooms.bench.readings_file import read_readings
from moorfog.rooms.bench.runs import closed_with
from moorfog.rooms.bench.tables import ReadingChunk
from moorfog.rooms.bench.visits import append

PER_CHUNK = 200


def import_run(db: Session, clock: Clock, actor: Actor, visit_id: str, run_id: str, text: str) -> Visit:
    """Seal a run with the readings of a file, judged as those of a link are. Nothing is kept of a file that is refused.

    The run must have been started to be typed, and its protocol be over. Raises :class:`DomainError` naming line and
    column of what is wrong, :class:`Conflict` for a run that is over, :class:`NotFound` outside the scope.
    """
    scope = actor.require("tester")
    head = lock_head(db, visit_id)
    if head is None or not scope.allows(head.employer_id):
        raise NotFound("visit")
    visit = load_visit(db, head)
    one = find_try(visit, run_id)
    protocol = visit.rules.protocol(one.started.protocol_id) if one is not None else None
    if one is None or one.counted is None or protocol is None:
        raise NotFound("run")
    if one.counted.source != "typed" or not one.is_running:
        raise Conflict("run_over", "This run waits for no file. Start a new try whose numbers you bring.")
    now, ends = clock.now(db), visit.run_ends_at(one)
    if ends is None or now < ends:
        left = (ends - now) if ends is not None else timedelta()
        raise DomainError("too_early", f"The protocol goes on for another {left.total_seconds():.0f} s. Bring it then.")
    try:
        readings = read_readings(text, protocol)
    except DataError as error:
        raise DomainError("bad_file", f"{error.where}: {error.problem}. Mend the file and bring it again.") from error
    starts = range(0, len(readings), PER_CHUNK)
    chunks = (chunk_of(first, readings[first : first + PER_CHUNK]) for first in starts)
    db.execute(insert(ReadingChunk), [chunk_row(run_id, one.counted.instrument.id, each, now) for each in chunks])
    payload = closed_with(run_id, protocol, visit.rules.book, readings, "complete", one.counted.instrument)
    moment = max(now, visit.last_at or now)
    return append(db, clock, actor.id, head, visit, new_id(), payload, moment, digest(encode(payload)))
