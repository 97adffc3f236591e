"""What a value of a rule book may be: one of its choices, a number within bounds, a list of known members, a day.

A word that is judged is one of a list. What does not fit is refused where it is entered; where it stands already it
means no until somebody settles it.
"""

from __future__ import annotations

import unicodedata
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date
from difflib import get_close_matches
from fractions import Fraction
from typing import Any, Literal

from moorfog.core.kernel.arithmetic import NotANumber, parse_decimal, whole_or_cut
from moorfog.core.kernel.codec import DataError, decode

Plain = str | int | bool | tuple[str, ...]
Order = Literal["stricter", "same", "looser", "other"]
LEAST_LETTERS = 3


@dataclass(frozen=True)
class Shapes:
    """The shapes of all values by key; a key that ends in a dot stands for all that begin so.

    ``choices`` are given the strictest first; ``stricter`` says which of yes and no is. Bounds belong to the value.
    """

    choices: dict[str, tuple[str, ...]] = field(default_factory=dict)
    stricter: dict[str, bool] = field(default_factory=dict)
    whole: dict[str, tuple[int, ...]] = field(default_factory=dict)
    number: dict[str, tuple[str, ...]] = field(default_factory=dict)
    list: dict[str, tuple[str, ...]] = field(default_factory=dict)
    text: dict[str, str] = field(default_factory=dict)
    day: dict[str, str] = field(default_factory=dict)

    def problem(self, key: str, value: Plain) -> str:
        """Return what is wrong with a value in a sentence with what is expected, or nothing where it fits."""
        if key in self.choices:
            return _of_choices(key, value, self.choices[key])
        if key in self.stricter:
            return "" if isinstance(value, bool) else f"{key} is yes or no."
        for bounds in (self.whole, self.number):
            found = _find(bounds, key)
            if found is not None:
                return _of_bounds(key, value, found, is_whole=bounds is self.whole)
        members = _find(self.list, key)
        if members is not None:
            return _of_members(key, value, members)
        if key in self.text:
            return _of_text(key, value, self.text[key])
        if key in self.day:
            return "" if value == "" or _is_day(value) else f"{key} is a day such as 2027-01-31: {self.day[key]}."
        return f"{key!r} is no value of a rule book here."

    def words(self, key: str) -> tuple[str, ...]:
        """Return the words a value may be, the strictest first; nothing where it is no choice."""
        if key in self.stricter:
            return ("yes", "no") if self.stricter[key] else ("no", "yes")
        return self.choices.get(key, ())

    def order(self, key: str, old: Plain, new: Plain) -> Order:
        """Return how a choice, or a yes or no, compares with the one before; "other" for values of no such order."""
        if key in self.choices and old in self.choices[key] and new in self.choices[key]:
            places = [self.choices[key].index(str(one)) for one in (old, new)]
            return "same" if places[0] == places[1] else "stricter" if places[1] < places[0] else "looser"
        if key in self.stricter and isinstance(old, bool) and isinstance(new, bool):
            return "same" if old == new else "stricter" if new == self.stricter[key] else "looser"
        return "same" if old == new and type(old) is type(new) else "other"


def _find(shapes: Mapping[str, Any], key: str) -> Any:
    """Return the shape of a key: its own, else that of the longest beginning that ends in a dot."""
    if key in shapes:
        return shapes[key]
    begins = [one for one in shapes if one.endswith(".") and key.startswith(one)]
    return shapes[max(begins, key=len)] if begins else None


def near(word: str, known: tuple[str, ...], most: int = 3) -> tuple[str, ...]:
    """Return the known words that are nearest to one that is not known, the nearest first; all where none is near."""
    return tuple(get_close_matches(word, known, n=most, cutoff=0.5)) or known[:most]


def _of_choices(key: str, value: Plain, known: tuple[str, ...]) -> str:
    if isinstance(value, str) and value in known:
        return ""
    return f"{key} is one of: {'; '.join(known)}. Nearest to {value!r}: {near(str(value), known)[0]}."


def _of_bounds(key: str, value: Plain, bounds: tuple[int | str, ...], is_whole: bool) -> str:
    least, most = (Fraction(one) for one in bounds)
    kind = "a whole number" if is_whole else "a number"
    words = f"{key} is {kind} from {whole_or_cut(least)} to {whole_or_cut(most)}."
    found = number_of(value)
    if found is None or not least <= found <= most or (is_whole and found.denominator != 1):
        return words
    return ""


def number_of(value: Plain) -> Fraction | None:
    """Return a value as a number where it is one written in plain digits, else None."""
    if isinstance(value, (bool, tuple)):
        return None
    text = str(value)
    if not text.isascii() or text != text.strip():
        return None
    try:
        return parse_decimal(text, "value")
    except NotANumber:
        return None


def _of_members(key: str, value: Plain, known: tuple[str, ...]) -> str:
    if not isinstance(value, tuple) or not value:
        return f"{key} is a list of some of: {', '.join(known)}."
    strange = [one for one in value if one not in known]
    if strange:
        return f"{key}: {strange[0]!r} is none of {', '.join(known)}; nearest is {near(strange[0], known)[0]}."
    return f"{key}: {value[0]!r} or another stands there twice." if len(set(value)) != len(value) else ""


def _of_text(key: str, value: Plain, what: str) -> str:
    if not isinstance(value, str):
        return f"{key} is a text: {what}."
    letters = sum(unicodedata.category(one)[0] in "LN" for one in value)
    return "" if value == "" or letters >= LEAST_LETTERS else f"{key} says {what}, in words, or is empty."


def _is_day(value: Plain) -> bool:
    try:
        return isinstance(value, str) and date.fromisoformat(value).isoformat() == value
    except ValueError:
        return False


def read_shapes(data: Mapping[str, Any], where: str) -> Shapes:
    """Read shapes from parsed TOML. Raises :class:`DataError` naming file and key."""
    found = decode(Shapes, data, where)
    for name in ("whole", "number"):
        for key, bounds in getattr(found, name).items():
            if len(bounds) != 2 or Fraction(bounds[0]) > Fraction(bounds[1]):
                raise DataError(f"{where}.{name}.{key}", "write the least and the most, in this order")
    return found
