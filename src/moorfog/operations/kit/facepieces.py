"""The facepieces that may be chosen: the latest version of every model, to page through and to find by words."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy.orm import Session

from moorfog.core.events.facts import WorkFilter
from moorfog.operations.accounts.sessions import READERS, Actor
from moorfog.operations.errors import NotFound
from moorfog.operations.kit.catalogue import latest_versions, model_of
from moorfog.operations.paging import page_of
from moorfog.operations.words import kind_words, parts_of
from moorfog.store.models import FacepieceVersion


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
        row.id,
        row.model_id,
        row.maker,
        row.model,
        row.kind,
        kind_words(row.kind),
        one.valve,
        tuple(SizeView(s.name, s.length_from, s.length_to, s.width_from, s.width_to) for s in one.sizes),
        one.suspensions,
        one.clips,
        one.filter_classes,
        one.filter_kind,
        row.version,
        one.approval,
        one.diaphragms,
        one.accessories,
        one.donning,
        one.doffing,
        one.wash_limit_c,
        one.reuse,
        one.adapter,
        one.test_filters,
        one.work_filters,
    )
