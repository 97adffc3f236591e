"""What a qualitative test is started with, filled in from the kit; and what its answers leave in the kit's books."""

from __future__ import annotations

import secrets
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.events import payloads as ev
from moorfog.core.kernel.days import day_in
from moorfog.core.rules.protocols import Protocol
from moorfog.core.visit.state import Visit
from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import Scope
from moorfog.platform.log.tables import VisitHead
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.errors import DomainError
from moorfog.rooms.bench.proposals import StartQualitative, StartScreening
from moorfog.rooms.kit.checks import note_act
from moorfog.rooms.kit.found_wrong import open_recall
from moorfog.rooms.kit.nebulisers import nebuliser_by_value, not_spraying, note_spray
from moorfog.rooms.kit.solutions import lots_by_value
from moorfog.rooms.kit.tables import CautionRow, NebuliserRow

CAUTION_ITEMS = {"smoke_cautions": "smoke"}


def day_at_site(visit: Visit, at: datetime) -> str:
    """Return the date at the visit's site, YYYY-MM-DD."""
    zone = visit.opened.zone if visit.opened is not None else "UTC"
    return day_in(zone, at).isoformat()


def _protocol(visit: Visit) -> Protocol:
    protocol = visit.protocol_for(visit.method)
    if protocol is None or not protocol.is_qualitative:
        raise DomainError("method", "No qualitative method is chosen for this facepiece. Choose the method first.")
    return protocol


def screening_facts(
    db: Session, head: VisitHead, visit: Visit, body: StartScreening, at: datetime
) -> ev.ScreeningStarted:
    """Return the start of a screening with its kit by value; where there are two jars, the program draws their order.

    Raises :class:`DomainError` without a method, :class:`NotFound` for kit outside the employer's.
    """
    protocol = _protocol(visit)
    scope = Scope(frozenset({head.employer_id}))
    by_jars = protocol.screening is not None and protocol.screening.by == "jars"
    return ev.ScreeningStarted(
        screening_id=body.screening_id,
        agent=protocol.method,  # type: ignore[arg-type]
        protocol_id=protocol.id,
        nebuliser=nebuliser_by_value(db, scope, body.nebuliser_id, at) if body.nebuliser_id else None,
        lots=lots_by_value(db, scope, body.lot_ids),
        used_on=day_at_site(visit, at),
        odour_jar=secrets.choice(("left", "right")) if by_jars else "",
    )


def qualitative_facts(
    db: Session, head: VisitHead, visit: Visit, body: StartQualitative, at: datetime
) -> ev.QualitativeStarted:
    """Return the start of a qualitative run with its kit and threshold by value. Raises as :func:`screening_facts`."""
    protocol = _protocol(visit)
    scope = Scope(frozenset({head.employer_id}))
    return ev.QualitativeStarted(
        run_id=body.run_id,
        agent=protocol.method,  # type: ignore[arg-type]
        protocol_id=protocol.id,
        threshold=visit.screening.threshold if visit.screening is not None else 0,
        nebuliser=nebuliser_by_value(db, scope, body.nebuliser_id, at) if body.nebuliser_id else None,
        lots=lots_by_value(db, scope, body.lot_ids),
        used_on=day_at_site(visit, at),
        bends=body.bends,
    )


def acknowledged_on(db: Session, actor: Actor, method: str) -> str:
    """Return the last day on which this tester acknowledged a method's cautions, empty where never."""
    found = db.scalar(
        select(CautionRow.day)
        .where(CautionRow.account_id == actor.id, CautionRow.method == method)
        .order_by(CautionRow.day.desc())
        .limit(1)
    )
    return found.isoformat() if found is not None else ""


def keep_answer(db: Session, clock: Clock, actor: Actor, visit: Visit, answer: ev.Answered) -> None:
    """Keep what an answer says beyond its visit: cautions acknowledged today, a nebuliser seen to spray or not, what
    was done to the instrument that was read.

    Practice leaves nothing outside its visit.
    """
    if visit.is_practice:
        return
    method = CAUTION_ITEMS.get(answer.question)
    if method is not None and answer.answer == "fine" and visit.opened is not None and visit.last_at is not None:
        day = datetime.fromisoformat(day_at_site(visit, visit.last_at)).date()
        if db.get(CautionRow, (actor.id, method, day)) is None:
            db.add(CautionRow(account_id=actor.id, method=method, day=day))
    item = visit.rules.procedure.find(answer.question)
    current = visit.current_try
    if item is not None and item.note and answer.answer == "fine":
        read = next((one.started for one in reversed(visit.tries) if isinstance(one.started, ev.RunStarted)), None)
        if read is not None and visit.last_at is not None:
            note_act(db, actor, read.instrument.id, item.note, visit.last_at)
    held = current.sensed.nebuliser if current is not None and current.sensed is not None else None
    if item is not None and item.check == "nebuliser" and held is not None and visit.last_at is not None:
        sprays = answer.answer == "fine"
        row = db.get(NebuliserRow, held.id)
        if not sprays and row is not None:
            open_recall(db, not_spraying(db, row, visit.last_at), actor.id)
        note_spray(db, actor, held.id, sprays, visit.last_at)
