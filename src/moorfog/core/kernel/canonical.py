"""One way to write a value as bytes, so that a digest means the same thing everywhere.

The form is RFC 8785 (JSON Canonicalization Scheme) restricted to what records hold: text, whole numbers, truth
values, null, lists and objects. Floats are refused: a number that matters travels as text or as integers.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import orjson

MAX_SAFE_INTEGER = 2**53 - 1
_BEYOND = tuple(bytes([lead]) for lead in range(0xEE, 0xF5))
"""Bytes that begin a character behind the surrogates in UTF-8."""


def _check(value: Any, where: str) -> None:
    if value is None or isinstance(value, (str, bool)):
        return
    if isinstance(value, int):
        if abs(value) > MAX_SAFE_INTEGER:
            raise ValueError(f"{where}: {value} does not fit a JSON number exactly; write it as text")
        return
    if isinstance(value, Mapping):
        for key, inner in value.items():
            if not isinstance(key, str):
                raise ValueError(f"{where}: key {key!r} is not text")
            _check(inner, f"{where}.{key}")
        return
    if isinstance(value, (list, tuple)):
        for index, inner in enumerate(value):
            _check(inner, f"{where}[{index}]")
        return
    raise ValueError(f"{where}: {type(value).__name__} cannot be written canonically; use text or whole numbers")


def _sorted(value: Any) -> Any:
    if isinstance(value, Mapping):
        return {key: _sorted(value[key]) for key in sorted(value, key=lambda name: name.encode("utf-16-be"))}
    if isinstance(value, (list, tuple)):
        return [_sorted(inner) for inner in value]
    return value


def canonical_bytes(value: Any) -> bytes:
    """Return the canonical JSON of ``value`` as UTF-8.

    Raises ``ValueError`` naming the place of a float, an integer beyond 2**53 - 1, or an unknown type.
    Source: RFC 8785, sections 3.2.2 and 3.2.3 (key order by UTF-16 code units).
    """
    _check(value, "$")
    return written(value)


def written(value: Any) -> bytes:
    """Return canonical JSON of what has been checked, or came out of a parser that gave no float.

    By code points keys sort as by UTF-16 code units, as long as nothing lies beyond the surrogates; then the encoder
    may sort them itself, which is far faster.
    """
    try:
        content = orjson.dumps(value, option=orjson.OPT_SORT_KEYS)
    except TypeError:  # a mapping that is no dict, a whole number beyond 64 bits, half a surrogate pair
        return _slowly(value)
    if content.isascii() or not any(lead in content for lead in _BEYOND):
        return content
    return _slowly(value)


def _slowly(value: Any) -> bytes:
    return json.dumps(_sorted(value), ensure_ascii=False, separators=(",", ":")).encode("utf-8")


@dataclass(frozen=True)
class Written:
    """A value as canonical bytes, with their digest."""

    content: bytes
    digest: str


def written_once(value: Any) -> Written:
    """Return a value that came out of a JSON parser as canonical bytes with their digest."""
    content = written(value)
    return Written(content, hashlib.sha256(content).hexdigest())


def digest_of_json(value: Any) -> str:
    """Return the digest of what came out of a JSON parser that gave no float: nothing in it needs to be checked."""
    return hashlib.sha256(written(value)).hexdigest()


def digest(value: Any) -> str:
    """Return the SHA-256 of the canonical JSON of ``value``, as 64 hexadecimal digits."""
    return hashlib.sha256(canonical_bytes(value)).hexdigest()
