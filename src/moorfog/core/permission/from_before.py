"""Results of before, taken over as history: which of them count as passes because a site says so in writing.

By themselves they permit nothing. What is said covers one facepiece and size as they were written then, names the very
set-up that is meant, and reaches only what was on file by then.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime
from fractions import Fraction
from zoneinfo import ZoneInfo

from moorfog.core.advice.methods import passed_by_taste
from moorfog.core.events.facts import Facepiece
from moorfog.core.events.payloads import instant
from moorfog.core.kernel.arithmetic import NotANumber, parse_decimal
from moorfog.core.permission.may_wear import Held
from moorfog.core.rules.book import Book
from moorfog.core.rules.validity import INTERVAL, valid_until


@dataclass(frozen=True)
class Before:
    """A result of before as it was written: on which day (YYYY-MM-DD), in which facepiece and size, by which method,
    with which fit factor (empty: none), and at which moment it was taken over (as text)."""

    on: str
    model: str
    size: str
    method: str
    factor: str
    has_passed: bool
    entered_at: str


@dataclass(frozen=True)
class Word:
    """What a site says in writing: passes of before in ``model`` and ``size``, in the words of the table, count as
    passes in the set-up ``piece``; said by whom, at which moment (as text), on which day at the site."""

    model: str
    size: str
    piece: Facepiece
    said_by: str
    said_at: str
    said_on: str


@dataclass(frozen=True)
class Accepted:
    """A pass of before that counts: the result, the word it rests on, and the pass as the permission is asked of it."""

    result: Before
    word: Word
    held: Held

    @property
    def words(self) -> str:
        """Why it counts, to stand beside every answer that rests on it."""
        return (
            f"Tested before, on {self.result.on}, and not judged here: it counts because {self.word.said_by} "
            f"said so in writing on {self.word.said_on}."
        )


def same_words(one: str, other: str) -> bool:
    """Tell whether two names in a table are the same, capitals and spaces aside."""
    return one.casefold().split() == other.casefold().split()


def accepted(results: Sequence[Before], words: Sequence[Word], book: Book, zone: str) -> tuple[Accepted, ...]:
    """Return the passes of before that count for somebody under a site's book, numbered from 1: of each word the
    latest, unless a fail in that set-up is known of the same day or later, or the book would not take it."""
    found = (_accepted(results, one, words, book, zone) for one in words)
    known = [one for one in found if one is not None]
    return tuple(replace(one, held=replace(one.held, no=number)) for number, one in enumerate(known, start=1))


def _accepted(results: Sequence[Before], word: Word, words: Sequence[Word], book: Book, zone: str) -> Accepted | None:
    covered = [one for one in results if one.has_passed and _is_covered(one, word)]
    last, months = max(covered, key=lambda one: one.on, default=None), book.ratio(INTERVAL)
    if last is None or months is None:
        return None
    alike = [one for one in words if one.piece.configuration == word.piece.configuration]
    failed = (one for one in results if not one.has_passed and one.on >= last.on)
    if any(_may_be_of(one, name) for one in failed for name in alike):
        return None
    taken, up_to, level = _by_book(last, word.piece, book)
    if not taken:
        return None
    day = date.fromisoformat(last.on)
    held = Held(
        visit_id="",
        no=0,
        piece=word.piece,
        tested_at=instant(datetime(day.year, day.month, day.day, tzinfo=ZoneInfo(zone)).astimezone(UTC)),
        valid_from=last.on,
        valid_until=valid_until(day, int(months)).isoformat(),
        up_to=up_to,
        level=level,
    )
    return Accepted(last, word, held)


def _is_covered(one: Before, word: Word) -> bool:
    """Whether a word speaks of a result: it was on file by then, and of a day that had come."""
    is_of = same_words(one.model, word.model) and same_words(one.size, word.size)
    return is_of and one.entered_at <= word.said_at and one.on <= word.said_on


def _may_be_of(one: Before, word: Word) -> bool:
    """Whether a fail may have been in that facepiece: one of which the size is not known was in any."""
    return same_words(one.model, word.model) and (not one.size.strip() or same_words(one.size, word.size))


def _by_book(one: Before, piece: Facepiece, book: Book) -> tuple[bool, Fraction | None, Fraction | None]:
    """Return whether a book takes a pass of before, up to which hazard ratio, and which level it reached.

    With a fit factor it must reach the level that the book asks of the facepiece. Without one it can only be taken for
    a test by taste or smell, with all that the book says of those.
    """
    if not one.factor.strip():
        return (*passed_by_taste(piece, book), None)
    level = book.ratio(piece.level_key)
    try:
        factor = parse_decimal(one.factor, "fit factor")
    except NotANumber:
        return False, None, None
    return level is not None and factor >= level, None, level
