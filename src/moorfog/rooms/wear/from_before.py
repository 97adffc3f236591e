"""Results of before that count because a site says so in writing: gathered for the core, which judges them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.events.facts import Facepiece
from moorfog.core.events.payloads import instant
from moorfog.core.kernel.codec import decode
from moorfog.core.permission.from_before import Accepted, Before, Judged, Word, accepted
from moorfog.core.permission.may_wear import End
from moorfog.core.rules.book import Book
from moorfog.core.rules.in_force import Books
from moorfog.data import facepiece_kinds, method_names
from moorfog.platform.log.same import Entries
from moorfog.rooms.kit.found_wrong import SUSPENDING, cleared_by
from moorfog.rooms.kit.tables import KitRecall
from moorfog.rooms.sites.protocols import protocols_in_use
from moorfog.rooms.sites.tables import Site
from moorfog.rooms.wear.tables import HistoryRow, HistoryWord


@dataclass(frozen=True)
class FromBefore:
    """Of one person: the passes of before that count, and what suspends them, by their numbers."""

    passes: tuple[Accepted, ...] = ()
    ends: tuple[End, ...] = ()


def before_of(
    db: Session, people: Entries, sites: Mapping[str, str], books: Mapping[str, Books], day: str
) -> dict[str, FromBefore]:
    """Return what counts of before for these people on a day; ``sites``: at which site each of them is, ``books``: the
    books of each site. Where no site has said anything, nobody's history is asked for."""
    said: dict[str, list[Word]] = {}
    standing = select(HistoryWord).where(HistoryWord.site_id.in_(books), HistoryWord.withdrawn_at.is_(None))
    for row in db.scalars(standing.order_by(HistoryWord.said_at, HistoryWord.id)):
        said.setdefault(row.site_id, []).append(word_of(row))
    concerned = [one for one in people.asked if sites[one] in said]
    if not concerned:
        return {}
    entries = [entry for one in concerned for entry in people.of[one]]
    results = people.sort(db.scalars(select(HistoryRow).where(HistoryRow.person_id.in_(entries))))
    held_to = {one: _held_to(db, db.get_one(Site, one), books[one].on(day)) for one in said}
    recalled = _recalled(db, said)
    out = {}
    for one in concerned:
        site = sites[one]
        passes = accepted(_results(results[one]), said[site], held_to[site])
        ends = tuple(_end(each, what) for each in passes for what in _suspended(each, recalled.get(site, ())))
        out[one] = FromBefore(passes, ends)
    return out


def _held_to(db: Session, site: Site, book: Book) -> Judged:
    return Judged(book, protocols_in_use(db, site), method_names(), site.zone)


@dataclass(frozen=True)
class _Recalled:
    """A model found wrong: why, and from when (as text, empty: always) until when what was tested rests on it."""

    model_id: str
    what: str
    since: str
    until: str


def _recalled(db: Session, said: Mapping[str, Sequence[Word]]) -> dict[str, list[_Recalled]]:
    """Return by site the models spoken of that were found wrong, and not cleared by its employer."""
    models = {one.piece.model_id for words in said.values() for one in words}
    query = (
        select(Site.id, KitRecall)
        .select_from(Site)
        .join(KitRecall, KitRecall.kit_id.in_(models))
        .where(Site.id.in_(said), KitRecall.state.in_(SUSPENDING), ~cleared_by(Site.employer_id))
    )
    out: dict[str, list[_Recalled]] = {}
    for site_id, row in db.execute(query):
        since = instant(row.since) if row.since is not None else ""
        out.setdefault(site_id, []).append(_Recalled(row.kit_id, row.what, since, instant(row.until)))
    return out


def _suspended(one: Accepted, recalled: Sequence[_Recalled]) -> list[str]:
    model, at = one.word.piece.model_id, one.held.tested_at
    return [each.what for each in recalled if each.model_id == model and each.since < at <= each.until]


def _end(one: Accepted, what: str) -> End:
    return End("", "", what, "administrator", is_suspension=True, visit_id="", no=one.held.no)


def as_judged_today(piece: Facepiece) -> Facepiece:
    """Return a facepiece with what its kind is judged by today; a kind that is known no more has no level."""
    kind = facepiece_kinds().get(piece.kind)
    return replace(piece, traits=kind if kind is not None else replace(piece.traits, level="", apf=""))


def word_of(row: HistoryWord) -> Word:
    """Return by value what a site said in writing, of a facepiece as its kind is judged today."""
    return Word(
        model=row.model,
        size=row.size,
        piece=as_judged_today(decode(Facepiece, row.piece, "history_word.piece")),
        said_by=row.said_by,
        said_at=instant(row.said_at),
        said_on=row.said_on.isoformat(),
    )


def _results(rows: Sequence[HistoryRow]) -> list[Before]:
    return [
        Before(
            on=one.tested_on.isoformat(),
            model=one.model,
            size=one.size,
            method=one.method,
            factor=one.factor,
            has_passed=one.result == "pass",
            entered_at=instant(one.entered_at),
        )
        for one in rows
    ]
