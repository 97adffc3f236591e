"""Runs: starting one on a counter, what its link is told to do, its readings, and sealing it."""

from __future__ import annotations

import hashlib
from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any, Literal, TypeAlias

from sqlalchemy import delete, insert, select
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import Session

from moorfog.core.events import payloads as ev
from moorfog.core.events.payloads import instant
from moorfog.core.kernel.arithmetic import exact_text
from moorfog.core.kernel.canonical import digest
from moorfog.core.kernel.codec import encode
from moorfog.core.measuring.readings import Reading, seal_digest
from moorfog.core.measuring.reduction import reduce_run
from moorfog.core.rules.book import Book, Protocol
from moorfog.core.simulation.faults import DRAWN, KIT_FAULTS, PRACTICE, TIGHT_SEAL, WEARER_FAULTS, drawn
from moorfog.core.simulation.wearer import faulty_factors, wearer_factors
from moorfog.core.views.visit_view import level_for, run_protocols
from moorfog.core.visit.state import Visit
from moorfog.core.visit.tries import find_try
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import Scope
from moorfog.platform.log.log import load_visit, lock_head
from moorfog.platform.log.tables import Lease, VisitHead
from moorfog.platform.web.errors import Conflict, DomainError, NotFound
from moorfog.platform.web.routing import Linked
from moorfog.rooms.bench.proofs import PROOF_OF, close_proof, open_proof
from moorfog.rooms.bench.proposals import StartRun
from moorfog.rooms.bench.readings import Sealed, load_readings, no_lease
from moorfog.rooms.bench.tables import ReadingChunk
from moorfog.rooms.bench.visits import append
from moorfog.rooms.kit.instruments import find_instrument, instrument_facts, why_another
from moorfog.rooms.kit.plan import RunPlan
from moorfog.rooms.kit.tables import InstrumentRow
from moorfog.rooms.people.tables import Person

Mode: TypeAlias = Literal["ordinary", "classified", "photometer", "pressure"]
GRACE = timedelta(seconds=20)
"""How long after a run's end a link that can be heard may take to seal it before the run is void."""
AWAY = timedelta(seconds=120)
"""The same where the link has not been heard since: the readings may be with it, and only the server was away."""


def start_run(
    db: Session, clock: Clock, head: VisitHead, visit: Visit, body: StartRun, occurred_at: datetime
) -> ev.RunStarted:
    """Freeze what a run is judged by, and take the lease on its counter.

    Raises :class:`DomainError` where facepiece, protocol or level are missing; :class:`Conflict` where another
    bench holds the counter.
    """
    piece = visit.facepiece
    offered = run_protocols(visit)
    protocol = next((one for one in offered if body.protocol_id in ("", one.id)), None)
    level = level_for(visit)
    if piece is None or protocol is None or level is None:
        raise DomainError(
            "not_permitted", "No protocol or pass level for this facepiece. Choose a facepiece the rule book covers."
        )
    row = find_instrument(db, Scope(frozenset({head.employer_id})), body.instrument_id)
    if body.fault and not (visit.is_practice and row.is_simulated and body.fault in (*PRACTICE, DRAWN)):
        raise DomainError("fault", f"Only practice on a simulated instrument is set to: {', '.join(PRACTICE)}.")
    mode = mode_of(protocol, piece, visit.rules.book)
    hidden = drawn(body.run_id) if body.fault == DRAWN else ""
    started = ev.RunStarted(
        run_id=body.run_id,
        source=body.source,
        method=protocol.family,  # type: ignore[arg-type]  # none of the qualitative ones is offered
        protocol_id=protocol.id,
        mode=mode,
        level=exact_text(level),
        count_in_ms=protocol.count_in_s * 1000,
        instrument=instrument_facts(db, row, occurred_at, mode),
        hidden=hidden,
    )
    if body.source == "counter":
        _take_lease(db, head, visit, started, protocol, row, occurred_at, hidden or body.fault)
    return started


def mode_of(protocol: Protocol, piece: ev.Facepiece, book: Book) -> Mode:
    """Return the mode an instrument is set to: the protocol's own, or how a counter counts behind this filter class."""
    if protocol.family == "photometer" or protocol.family == "pressure":
        return protocol.family
    return "ordinary" if piece.filter_class in book.words("mode.ordinary.filters") else "classified"


def _take_lease(
    db: Session,
    head: VisitHead,
    visit: Visit,
    started: ev.RunStarted,
    protocol: Protocol,
    row: InstrumentRow,
    occurred_at: datetime,
    fault: str,
) -> None:
    t0 = occurred_at + timedelta(milliseconds=started.count_in_ms)
    ends = visit.after(t0, protocol.total_s)
    plan: RunPlan = {
        "run_id": started.run_id,
        "t0": instant(t0),
        "speed": visit.speed,
        "mode": started.mode,
        "windows": [[one.start_ms, one.end_ms, one.valve] for one in protocol.windows()],
        "total_ms": protocol.total_s * 1000,
        "may_end_early": not protocol.is_counted,
        "level_key": visit.facepiece.level_key if visit.facepiece is not None else "",
        "protocol": encode(protocol),
    }
    if row.is_simulated:
        plan["simulated"] = simulated_wearer(db, visit, protocol, fault)
    try:
        with db.begin_nested():
            db.execute(
                insert(Lease).values(
                    instrument_id=row.id, run_id=started.run_id, visit_id=head.id, plan=plan, ends_at=ends
                )
            )
    except IntegrityError:
        raise Conflict(
            "counter_busy",
            f"{row.name} is being used for another run. Wait until it is over, or choose another counter.",
        ) from None


def simulated_wearer(db: Session, visit: Visit, protocol: Protocol, fault: str = "") -> dict[str, Any]:
    """Return the seeded wearer the simulated instrument is to stand in for: by person, facepiece, size and try.

    ``fault``: what wearer or kit hides.
    """
    piece, person = visit.facepiece, db.get(Person, visit.person_id)
    seed = int.from_bytes(
        hashlib.sha256(f"{visit.person_id}{piece.configuration if piece else ''}{len(visit.tries)}".encode()).digest()[
            :4
        ],
        "big",
    )
    near = 1.0
    if person is not None and person.face_length is not None and piece is not None:
        wanted = {"S": 1110, "S/M": 1140, "M": 1190, "one size": 1190, "M/L": 1230, "L": 1270}.get(piece.size, 1190)
        near = max(0.15, 1.4 - abs(person.face_length - wanted) / 90)
    typical = (9000 if piece is not None and piece.level_key == "level.full" else 2600) * near
    leak = seed % len(protocol.exercises()) if near < 0.6 else None
    factors = wearer_factors(seed, typical if near >= 0.6 else typical * 0.12, leak, len(protocol.exercises()))
    if fault in WEARER_FAULTS:
        factors = faulty_factors(seed, 400, fault, [one.id for one in protocol.exercises()])
    elif fault == TIGHT_SEAL:
        factors = (10**9,) * len(protocol.exercises())
    elif fault:
        factors = wearer_factors(seed, 4000, None, len(protocol.exercises()))
    return {
        "seed": seed,
        "factors": list(factors),
        "starts_ms": list(protocol.starts_ms()),
        "kit_fault": fault if fault in KIT_FAULTS else "",
    }


def visit_of_run(db: Session, run_id: str) -> str | None:
    """Return the visit whose run holds a counter, or None."""
    return db.scalar(select(Lease.visit_id).where(Lease.run_id == run_id))


def _leased(db: Session, instrument_id: str, run_id: str) -> Lease:
    lease = db.get(Lease, instrument_id)
    if lease is None or lease.run_id != run_id:
        raise no_lease()
    return lease


def closed_with(
    run_id: str, protocol: Protocol, book: Book, readings: list[Reading], end: ev.RunEnd, instrument: ev.Instrument
) -> ev.RunClosed:
    """Return the entry that seals a run: which readings there are, their digest, what they come to."""
    found = reduce_run(protocol, book, readings, end, instrument)
    return ev.RunClosed(
        run_id=run_id,
        end=end,
        first=0,
        last=max(len(readings) - 1, 0),
        count=len(readings),
        sha256=seal_digest(readings),
        windows=found.windows,
        deviations=found.deviations,
        signals=found.signals,
        holds=found.holds,
    )


def close_run(
    db: Session,
    clock: Clock,
    row: Linked,
    run_id: str,
    sealed: Sealed,
) -> Visit:
    """Seal a run: compare what is stored with what the link read, reduce it to window sums, let the lease go.

    Raises :class:`Conflict` ``readings_missing`` with what is stored, so that the link can send the rest again.
    """
    visit_id = visit_of_run(db, run_id)
    head = lock_head(db, visit_id) if visit_id else None
    if head is None:
        raise Conflict("no_lease", "This run is sealed or void already.")
    lease = _leased(db, row.id, run_id)
    visit = load_visit(db, head)
    if PROOF_OF in lease.plan:
        return close_proof(db, clock, f"link:{row.name}", head, visit, lease, sealed)
    one = find_try(visit, run_id)
    protocol = visit.rules.protocol(one.started.protocol_id) if one else None
    if one is None or one.counted is None or protocol is None:
        raise NotFound("run")
    if why := why_another(db.get_one(InstrumentRow, row.id, populate_existing=True), one.counted.instrument):
        void_run(db, clock, head.id, run_id, why, f"link:{row.name}")
        return load_visit(db, head)
    readings = load_readings(db, run_id, sealed.count)
    payload = closed_with(run_id, protocol, visit.rules.book, readings, sealed.end, one.counted.instrument)
    if payload.sha256 != sealed.sha256:
        differ = ev.Deviation("digest", "stored and sealed digests differ", 0)
        payload = replace(payload, deviations=(*payload.deviations, differ))
    moment = max(sealed.occurred_at, visit.last_at or sealed.occurred_at)
    after = append(db, clock, f"link:{row.name}", head, visit, new_id(), payload, moment, digest(encode(payload)))
    db.execute(delete(Lease).where(Lease.run_id == run_id))
    open_proof(db, clock, head, after, lease.plan)
    return after


NEVER_CAME = "The counter's readings never came."


def stale_runs(db: Session, clock: Clock, run_id: str | None = None) -> list[tuple[str, str]]:
    """Return visit and run of those that their link never sealed; of one run, where it is named.

    A link not heard since the run's end is waited for longer, unless the bench has ended the run itself; so is one that
    says it has that run in hand. None is stale while its readings still come in.
    """
    now = clock.now(db)
    coming = select(ReadingChunk.run_id).where(ReadingChunk.run_id == Lease.run_id)
    coming = coming.where(ReadingChunk.received_at.between(now - GRACE, now + GRACE))
    query = select(Lease.visit_id, Lease.run_id, Lease.ends_at, Lease.stop, InstrumentRow.seen_at, InstrumentRow.live)
    query = query.join(InstrumentRow, InstrumentRow.id == Lease.instrument_id)
    query = query.where(Lease.ends_at < now - GRACE, ~coming.exists())
    if run_id is not None:
        query = query.where(Lease.run_id == run_id)
    found = []
    for visit, run, ends_at, stop, seen_at, live in db.execute(query):
        is_heard = seen_at is not None and seen_at > ends_at and (live or {}).get("run_id") != run
        if stop or is_heard or ends_at < now - AWAY:
            found.append((visit, run))
    return found


def give_up_run(db: Session, clock: Clock, visit_id: str, run_id: str) -> None:
    """Void a run whose readings never came, unless they come just now: whoever takes them in holds its lease."""
    lock_head(db, visit_id)
    db.execute(select(Lease.run_id).where(Lease.run_id == run_id).with_for_update())
    if stale_runs(db, clock, run_id):
        void_run(db, clock, visit_id, run_id, NEVER_CAME, "worker")


def void_run(db: Session, clock: Clock, visit_id: str, run_id: str, reason: str, actor: str) -> None:
    """Void a run from outside and free its counter; does nothing to one that is sealed."""
    head = lock_head(db, visit_id)
    if head is None:
        return
    visit = load_visit(db, head)
    one, lease = find_try(visit, run_id), db.scalar(select(Lease).where(Lease.run_id == run_id))
    if lease is not None and PROOF_OF in lease.plan:
        close_proof(db, clock, actor, head, visit, lease, Sealed("lost", 0, "", clock.now(db)))
    elif one is not None and one.closed is None and not one.voided:
        payload = ev.RunVoided(run_id, reason)
        append(
            db,
            clock,
            actor,
            head,
            visit,
            new_id(),
            payload,
            max(clock.now(db), visit.last_at or clock.now(db)),
            digest(encode(payload)),
        )
    db.execute(delete(Lease).where(Lease.run_id == run_id))
