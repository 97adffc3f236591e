"""What an instrument's link says of it, and what it is told: asked several times a second, so written to be cheap."""

from __future__ import annotations

from sqlalchemy import bindparam, or_, select, update
from sqlalchemy.orm import Session

from moorfog.platform.db.clock import Clock
from moorfog.platform.log.tables import Lease
from moorfog.platform.web.actor import digest_of
from moorfog.platform.web.errors import DomainError
from moorfog.platform.web.routing import Linked
from moorfog.rooms.kit.plan import RunPlan
from moorfog.rooms.kit.tables import InstrumentRow

_BY_TOKEN = select(InstrumentRow.id, InstrumentRow.name).where(
    or_(
        InstrumentRow.link_token_digest == bindparam("digest"), InstrumentRow.local_token_digest == bindparam("digest")
    ),
    InstrumentRow.retired_at.is_(None),
)
_HEARD = update(InstrumentRow).where(InstrumentRow.id == bindparam("instrument"))
_HELD = select(Lease.run_id, Lease.stop).where(Lease.instrument_id == bindparam("instrument"))
_PLAN = select(Lease.plan).where(Lease.instrument_id == bindparam("instrument"), Lease.run_id == bindparam("run"))


def instrument_for_token(db: Session, token: str) -> Linked:
    """Return the instrument a link's token is for. Raises :class:`DomainError` (401)."""
    found = db.connection().execute(_BY_TOKEN, {"digest": digest_of(token)}).one_or_none()
    if found is None:
        raise DomainError(
            "wrong_token",
            "This token is for no counter here. Give the link the token from the counter's entry.",
            status=401,
        )
    return Linked(found[0], found[1])


def report_link(
    db: Session, clock: Clock, instrument: Linked, state: str, ambient: str | None, knows: str, serial: str
) -> RunPlan | None:
    """Note what a link says of its instrument, its own serial number too; return the plan of the run it holds, if any,
    with whether to stop.

    Of a run whose plan the link ``knows`` already, only its id and whether to stop are said.
    """
    said = {"seen_at": clock.now(db), "live": {"state": state, "ambient": ambient, "serial": serial, "run_id": knows}}
    db.connection().execute(_HEARD.values(**said), {"instrument": instrument.id})
    held = db.connection().execute(_HELD, {"instrument": instrument.id}).one_or_none()
    if held is None:
        return None
    run_id, stop = held
    plan: RunPlan = {"run_id": run_id}
    if run_id != knows:
        plan = db.connection().execute(_PLAN, {"instrument": instrument.id, "run": run_id}).scalar_one_or_none() or plan
    plan["stop"] = stop
    return plan
