"""The addresses of tablets at gates: which there are, and ending one."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import instant
from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import within
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import NotFound
from moorfog.rooms.accounts.tables import Account
from moorfog.rooms.crews.tables import GateLink
from moorfog.rooms.sites.sites import find_site
from moorfog.rooms.sites.tables import Site

SHOWN = 16
"""Signs of an address's digest by which it is named: nobody comes from them to the address."""
MOST = 200


@dataclass(frozen=True)
class GateTablet:
    """An address of a tablet that still shows a crew: who made it, until when it does."""

    id: str
    made_by: str
    expires_at: str


@dataclass(frozen=True)
class GateTablets:
    """The addresses of a site, the one that lasts longest first."""

    rows: tuple[GateTablet, ...]


def gates_of(db: Session, clock: Clock, actor: Actor, site_id: str) -> GateTablets:
    """Return the addresses of a site that still hold. Raises :class:`NotFound` outside the scope."""
    site = find_site(db, actor.require(*READERS), site_id)
    asked = select(GateLink, Account.name).join(Account, Account.id == GateLink.account_id)
    asked = asked.where(GateLink.site_id == site.id, GateLink.expires_at > clock.now(db))
    found = db.execute(asked.order_by(GateLink.expires_at.desc(), GateLink.digest).limit(MOST))
    return GateTablets(tuple(GateTablet(one.digest[:SHOWN], name, instant(one.expires_at)) for one, name in found))


def end_gate(db: Session, actor: Actor, gate_id: str) -> None:
    """End an address at once. Raises :class:`NotFound` for one that is not there, or outside the scope."""
    scope = actor.require(*READERS)
    if len(gate_id) != SHOWN or not gate_id.isalnum():
        raise NotFound("gate")
    asked = select(GateLink, Site).join(Site, Site.id == GateLink.site_id)
    asked = within(asked.where(GateLink.digest.startswith(gate_id)), scope, Site.employer_id)
    found = db.execute(asked.with_for_update()).first()
    if found is None:
        raise NotFound("gate")
    row, site = found
    db.delete(row)
    note(db, Note("site", site.id, site.employer_id, {"gate": ["an address for a tablet", "ended"]}))
