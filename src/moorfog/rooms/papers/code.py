"""What a card's code says without a network: a short statement, and the signature that it came from here.

It tells who (initials), which facepiece and size, until when. Whether it was withdrawn since only the network tells.
"""

from __future__ import annotations

import base64
import binascii
import json
from dataclasses import dataclass

from moorfog.core.kernel.canonical import canonical_bytes

ALPHABET = "0123456789ABCDEFGHJKMNPQRSTVWXYZ"
"""Digits and letters without those that are taken for one another."""
LENGTH = 12
FORMAT = 1


@dataclass(frozen=True)
class Statement:
    """What is signed of a card: its code, initials, facepiece with its size, and the last day (YYYY-MM-DD)."""

    code: str
    initials: str
    facepiece: str
    until: str

    def written(self) -> bytes:
        """Return the bytes that are signed: canonical JSON with short keys."""
        return canonical_bytes({"v": FORMAT, "c": self.code, "i": self.initials, "f": self.facepiece, "u": self.until})


class NotACard(ValueError):
    """A text that holds no statement of a card. Says what is wrong."""


def initials(name: str) -> str:
    """Return the first letters of a name's words: "Åsa Tarn" gives "Å. T."."""
    return " ".join(f"{word[0].upper()}." for word in name.split() if word[0].isalpha())


def readable(code: str) -> str:
    """Return a code in groups of four, as it is printed."""
    return "-".join(code[first : first + 4] for first in range(0, len(code), 4))


def as_typed(text: str) -> str:
    """Return a code as it is stored, from what somebody types: any case, with or without hyphens; O is 0, I and L are
    1."""
    kept = "".join(one for one in text.upper() if one.isalnum())
    return kept.translate(str.maketrans("OIL", "011"))


def is_code(text: str) -> bool:
    """True where a text can be a code."""
    return len(text) == LENGTH and all(one in ALPHABET for one in text)


def _b64(data: bytes) -> str:
    return base64.urlsafe_b64encode(data).rstrip(b"=").decode()


def packed(one: Statement, signature: bytes) -> str:
    """Return a statement with its signature as one word for a QR code."""
    return f"{_b64(one.written())}.{_b64(signature)}"


def unpacked(text: str) -> tuple[Statement, bytes, bytes]:
    """Return statement, signed bytes and signature of a scanned text: the word alone, or an address that ends in it.

    Raises :class:`NotACard` saying what is wrong.
    """
    word = text.strip().rsplit("#", 1)[-1]
    said, dot, sealed = word.partition(".")
    if not dot:
        raise NotACard("there is no signed statement in it; scan the square on the card")
    try:
        content, signature = (base64.urlsafe_b64decode(one + "=" * (-len(one) % 4)) for one in (said, sealed))
        found = json.loads(content)
    except (binascii.Error, ValueError) as error:
        raise NotACard("it is cut off or was changed") from error
    if not isinstance(found, dict) or found.get("v") != FORMAT:
        raise NotACard("it is no card of this program, or of a newer one")
    parts = [found.get(key) for key in ("c", "i", "f", "u")]
    if not all(isinstance(one, str) for one in parts):
        raise NotACard("it is cut off or was changed")
    code, who, piece, until = (str(one) for one in parts)
    return Statement(code, who, piece, until), content, signature
