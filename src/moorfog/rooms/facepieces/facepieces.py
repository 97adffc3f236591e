"""The facepieces that may be chosen: the latest version of every model, to page through and to find by words."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy.orm import Session

from moorfog.core.events.facts import WorkFilter
from moorfog.data import facepiece_kinds
from moorfog.data.words import kind_words
from moorfog.platform.text import parts_of
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import NotFound
from moorfog.platform.web.paging import page_of
from moorfog.rooms.facepieces.catalogue import latest_versions, model_of
from moorfog.rooms.facepieces.tables import FacepieceVersion


@dataclass(frozen=True)
class SizeView:
    """A size and the maker's range of face lengths in mm."""

    name: str
    length_from: str
    length_to: str
    width_from: str
    width_to: str


@dataclass(frozen=True)
class FacepieceOption:
    """A version of a facepiece model; the latest one may be chosen."""

    version_id: str
    model_id: str
    maker: str
    model: str
    kind: str
    kind_words: str
    family: str
    valve: bool
    sizes: tuple[SizeView, ...]
    suspensions: tuple[str, ...]
    clips: tuple[str, ...]
    filter_classes: tuple[str, ...]
    filter_kind: str
    version: int
    approval: str
    diaphragms: int
    accessories: tuple[str, ...]
    donning: tuple[str, ...]
    doffing: tuple[str, ...]
    wash_limit_c: str
    reuse: str
    adapter: str
    test_filters: bool
    work_filters: tuple[WorkFilter, ...]
    has_escape_cylinder: bool


@dataclass(frozen=True)
class FacepiecesPage:
    """One page of facepieces."""

    rows: tuple[FacepieceOption, ...]
    total: int
    page: int
    pages: int


def offered(db: Session, words: str = "") -> tuple[FacepieceOption, ...]:
    """Return the latest version of every model by kind and name; only those with every word in maker, model or kind.

    A word is found from its beginning on, capitals and accents aside.
    """
    return tuple(map(_option, _found(db, words)))


def _found(db: Session, words: str) -> list[FacepieceVersion]:
    wanted = _words(words)
    rows = (row for row in latest_versions(db) if _has(row, wanted))
    return sorted(rows, key=lambda row: (row.kind, row.model, row.id))


def _words(text: str) -> set[str]:
    return set(parts_of(text.replace(",", " ")))


def _has(row: FacepieceVersion, wanted: set[str]) -> bool:
    own = _words(f"{row.maker} {row.model} {kind_words(row.kind)}")
    return all(any(word.startswith(one) for word in own) for one in wanted)


def list_facepieces(db: Session, actor: Actor, words: str, page: int) -> FacepiecesPage:
    """Return a page of the latest versions, those with the words asked for."""
    actor.require(*READERS)
    rows, *rest = page_of(_found(db, words), page)
    return FacepiecesPage(tuple(map(_option, rows)), *rest)


def view_facepiece(db: Session, actor: Actor, version_id: str) -> FacepieceOption:
    """Return one version, be it the latest or not. Raises :class:`NotFound`."""
    actor.require(*READERS)
    row = db.get(FacepieceVersion, version_id)
    if row is None:
        raise NotFound("This version of a facepiece is not in the catalogue.")
    return _option(row)


def _option(row: FacepieceVersion) -> FacepieceOption:
    one = model_of(row)
    return FacepieceOption(
        version_id=row.id,
        model_id=row.model_id,
        maker=row.maker,
        model=row.model,
        kind=row.kind,
        kind_words=kind_words(row.kind),
        family=facepiece_kinds()[row.kind].family,
        valve=one.valve,
        sizes=tuple(
            SizeView(
                name=s.name,
                length_from=s.length_from,
                length_to=s.length_to,
                width_from=s.width_from,
                width_to=s.width_to,
            )
            for s in one.sizes
        ),
        suspensions=one.suspensions,
        clips=one.clips,
        filter_classes=one.filter_classes,
        filter_kind=one.filter_kind,
        version=row.version,
        approval=one.approval,
        diaphragms=one.diaphragms,
        accessories=one.accessories,
        donning=one.donning,
        doffing=one.doffing,
        wash_limit_c=one.wash_limit_c,
        reuse=one.reuse,
        adapter=one.adapter,
        test_filters=one.test_filters,
        work_filters=one.work_filters,
        has_escape_cylinder=one.has_escape_cylinder,
    )
