"""Probes, adapters, probed cartridges and manifolds: what each fits, when it was used, cleaned and put away."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any, ClassVar, Literal

from sqlalchemy import func, or_, select
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import STRICT, Part, instant, parse_instant
from moorfog.core.visit.state import Visit
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import Scope, within
from moorfog.platform.log.tables import VisitHead
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import DomainError, NotFound
from moorfog.platform.web.fields import Label, Line
from moorfog.platform.web.paging import cut_to_page
from moorfog.rooms.kit.found_wrong import Found, open_recall
from moorfog.rooms.kit.instruments import owner_of_kit
from moorfog.rooms.kit.lending import lend_unowned
from moorfog.rooms.kit.tables import SamplingPart, SamplingPartAct

PartKind = Literal["probe", "adapter", "probed cartridge", "manifold"]
PartDeed = Literal["used", "cleaned", "away", "unsound"]


@dataclass(frozen=True)
class PartEntry:
    """A sampling part to be entered: its kind, the models it fits in words, and whether it is used once only."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    employer_id: str | None
    name: Label
    kind: PartKind
    fits: Line
    once_only: bool


@dataclass(frozen=True)
class PartView:
    """A sampling part. ``blocked_by`` says why it may not be used now."""

    id: str
    name: str
    kind: str
    fits: str
    once_only: bool
    used_at: str | None
    cleaned_at: str | None
    blocked_by: tuple[str, ...]


@dataclass(frozen=True)
class PartChoice(PartView):
    """A sampling part that may serve a visit. ``is_for_model``: it was entered for the model that is tested."""

    is_for_model: bool


@dataclass(frozen=True)
class PartPage:
    """One page of sampling parts, those put away left out."""

    rows: tuple[PartView, ...]
    total: int
    page: int
    pages: int


def _find(db: Session, scope: Scope, part_id: str) -> SamplingPart:
    query = within(
        select(SamplingPart).where(SamplingPart.id == part_id), scope, SamplingPart.employer_id, kit=SamplingPart.id
    )
    row = db.scalar(query)
    if row is None:
        raise NotFound("part")
    return row


def _deeds(db: Session, ids: list[str], but_for: str = "") -> dict[tuple[str, str], datetime]:
    """Return when each part was last used, cleaned and put away; ``but_for``: use in this visit left out."""
    query = (
        select(SamplingPartAct.part_id, SamplingPartAct.name, func.max(SamplingPartAct.done_at))
        .where(SamplingPartAct.part_id.in_(ids))
        .group_by(SamplingPartAct.part_id, SamplingPartAct.name)
    )
    if but_for:
        query = query.where(or_(SamplingPartAct.visit_id.is_(None), SamplingPartAct.visit_id != but_for))
    return {(part, name): at for part, name, at in db.execute(query)}


def part_blocks(once_only: bool, used: datetime | None, cleaned: datetime | None) -> tuple[str, ...]:
    """Return why a part may not be used: used up, never cleaned here, or not since its last use."""
    if once_only and used is not None:
        return ("used once already: put it away",)
    if once_only:
        return ()
    if cleaned is None:
        return ("never cleaned here",)
    return ("not cleaned since it was used",) if used is not None and used >= cleaned else ()


def _view(row: SamplingPart, deeds: dict[tuple[str, str], datetime]) -> PartView:
    used, cleaned = deeds.get((row.id, "used")), deeds.get((row.id, "cleaned"))
    return PartView(
        id=row.id,
        name=row.name,
        kind=row.kind,
        fits=row.fits,
        once_only=row.once_only,
        used_at=instant(used) if used is not None else None,
        cleaned_at=instant(cleaned) if cleaned is not None else None,
        blocked_by=part_blocks(row.once_only, used, cleaned),
    )


def _refuse_unusable(view: PartView) -> None:
    if view.blocked_by:
        raise DomainError("part", f"{view.name}: {view.blocked_by[0]}. Clean and inspect it, or take another.")


def add_part(db: Session, actor: Actor, entry: PartEntry) -> PartView:
    """Enter a sampling part. Raises :class:`DomainError` without a name, :class:`NotFound` outside the scope."""
    owner = owner_of_kit(actor, entry.employer_id)
    if not entry.name.strip() or len(entry.name) > 80 or len(entry.fits) > 190:
        raise DomainError("bad_part", "A part needs a name of at most 80 characters; what it fits has at most 190.")
    row = SamplingPart(
        id=new_id(),
        employer_id=owner,
        name=entry.name.strip(),
        kind=entry.kind,
        fits=entry.fits.strip(),
        once_only=entry.once_only,
    )
    db.add(row)
    db.flush()
    lend_unowned(db, actor.name, row.id, owner)
    return _view(row, {})


def note_deed(db: Session, clock: Clock, actor: Actor, part_id: str, deed: PartDeed) -> PartView:
    """Note that a part was used, cleaned and inspected, put away for good, or found damaged, which puts it away too
    and suspends every test with it since it was last inspected.

    Raises :class:`DomainError` for using one that may not be used, :class:`NotFound` outside the scope.
    """
    row = _find(db, actor.require("tester", "administrator"), part_id)
    view = _view(row, _deeds(db, [row.id]))
    if deed == "used":
        _refuse_unusable(view)
    now = clock.now(db)
    if deed == "unsound":
        seen = parse_instant(view.cleaned_at, "cleaned") if view.cleaned_at is not None else None
        words = f"{row.name} ({row.kind}) was found damaged; last inspected {view.cleaned_at or 'never'}."
        open_recall(
            db,
            Found(
                kit_kind="part",
                kit_id=row.id,
                kit_name=row.name,
                check_name="sound",
                what=words,
                employer_id=row.employer_id,
                since=seen,
                until=now,
            ),
            actor.id,
        )
        deed = "away"
    db.add(SamplingPartAct(id=new_id(), part_id=row.id, name=deed, done_at=now, account_id=actor.id))
    db.flush()
    return _view(row, _deeds(db, [row.id]))


def take_parts(
    db: Session, actor: Actor, head: VisitHead, visit: Visit, part_ids: tuple[str, ...], at: datetime
) -> tuple[Part, ...]:
    """Take sampling parts for a visit's test: each is used from ``at`` on, unless the visit is practice.

    A part moved to another facepiece of the same person need not be cleaned between; one that is used once only may
    not be moved. Raises :class:`DomainError` for a part that may not be used, :class:`NotFound` outside the scope.
    """
    taken = []
    for part_id in dict.fromkeys(part_ids):
        actor.require("tester")
        row = _find(db, Scope(frozenset({head.employer_id})), part_id)
        view = _view(row, _deeds(db, [row.id], "" if row.once_only else head.id))
        _refuse_unusable(view)
        if not visit.is_practice:
            deed = SamplingPartAct(
                id=new_id(), part_id=row.id, name="used", done_at=at, account_id=actor.id, visit_id=head.id
            )
            db.add(deed)
        taken.append(Part(row.id, row.name, row.kind, view.cleaned_at or ""))
    return tuple(taken)


KINDS_BY_PROBE: Mapping[str, tuple[PartKind, ...]] = {
    "valve_seat": ("probe", "adapter"),
    "probed_cartridge": ("probed cartridge", "adapter"),
    "through": ("probe",),
}
"""What a facepiece is sampled through, by where its probe sits."""
ON_A_CARD = 45
"""Five turns of nine: who keeps more of a kind looks for it on the shelf by its name."""


def parts_for(db: Session, head: VisitHead, visit: Visit) -> tuple[PartChoice, ...]:
    """Return the sampling parts that may serve a visit's facepiece and method, those entered for its model first.

    At most nine: as many as a card has keys for.
    """
    piece = visit.facepiece
    if piece is None:
        return ()
    kinds = KINDS_BY_PROBE[piece.probe]
    if visit.method == "negative_pressure":
        kinds = ("manifold", "adapter")
    query = select(SamplingPart).where(
        SamplingPart.id.not_in(_AWAY),
        SamplingPart.kind.in_(kinds),
        Scope(frozenset({head.employer_id})).condition(SamplingPart.employer_id, kit=SamplingPart.id),
    )
    fits = SamplingPart.fits.contains(piece.model, autoescape=True)
    rows = list(db.execute(query.add_columns(fits).order_by(fits.desc(), SamplingPart.name).limit(ON_A_CARD)))
    deeds = _deeds(db, [one.id for one, _ in rows], head.id)
    return tuple(PartChoice(**vars(_view(one, deeds)), is_for_model=bool(is_its)) for one, is_its in rows)


_AWAY = select(SamplingPartAct.part_id).where(SamplingPartAct.name == "away")


def list_parts(db: Session, actor: Actor, page: int) -> PartPage:
    """Return the sampling parts within the scope that are not put away, by kind and name."""
    scope = actor.require(*READERS)
    query = within(
        select(SamplingPart).where(SamplingPart.id.not_in(_AWAY)), scope, SamplingPart.employer_id, kit=SamplingPart.id
    )
    shown = cut_to_page(db, query, page, SamplingPart.kind, SamplingPart.name)
    rows = [one for (one,) in shown.rows]
    deeds = _deeds(db, [one.id for one in rows])
    return PartPage(tuple(_view(one, deeds) for one in rows), shown.total, shown.page, shown.pages)
