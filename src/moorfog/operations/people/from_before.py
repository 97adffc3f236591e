"""Results of before that count because a site says so in writing: gathered for the core, which judges them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.events.facts import Facepiece
from moorfog.core.events.payloads import instant
from moorfog.core.kernel.codec import decode
from moorfog.core.permission.from_before import Accepted, Before, Word, accepted
from moorfog.core.rules.book import Book
from moorfog.store.models import Site
from moorfog.store.models_programme import HistoryRow, HistoryWord
from moorfog.store.same import Entries


def before_of(
    db: Session, people: Entries, sites: Mapping[str, str], books: Mapping[str, Book]
) -> dict[str, tuple[Accepted, ...]]:
    """Return the passes of before that count for these people; ``sites``: at which site each of them is, ``books``: the
    book of each site. Where no site has said anything, nobody's history is asked for."""
    said: dict[str, list[Word]] = {}
    standing = select(HistoryWord).where(HistoryWord.site_id.in_(books), HistoryWord.withdrawn_at.is_(None))
    for row in db.scalars(standing.order_by(HistoryWord.said_at, HistoryWord.id)):
        said.setdefault(row.site_id, []).append(word_of(row))
    concerned = [one for one in people.asked if sites[one] in said]
    if not concerned:
        return {}
    entries = [entry for one in concerned for entry in people.of[one]]
    results = people.sort(db.scalars(select(HistoryRow).where(HistoryRow.person_id.in_(entries))))
    zones = {one: db.get_one(Site, one).zone for one in said}
    return {
        one: accepted(_results(results[one]), said[sites[one]], books[sites[one]], zones[sites[one]])
        for one in concerned
    }


def word_of(row: HistoryWord) -> Word:
    """Return by value what a site said in writing."""
    return Word(
        model=row.model,
        size=row.size,
        piece=decode(Facepiece, row.piece, "history_word.piece"),
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
