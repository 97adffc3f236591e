"""The text of a record read strictly, each of its parts once: many records carry the same rules, word for word."""

from __future__ import annotations

import json
import re
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from moorfog.core.canonical import Written, written_once
from moorfog.core.codec import DataError

KEPT = 8
"""How many different sets of rules are kept, the latest used."""
_SPACE = re.compile(r"[ \t\n\r]*")
_kept: OrderedDict[str, tuple[Any, Written]] = OrderedDict()


@dataclass(frozen=True)
class RecordText:
    """A record as parsed, and its rules as canonical bytes; None where it has none."""

    data: dict[str, Any]
    rules: Written | None


def read_record_text(text: str, where: str) -> RecordText:
    """Parse the text of a record.

    Raises :class:`DataError` for what is no JSON object, for a number that is not whole, and for a key that stands
    twice in an object: programs differ in which of the two they would believe.
    """
    found: dict[str, Any] = {}
    rules: Written | None = None
    try:
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
            return *known, begin + len(span)
    value, end = _decoder.raw_decode(text, begin)
    content = written_once(value)
    if isinstance(value, dict):  # the text of an object ends with it; a number's might go on
        _kept[text[begin:end]] = (value, content)
        while len(_kept) > KEPT:
            _kept.popitem(last=False)
    return value, content, end
