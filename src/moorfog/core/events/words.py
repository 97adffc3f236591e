"""Words that people type into a log: what the chain binds is their digest, so that they can go and the chain holds.

An entry is stored with a sign in the place of each of these words, ``words:`` and a SHA-256 over a salt of its own and
the words. Words and salt stand beside the log. Where they have been erased the entry says so, and everything that was
judged stays as it was: nothing here is ever judged, only shown.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from hashlib import sha256
from types import MappingProxyType
from typing import Any

WORDS: Mapping[str, tuple[str, ...]] = {
    "visit_opened": ("clearance.by",),
    "file_read": ("clearance.by",),
    "corrected": ("reason", "file.clearance.by"),
    "answered": ("note",),
    "stopped": ("why",),
    "withheld": ("reason",),
    "turned_away": ("reason",),
    "detection_mistaken": ("reason",),
    "run_voided": ("reason",),
}
"""By kind of entry: where words stand in it that somebody typed, and that may name a person."""
ERASED_WORDS = "(erased)"
MARK = "words:"
NO_WORDS: Mapping[str, str] = MappingProxyType({})
_SIGN = re.compile(r"words:[0-9a-f]{64}")


@dataclass(frozen=True)
class Words:
    """Words of an entry: their sign as it stands in the log, the salt of the digest in it, and what they say."""

    sign: str
    salt: str
    text: str


def sign_of(salt: str, text: str) -> str:
    """Return the sign that stands in the log for words."""
    return MARK + sha256((salt + text).encode()).hexdigest()


def holds(words: Words) -> bool:
    """Tell whether words are those that their sign stands for."""
    return sign_of(words.salt, words.text) == words.sign


def set_apart(content: Mapping[str, Any], new_salt: Callable[[], str]) -> tuple[dict[str, Any], tuple[Words, ...]]:
    """Return the content of an entry with signs in the place of its words, and those words."""
    found: list[Words] = []

    def put(text: str) -> str:
        salt = new_salt()
        found.append(Words(sign_of(salt, text), salt, text))
        return found[-1].sign

    out = _changed(content, put)
    return out, tuple(found)


def signs_in(content: Mapping[str, Any]) -> tuple[str, ...]:
    """Return the signs that stand in the content of an entry."""
    return tuple(text for text in _typed(content) if _SIGN.fullmatch(text))


def has_plain_words(content: Mapping[str, Any]) -> bool:
    """Tell whether the content of an entry says in itself what somebody typed, as it did before there were signs."""
    return any(not _SIGN.fullmatch(text) for text in _typed(content))


def put_back(content: Mapping[str, Any], texts: Mapping[str, str]) -> dict[str, Any]:
    """Return the content of an entry with its words again; where they are not in ``texts``, that they are erased."""
    return _changed(content, lambda text: texts.get(text, ERASED_WORDS) if _SIGN.fullmatch(text) else text)


def _typed(content: Mapping[str, Any]) -> list[str]:
    """Return what stands in the places of an entry's words: signs, or the words themselves."""
    found: list[str] = []

    def note(text: str) -> str:
        found.append(text)
        return text

    _changed(content, note)
    return found


def _changed(content: Mapping[str, Any], change: Callable[[str], str]) -> dict[str, Any]:
    out = dict(content)
    for path in WORDS.get(str(content.get("kind")), ()):
        *parents, name = path.split(".")
        place = out
        for parent in parents:
            below = place.get(parent)
            if not isinstance(below, dict):
                break
            place[parent] = place = dict(below)
        else:
            if isinstance(place.get(name), str) and place[name]:
                place[name] = change(place[name])
    return out
