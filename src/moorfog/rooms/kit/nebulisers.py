"""Nebulisers: filled, checked, used, and what stands against using one now."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, ClassVar, Literal

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from moorfog.core.events.facts import STRICT
from moorfog.core.events.payloads import Nebuliser, instant
from moorfog.core.kernel.days import day_in
from moorfog.core.rules.book import Book
from moorfog.core.rules.kit_gate import lot_is_over, nebuliser_blocks
from moorfog.data import shipped_rules
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import Scope, within
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import DomainError, NotFound
from moorfog.platform.web.fields import Id, Label
from moorfog.rooms.kit.found_wrong import Found, to_the_minute
from moorfog.rooms.kit.instruments import owner_of_kit
from moorfog.rooms.kit.lending import lend_unowned
from moorfog.rooms.kit.solutions import TEST, LotView, NebuliserRole, find_lot, lot_by_value, lot_view
from moorfog.rooms.kit.tables import FillingRow, LotRow, NebuliserRow, SprayCheckRow
from moorfog.rooms.sites.sites import site_book
from moorfog.rooms.sites.tables import Site


@dataclass(frozen=True)
class NebuliserEntry:
    """A nebuliser to enter, for the threshold or for the fit-test solution."""

    __pydantic_config__: ClassVar[Any] = STRICT
    employer_id: Id | None
    name: Label
    role: NebuliserRole


@dataclass(frozen=True)
class NebuliserView:
    """A nebuliser: what is in it, until when it may be used before a refill, and what stands against it."""

    id: str
    name: str
    role: str
    number: int
    agent: str
    lot: LotView | None
    filled_at: str | None
    refill_at: str | None
    checked_at: str | None
    blocked_by: tuple[str, ...]
    needs: tuple[Literal["filling", "spray_check"], ...]


def add_nebuliser(db: Session, actor: Actor, entry: NebuliserEntry) -> NebuliserRow:
    """Enter a nebuliser; what it is for stays so. Raises :class:`DomainError` without a name."""
    owner = owner_of_kit(actor, entry.employer_id)
    if not entry.name.strip():
        raise DomainError("name_missing", "A nebuliser needs a name that stands on it, such as Blue 2.")
    row = NebuliserRow(id=new_id(), employer_id=owner, name=entry.name.strip(), role=entry.role)
    db.add(row)
    db.flush()
    lend_unowned(db, actor.name, row.id, owner)
    return row


def find_nebuliser(db: Session, scope: Scope, nebuliser_id: str) -> NebuliserRow:
    """Return a nebuliser within the scope. Raises :class:`NotFound`."""
    query = select(NebuliserRow).where(NebuliserRow.id == nebuliser_id)
    row = db.scalar(within(query, scope, NebuliserRow.employer_id, kit=NebuliserRow.id))
    if row is None:
        raise NotFound("nebuliser")
    return row


def fill(db: Session, clock: Clock, actor: Actor, nebuliser_id: str, lot_id: str) -> NebuliserRow:
    """Note that a nebuliser was rinsed and filled. Raises :class:`DomainError` for the wrong or an expired one."""
    scope = actor.require(*TEST)
    row, lot, now = find_nebuliser(db, scope, nebuliser_id), find_lot(db, scope, lot_id), clock.now(db)
    if lot.role != row.role:
        raise DomainError(
            "swapped",
            f"{row.name} is for the {_words(row.role)}, this lot is the {_words(lot.role)}. They are never swapped.",
        )
    held = latest_filling(db, row.id, now)
    before = db.get(LotRow, held.lot_id) if held is not None else None
    if before is not None and before.agent != lot.agent:
        raise DomainError(
            "other_agent",
            f"{row.name} has held the {before.agent} solution; rinsing does not take that out. Use another nebuliser.",
        )
    if lot.use_by < now.date() - timedelta(days=1):
        raise DomainError("lot_expired", f"Lot {lot.number} was to be used by {lot.use_by}. Make a fresh one.")
    db.add(FillingRow(id=new_id(), nebuliser_id=row.id, lot_id=lot.id, filled_at=now, account_id=actor.id))
    db.flush()
    return row


def _words(role: str) -> str:
    return "threshold solution (1)" if role == "threshold" else "fit-test solution (2)" if role == "fit" else role


def note_spray(db: Session, actor: Actor, nebuliser_id: str, sprays: bool, at: datetime) -> None:
    """Write down that a nebuliser was seen to spray, or not."""
    db.add(SprayCheckRow(id=new_id(), nebuliser_id=nebuliser_id, checked_at=at, sprays=sprays, account_id=actor.id))
    db.flush()


def not_spraying(db: Session, row: NebuliserRow, at: datetime) -> Found:
    """Return what the ledger says of a nebuliser that was found not to spray at ``at``."""
    last = select(func.max(SprayCheckRow.checked_at)).where(
        SprayCheckRow.nebuliser_id == row.id, SprayCheckRow.sprays.is_(True), SprayCheckRow.checked_at < at
    )
    since = db.scalar(last)
    seen = f"last seen to spray {to_the_minute(instant(since))}" if since is not None else "never seen to"
    what = f"{row.name} was found clogged; {seen}."
    return Found(
        kit_kind="nebuliser",
        kit_id=row.id,
        kit_name=row.name,
        check_name="spray",
        what=what,
        employer_id=row.employer_id,
        since=since,
        until=at,
    )


def check_spray(db: Session, clock: Clock, actor: Actor, nebuliser_id: str) -> NebuliserRow:
    """Note that a nebuliser was seen to spray now. A clogged one is marked by its own act, which voids its tests."""
    row = find_nebuliser(db, actor.require(*TEST), nebuliser_id)
    note_spray(db, actor, row.id, True, clock.now(db))
    return row


def latest_filling(db: Session, nebuliser_id: str, at: datetime) -> FillingRow | None:
    """Return the last filling of a nebuliser at a moment, or None."""
    query = select(FillingRow).where(FillingRow.nebuliser_id == nebuliser_id, FillingRow.filled_at <= at)
    return db.scalar(query.order_by(FillingRow.filled_at.desc(), FillingRow.id.desc()).limit(1))


def latest_check(db: Session, nebuliser_id: str, at: datetime) -> SprayCheckRow | None:
    """Return the last spray check of a nebuliser at a moment, or None."""
    query = select(SprayCheckRow).where(SprayCheckRow.nebuliser_id == nebuliser_id, SprayCheckRow.checked_at <= at)
    return db.scalar(query.order_by(SprayCheckRow.checked_at.desc(), SprayCheckRow.id.desc()).limit(1))


def nebuliser_by_value(db: Session, scope: Scope, nebuliser_id: str, at: datetime) -> Nebuliser:
    """Return a nebuliser as an event carries it, as it stood at ``at``.

    Raises :class:`NotFound`; :class:`DomainError` for one that was never filled.
    """
    row = find_nebuliser(db, scope, nebuliser_id)
    filling, check = latest_filling(db, row.id, at), latest_check(db, row.id, at)
    if filling is None:
        raise DomainError("not_filled", f"{row.name} is not filled. Fill it on the Kit page and check that it sprays.")
    return _by_value(row, find_lot(db, scope, filling.lot_id), filling, check)


def _by_value(row: NebuliserRow, lot: LotRow, filling: FillingRow, check: SprayCheckRow | None) -> Nebuliser:
    return Nebuliser(
        id=row.id,
        name=row.name,
        role=row.role,
        lot=lot_by_value(lot),
        filled_at=instant(filling.filled_at),
        checked_at=instant(check.checked_at) if check is not None and check.sprays else "",
    )


def view_nebuliser(db: Session, row: NebuliserRow, now: datetime) -> NebuliserView:
    """Return a nebuliser for a screen, with what stands against using it now."""
    return _view(db, row, now, _strictest(db, row.employer_id, now))


def _strictest(db: Session, employer_id: str | None, now: datetime) -> tuple[Book, str]:
    """The book by which an employer's sites (all of them for shared kit), as those have theirs, refill soonest; and the
    latest date it is at any of them, to hold lots to."""
    query = select(Site)
    if employer_id is not None:
        query = query.where(Site.employer_id == employer_id)
    sites = list(db.scalars(query))
    days = [day_in(one.zone, now).isoformat() for one in sites]
    books = [site_book(db, one, one.rule_book) for one in sites] or [shipped_rules().book]
    strictest = min(books, key=lambda book: book.number("nebuliser.refill"))
    return strictest, max(days, default=now.date().isoformat())


def _view(db: Session, row: NebuliserRow, now: datetime, held_to: tuple[Book, str]) -> NebuliserView:
    filling, check = latest_filling(db, row.id, now), latest_check(db, row.id, now)
    lot = db.get(LotRow, filling.lot_id) if filling is not None else None
    strictest, day = held_to
    minutes = float(strictest.number("nebuliser.refill"))
    refill_at = filling.filled_at + timedelta(minutes=minutes) if filling is not None else None
    blocking, needs = [], list[Literal["filling", "spray_check"]]()
    if filling is None or lot is None:
        blocking.append("not filled")
    else:
        held = _by_value(row, lot, filling, check)
        codes = nebuliser_blocks(strictest, row.role, held, now)
        if lot_is_over(held.lot.use_by, day) or lot.withdrawn_at is not None:
            codes.append("lot")
        if check is not None and not check.sprays:
            codes = ["clogged", *(one for one in codes if one != "spray_check")]
        if "refill" in codes:
            needs.append("filling")
        if {"spray_check", "clogged"} & set(codes):
            needs.append("spray_check")
        words = {
            "nebuliser_role": "holds the wrong solution",
            "refill": "to be rinsed and refilled",
            "spray_check": "not yet seen to spray",
            "lot": f"lot {lot.number} is out of date",
        }
        blocking += [words.get(one, one) for one in codes]
    return NebuliserView(
        id=row.id,
        name=row.name,
        role=row.role,
        number=1 if row.role == "threshold" else 2,
        agent=lot.agent if lot is not None else "",
        lot=lot_view(lot, now) if lot is not None else None,
        filled_at=instant(filling.filled_at) if filling is not None else None,
        refill_at=instant(refill_at) if refill_at is not None else None,
        checked_at=instant(check.checked_at) if check is not None and check.sprays else None,
        blocked_by=tuple(blocking),
        needs=tuple(needs),
    )


def list_nebulisers(db: Session, clock: Clock, actor: Actor) -> list[NebuliserView]:
    """Return the nebulisers within the actor's scope, number 1 before number 2, by name; at most a hundred."""
    scope, now = actor.require(*READERS), clock.now(db)
    query = within(select(NebuliserRow), scope, NebuliserRow.employer_id, kit=NebuliserRow.id)
    rows = list(db.scalars(query.order_by(NebuliserRow.role.desc(), NebuliserRow.name).limit(100)))
    held_to = {one: _strictest(db, one, now) for one in {row.employer_id for row in rows}}
    return [_view(db, row, now, held_to[row.employer_id]) for row in rows]
