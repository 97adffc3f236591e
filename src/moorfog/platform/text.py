"""How a name is folded, so that accents do not matter, and which names resemble what was typed."""

from __future__ import annotations

import unicodedata
from difflib import SequenceMatcher

_LETTERS = str.maketrans({"ł": "l", "ø": "o", "đ": "d", "ð": "d", "þ": "th", "ß": "ss", "æ": "ae", "œ": "oe", "ı": "i"})
WORD_LENGTH = 60


def fold_word(text: str) -> str:
    """Return ``text`` in lower case without accents, as words are stored and looked for ("Łukasz Ås" → "lukasz as")."""
    lower = unicodedata.normalize("NFKD", text).casefold()  # signs such as 🆐 come apart into capitals
    plain = unicodedata.normalize("NFKD", lower.translate(_LETTERS))
    return "".join(one for one in plain if not unicodedata.combining(one)).strip()


def parts_of(text: str) -> list[str]:
    """Return the folded words of a text, in order; what a hyphen joins are two."""
    return fold_word(text).replace("-", " ").split()


def words_of(name: str, number: str) -> set[str]:
    """Return the folded words a person is found by: each word of the name, and the number."""
    whole = [fold_word(number), *parts_of(name), *fold_word(name).split()]
    return {one[:WORD_LENGTH] for one in whole if one}


ALIKE = 0.75
"""How much of a word must be the same for it to count as the same word with a slip of the finger; a choice."""


def resembles(typed: str, name: str) -> bool:
    """True if a typed name can be meant for ``name``: one of its words is one of the name's, give or take a letter.

    Case, accents and order do not matter; initials alone are not enough.
    """
    own = parts_of(name)
    words = [one for one in parts_of(typed) if len(one) > 1 or one in own]
    return any(SequenceMatcher(None, one, other).ratio() >= ALIKE for one in words for other in own)
