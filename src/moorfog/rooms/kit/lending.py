"""Whose kit is, and to whom it is lent: instruments, lots, nebulisers and sampling parts."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from moorfog.core.events.facts import STRICT
from moorfog.platform.db.clock import Clock, DatabaseClock
from moorfog.platform.db.scope import within
from moorfog.platform.db.tables import KitLent
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import Forbidden, NotFound
from moorfog.platform.web.fields import Id
from moorfog.rooms.kit.tables import InstrumentRow, LotRow, NebuliserRow, SamplingPart
from moorfog.rooms.sites.tables import Employer

KIT: tuple[type[InstrumentRow] | type[LotRow] | type[NebuliserRow] | type[SamplingPart], ...] = (
    InstrumentRow,
    LotRow,
    NebuliserRow,
    SamplingPart,
)
MOST = 200
"""Employers shown to lend to."""


@dataclass(frozen=True)
class LentTo:
    """The employers that kit is to be lent to, all of them: who is left out may not use it any more."""

    __pydantic_config__: ClassVar[Any] = STRICT
    employers: tuple[Id, ...]


@dataclass(frozen=True)
class Borrower:
    """An employer, and whether kit is lent to it."""

    id: str
    name: str
    has_it: bool


@dataclass(frozen=True)
class LendingView:
    """Whose kit is (empty: nobody's in particular), to whom it may be lent, and whether the reader may say so.

    A reader sees the employers of their own scope only; ``others`` counts those it is lent to besides.
    """

    owner: str
    borrowers: tuple[Borrower, ...]
    others: int
    may_change: bool


def _owner(db: Session, actor: Actor, kit_id: str) -> str | None:
    """Return whose kit is, None for nobody's in particular. Raises :class:`NotFound` outside the scope."""
    scope = actor.require(*READERS)
    for table in KIT:
        query = select(table.employer_id).where(table.id == kit_id)
        found = db.execute(within(query, scope, table.employer_id, kit=table.id)).first()
        if found is not None:
            return found[0]
    raise NotFound("kit")


def _may_lend(actor: Actor, owner: str | None) -> bool:
    scope = actor.scope("administrator")
    return scope.employers is None or scope.allows(owner)


def lending_of(db: Session, actor: Actor, kit_id: str) -> LendingView:
    """Return whose kit is and to whom it is lent. Raises :class:`NotFound` outside the scope."""
    owner_id, scope = _owner(db, actor, kit_id), actor.require(*READERS)
    lent = set(db.scalars(select(KitLent.employer_id).where(KitLent.kit_id == kit_id)))
    query = within(select(Employer), scope, Employer.id).order_by(Employer.name).limit(MOST)
    seen = [one for one in db.scalars(query) if one.id != owner_id]
    owner = db.get(Employer, owner_id) if owner_id is not None else None
    return LendingView(
        owner=owner.name if owner is not None else "",
        borrowers=tuple(Borrower(one.id, one.name, one.id in lent) for one in seen),
        others=len(lent - {one.id for one in seen}),
        may_change=_may_lend(actor, owner_id),
    )


def lend(db: Session, clock: Clock, actor: Actor, kit_id: str, to: LentTo) -> LendingView:
    """Lend kit to employers, and to no others within the actor's scope; by an administrator of its owner.

    Raises :class:`NotFound` for kit or an employer outside the scope, :class:`Forbidden` for anybody else.
    """
    owner = _owner(db, actor, kit_id)
    if not _may_lend(actor, owner):
        raise Forbidden("not_yours", "Kit is lent by an administrator of the employer whose it is.")
    scope = actor.require("administrator")
    if not all(scope.allows(one) for one in to.employers):
        raise NotFound("employer")
    known = set(db.scalars(select(Employer.id).where(Employer.id.in_(to.employers))))
    if known != set(to.employers):
        raise NotFound("employer")
    mine = within(select(Employer.id), scope, Employer.id)
    db.execute(delete(KitLent).where(KitLent.kit_id == kit_id, KitLent.employer_id.in_(mine)))
    note_lent(db, clock, actor.name, kit_id, known - {owner or ""})
    return lending_of(db, actor, kit_id)


def note_lent(db: Session, clock: Clock, by: str, kit_id: str, employers: set[str]) -> None:
    """Write down that kit is lent to employers."""
    now = clock.now(db)
    for one in sorted(employers):
        db.add(KitLent(kit_id=kit_id, employer_id=one, lent_by=by[:190], lent_at=now))
    db.flush()


def lend_unowned(db: Session, by: str, kit_id: str, owner: str | None) -> None:
    """Lend kit that was entered for nobody in particular to every employer there is: it is written down to whom, and
    an administrator may take it back from some."""
    if owner is None:
        note_lent(db, DatabaseClock(), by, kit_id, set(db.scalars(select(Employer.id))))
