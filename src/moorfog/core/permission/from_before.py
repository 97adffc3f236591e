"""Results of before, taken over as history: which of them count as passes because a site says so in writing.

By themselves they permit nothing. What is said covers one facepiece and size as they were written then, names the very
set-up that is meant, and reaches only what was on file by then.
"""

from __future__ import annotations

import unicodedata
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime
from fractions import Fraction
from typing import Any
from zoneinfo import ZoneInfo

from moorfog.core.advice.methods import METHODS, QUALITATIVE, Method, takes_by_taste
from moorfog.core.events.facts import Facepiece
from moorfog.core.events.payloads import instant
from moorfog.core.kernel.arithmetic import NotANumber, parse_decimal
from moorfog.core.kernel.codec import DataError, decode
from moorfog.core.permission.may_wear import Held
from moorfog.core.rules.book import Book
from moorfog.core.rules.protocols import Protocol
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


MethodNames = Mapping[str, Method]
"""How a method may be written, folded by :func:`folded`, and which it is."""


def read_method_names(data: Mapping[str, Any], where: str) -> MethodNames:
    """Read from parsed TOML how tables name each method. Raises :class:`DataError` naming file and key."""
    found = decode(dict[str, tuple[str, ...]], data, where)
    names: dict[str, Method] = {}
    for method in METHODS:
        for one in found.pop(method, ()):
            if folded(one) in names:
                raise DataError(f"{where}.{method}", f"{one!r} is there twice")
            names[folded(one)] = method
    if found:
        raise DataError(f"{where}.{next(iter(found))}", "no such method")
    return names


def folded(text: str) -> str:
    """Return a name as it is compared where more must count as the same: compatible signs made one (NFKC), capitals,
    accents, spaces, punctuation and signs of no width aside ("Old-Sédge " → "oldsedge")."""
    plain = unicodedata.normalize("NFKD", unicodedata.normalize("NFKC", text).casefold())
    return "".join(one for one in plain if unicodedata.category(one)[0] in "LN")


def same_words(one: str, other: str) -> bool:
    """Tell whether two names in a table are the same, capitals and spaces aside."""
    return one.casefold().split() == other.casefold().split()


@dataclass(frozen=True)
class Judged:
    """What results of before are held to: the site's book of the day, its protocols, names of methods, its zone."""

    book: Book
    protocols: Sequence[Protocol]
    names: MethodNames
    zone: str


def accepted(results: Sequence[Before], words: Sequence[Word], by: Judged) -> tuple[Accepted, ...]:
    """Return the passes of before that count for somebody under a site's book, numbered from 1: of each word the
    latest that the book takes, unless a fail of the same day or later may have been in that set-up."""
    found = (_accepted(results, one, words, by) for one in words)
    known = [one for one in found if one is not None]
    return tuple(replace(one, held=replace(one.held, no=number)) for number, one in enumerate(known, start=1))


def _accepted(results: Sequence[Before], word: Word, words: Sequence[Word], by: Judged) -> Accepted | None:
    covered = [one for one in results if one.has_passed and _is_covered(one, word)]
    last, months = max(covered, key=lambda one: one.on, default=None), by.book.ratio(INTERVAL)
    if last is None or months is None:
        return None
    failed = (one for one in results if not one.has_passed and one.on >= last.on)
    if any(_may_be_of(one, word, words) for one in failed):
        return None
    method = by.names.get(folded(last.method))
    shown = _by_book(last, method, word.piece, by) if method is not None else None
    if method is None or shown is None:
        return None
    day = date.fromisoformat(last.on)
    held = Held(
        visit_id="",
        no=0,
        piece=word.piece,
        tested_at=instant(datetime(day.year, day.month, day.day, tzinfo=ZoneInfo(by.zone)).astimezone(UTC)),
        valid_from=last.on,
        valid_until=valid_until(day, int(months)).isoformat(),
        up_to=shown.up_to,
        method=method,
        protocol="",
        overall=shown.overall,
        lowest=None,
    )
    return Accepted(last, word, held)


def _is_covered(one: Before, word: Word) -> bool:
    """Whether a word speaks of a result: it was on file by then, and of a day that had come."""
    is_of = same_words(one.model, word.model) and same_words(one.size, word.size)
    return is_of and one.entered_at <= word.said_at and one.on <= word.said_on


def _may_be_of(one: Before, word: Word, words: Sequence[Word]) -> bool:
    """Whether a fail may have been in the set-up of a word.

    Only one that the site has said is another set-up is none of it: what nobody has matched may be any. A name that
    reads like the word's own is of it whatever else was said.
    """
    if folded(one.model) == folded(word.model) and folded(one.size) in ("", folded(word.size)):
        return True
    said = [each for each in words if same_words(one.model, each.model) and same_words(one.size, each.size)]
    return not said or any(each.piece.configuration == word.piece.configuration for each in said)


@dataclass(frozen=True)
class _Shown:
    up_to: Fraction | None
    overall: Fraction | None


def _by_book(one: Before, method: Method, piece: Facepiece, by: Judged) -> _Shown | None:
    """Return what a pass of before shows under a book, None where the book would not take it.

    A method that gives a number needs it, at the level the book asks of the facepiece; one by taste, smell or smoke
    has all that the book says of those. The book must allow a protocol of that method for the kind.
    """
    allowed = (each for each in by.protocols if each.id in by.book.protocols and each.method == method)
    if not any(piece.kind in each.kinds for each in allowed):
        return None
    if method in QUALITATIVE:
        why, up_to = takes_by_taste(method, piece, by.book)
        return None if why else _Shown(up_to, None)
    level = by.book.ratio(piece.level_key)
    try:
        factor = parse_decimal(one.factor, "fit factor")
    except NotANumber:
        return None
    is_overall = by.book.text("judged_by") == "overall"
    return _Shown(None, factor) if is_overall and level is not None and factor >= level else None
