"""What a site lays over a rule book: stricter values, or looser ones with a written reason, and what it has checked.

A blank of the book is filled here and nowhere else; a value of another country is never borrowed.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from moorfog.core.kernel.replacing import replace
from moorfog.core.rules.book import Blank, Book, Value
from moorfog.core.rules.shapes import Shapes, number_of

Change = Literal["stricter", "same", "looser", "other", "filled"]


@dataclass(frozen=True)
class Overlay:
    """One entry of a site: a value in the place of the book's (``value`` None: only checked), with its provenance.

    ``on`` is the day it was entered, ``begins`` the day from which it counts; empty: at once.
    """

    key: str
    value: str | int | bool | tuple[str, ...] | None
    reason: str
    edition: str
    on: str
    by: str
    begins: str = ""


@dataclass(frozen=True)
class Problem:
    """Why an entry cannot be taken: a code and what to do."""

    code: str
    sentence: str


def compare(key: str, value: Value, new: str | int | bool | tuple[str, ...], shapes: Shapes) -> Change:
    """Tell whether ``new`` is stricter than the book's ``value``: by the direction the value declares, or the order of
    its choices."""
    if new == value.value and type(new) is type(value.value):
        return "same"
    if value.strict == "subset" and isinstance(new, tuple) and isinstance(value.value, tuple):
        return "stricter" if set(new) <= set(value.value) else "looser"
    old_number, new_number = number_of(value.value), number_of(new)
    if value.strict in ("higher", "lower") and old_number is not None and new_number is not None:
        if old_number == new_number:
            return "same"
        return "stricter" if (new_number > old_number) == (value.strict == "higher") else "looser"
    return shapes.order(key, value.value, new)


UNREADABLE = ("wrong_type", "unfit")
"""What an entry of before is found to be that nobody can read any more: it means no until it is settled."""


def check(book: Book, one: Overlay, shapes: Shapes) -> Problem | None:
    """Return why a site's entry cannot be taken, or None. A looser or undirected change needs a written reason."""
    if one.value is None:
        known = one.key in book.values
        return None if known else Problem("unknown_key", f"{book.title} states no {one.key!r}; nothing to check.")
    if one.key.startswith("protocols."):
        name = one.key.removeprefix("protocols.")
        if name not in (*book.protocols, *book.protocols_on_confirmation):
            return Problem("unknown_protocol", f"{name!r} is no protocol this book can allow.")
        if not isinstance(one.value, bool):
            return Problem("wrong_type", f"{one.key} is yes or no.")
        return None if one.edition.strip() else Problem("edition_missing", "Say which edition of your copy allows it.")
    blank = next((each for each in book.blank if each.key == one.key), None)
    old = book.values.get(one.key)
    if blank is None and old is None:
        return Problem("unknown_key", f"{one.key!r} is no value of {book.title}.")
    if unfit := shapes.problem(one.key, one.value):
        return Problem("unfit", unfit)
    return _check_value(blank, old, one, one.value, shapes)


def _check_value(
    blank: Blank | None, old: Value | None, one: Overlay, new: str | int | bool | tuple[str, ...], shapes: Shapes
) -> Problem | None:
    if blank is not None and old is None:
        return None if one.edition.strip() else Problem("edition_missing", "Say which edition of your copy states it.")
    assert old is not None
    same_type = type(old.value) is type(new) or (number_of(old.value) is not None and number_of(new) is not None)
    if not same_type:
        return Problem("wrong_type", f"{one.key} is written like {old.value!r}, in {old.unit or 'words'}.")
    if compare(one.key, old, new, shapes) in ("looser", "other") and not one.reason.strip():
        return Problem(
            "reason_missing", f"This is looser than {old.source} has it; write the reason, it stands on every record."
        )
    return None


def apply(book: Book, overlays: Sequence[Overlay], shapes: Shapes) -> Book:
    """Return the book as the site uses it: its entries, latest last, with provenance.

    An entry without its reason changes nothing. One that nobody can read leaves its value ``unsettled``.
    """
    values, protocols = dict(book.values), list(book.protocols)
    own: dict[str, bool] = {}
    blanks = list(book.blank)
    unsettled: set[str] = set()
    for one in overlays:
        problem = check(book, one, shapes)
        if problem is not None and problem.code in UNREADABLE:
            unsettled.add(one.key)
        if problem is not None:
            continue
        if one.value is not None:
            unsettled.discard(one.key)
        seal = f"{one.edition}, {one.on}, {one.by}" if one.edition else ""
        if one.key.startswith("protocols."):
            name = one.key.removeprefix("protocols.")
            protocols = [each for each in protocols if each != name] + ([name] if one.value else [])
            continue
        old = values.get(one.key)
        if one.value is None:
            if old is not None:
                values[one.key] = replace(old, checked=seal)
            continue
        blank = next((each for each in book.blank if each.key == one.key), None)
        if blank is not None and one.key not in book.values:
            source = f"the site's copy, {one.edition}"
            values[one.key] = Value(
                value=str(one.value),
                unit=blank.unit,
                source=source,
                standing="recalled",
                strict="none",
                in_force=one.begins or one.on or book.in_force,
                note=blank.why,
                changed=f"entered by {one.by}",
                checked=seal,
            )
            blanks = [each for each in blanks if each.key != one.key]
            continue
        shipped = book.values[one.key]
        kind = compare(one.key, shipped, one.value, shapes)
        words = (
            ""
            if kind == "same"
            else f"{kind} than shipped ({shipped.value})" + (f": {one.reason}" if one.reason else "")
        )
        own[one.key] = shipped.law and kind in ("looser", "other")
        value = str(one.value) if isinstance(shipped.value, str) else one.value
        since = one.begins or one.on if words else shipped.in_force
        sealed = seal or (old.checked if old else "")
        values[one.key] = replace(shipped, value=value, changed=words, checked=sealed, in_force=since)
    title = f"{OWN_RULES}{book.title}" if any(own.values()) else book.title
    return replace(
        book,
        title=title,
        values=values,
        protocols=tuple(protocols),
        blank=tuple(blanks),
        unsettled=tuple(sorted(unsettled)),
    )


OWN_RULES = "The site's own rules, not those of "
"""Written before the title of a book in which a site has made looser what a law fixes."""
