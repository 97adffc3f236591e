"""The text of a record read strictly, each of its parts once: many records carry the same rules, word for word."""

from __future__ import annotations

import hashlib
import json
import re
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import orjson

from moorfog.core.kernel.canonical import Written, written, written_once
from moorfog.core.kernel.codec import DataError

KEPT = 8
"""How many different sets of rules are kept, the latest used."""
_SPACE = re.compile(r"[ \t\n\r]*")
_RULES = b'"rules":'
_DIGEST = b'{"digest":"'


@dataclass(frozen=True)
class RecordText:
    """A record as parsed, its rules as canonical bytes, and the digest it should carry; None where not yet known."""

    data: dict[str, Any]
    rules: Written | None
    own_digest: str | None = None


@dataclass(frozen=True)
class _Rules:
    """Rules read before: as parsed, as canonical bytes, and as they stood in a file."""

    value: dict[str, Any]
    content: Written
    span: bytes


_kept: OrderedDict[str, _Rules] = OrderedDict()


def read_record_text(content: bytes, where: str) -> RecordText:
    """Parse the bytes of a record, UTF-8.

    Raises :class:`DataError` for what is no JSON object, for a number that is not whole, and for a key that stands
    twice in an object: programs differ in which of the two they would believe.
    """
    return _as_exported(content) or _strictly(content, where)


def _as_exported(content: bytes) -> RecordText | None:
    """Read a record that stands as it was exported, with rules seen before; None for any other.

    Written again it must be the same bytes: then no key stands twice, and the quick parser misread nothing. A number
    that is not whole survives that, and fits no field of a record.
    """
    start = content.find(_RULES) + len(_RULES)
    for known in _kept.values():
        if content.startswith(known.span, start):
            break
    else:
        return None
    rest = content[:start] + b"null" + content[start + len(known.span) :].removesuffix(b"\n")
    try:
        data = orjson.loads(rest)
    except orjson.JSONDecodeError:
        return None
    if not isinstance(data, dict) or "rules" not in data or data["rules"] is not None or written(data) != rest:
        return None
    data["rules"] = known.value
    return RecordText(data, known.content, _own_digest(rest, start))


def _own_digest(rest: bytes, rules_at: int) -> str | None:
    """Return the SHA-256 of canonical bytes without the digest they begin with and without the rules in them."""
    begin = len(_DIGEST) + 64 + len(b'",')
    end, behind = rules_at - len(_RULES), rules_at + len(b"null,")
    if not rest.startswith(_DIGEST) or rest[begin - 2 : begin] != b'",' or rest[behind - 1 : behind] != b",":
        return None
    sha = hashlib.sha256(b"{")
    sha.update(memoryview(rest)[begin:end])
    sha.update(memoryview(rest)[behind:])
    return sha.hexdigest()


def _strictly(content: bytes, where: str) -> RecordText:
    found: dict[str, Any] = {}
    rules: Written | None = None
    try:
        text = content.decode("utf-8")
        at = _expect(text, _skip(text, 0), "{")
        while True:
            key, at = _decoder.raw_decode(text, _skip(text, at))
            at = _expect(text, _skip(text, at), ":")
            begin = _skip(text, at)
            if key in found:
                raise DataError(where, f"key {key!r} stands twice")
            if key == "rules":
                found[key], rules, at = _rules(text, begin)
            else:
                found[key], at = _decoder.raw_decode(text, begin)
            at = _skip(text, at)
            if text[at : at + 1] == "}":
                break
            at = _expect(text, at, ",")
        if _skip(text, at + 1) != len(text):
            raise json.JSONDecodeError("Extra data", text, at + 1)
    except UnicodeDecodeError as error:
        raise DataError(where, "is no UTF-8 text; give the record as it was exported") from error
    except json.JSONDecodeError as error:
        problem = f"is no JSON: {error.msg} at line {error.lineno}, column {error.colno}"
        raise DataError(where, problem) from error
    except _Twice as error:
        raise DataError(where, f"key {error.args[0]!r} stands twice in an object") from error
    except _Fraction as error:
        raise DataError(where, f"holds the number {error.args[0]}; a record has whole numbers and text only") from error
    return RecordText(found, rules)


class _Twice(ValueError):
    """A key twice in one object."""


class _Fraction(ValueError):
    """A number that is not whole."""


def _once(pairs: Sequence[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    if len(found) != len(pairs):
        names = [key for key, _ in pairs]
        raise _Twice(next(one for one in names if names.count(one) > 1))
    return found


def _whole(text: str) -> Any:
    raise _Fraction(text)


_decoder = json.JSONDecoder(object_pairs_hook=_once, parse_float=_whole, parse_constant=_whole)


def _skip(text: str, at: int) -> int:
    found = _SPACE.match(text, at)
    return found.end() if found is not None else at


def _expect(text: str, at: int, mark: str) -> int:
    if text[at : at + 1] != mark:
        raise json.JSONDecodeError(f"Expecting '{mark}'", text, at)
    return at + 1


def _rules(text: str, begin: int) -> tuple[Any, Written, int]:
    """Return a record's rules, their canonical bytes and where they end; an object word for word as before is known."""
    for span, known in _kept.items():
        if text.startswith(span, begin):
            _kept.move_to_end(span)
            return known.value, known.content, begin + len(span)
    value, end = _decoder.raw_decode(text, begin)
    content = written_once(value)
    if isinstance(value, dict):  # the text of an object ends with it; a number's might go on
        span = text[begin:end]
        _kept[span] = _Rules(value, content, span.encode("utf-8"))
        while len(_kept) > KEPT:
            _kept.popitem(last=False)
    return value, content, end
