"""Every key of every shipped book has an effect: some code, procedure or kind of facepiece asks for it."""

from __future__ import annotations

import ast
import re
from functools import cache
from importlib.resources import files
from pathlib import Path

import pytest

import moorfog
from moorfog.core.kernel.codec import encode
from moorfog.data import facepiece_kinds, rules_for, shipped_books, shipped_protocols

ROOT = Path(str(files(moorfog)))
FAMILIES = ("filters.order.",)
"""Keys that are read all together, by how they begin."""
READERS = ("core", "rooms", "platform")


@cache
def asked() -> tuple[frozenset[str], tuple[tuple[str, str], ...]]:
    """The strings that code writes in full, and the begin and end of those it puts together."""
    whole: set[str] = set()
    parts: set[tuple[str, str]] = set()
    for path in (one for folder in READERS for one in (ROOT / folder).rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.Constant) and isinstance(node.value, str):
                whole.add(node.value)
            elif isinstance(node, ast.JoinedStr):
                ends = [
                    one.value if isinstance(one, ast.Constant) and isinstance(one.value, str) else ""
                    for one in (node.values[0], node.values[-1])
                ]
                if "." in ends[0] + ends[1] and " " not in ends[0] + ends[1]:
                    parts.add((ends[0], ends[1]))
    for path in (ROOT / "data" / "procedures").glob("*.toml"):
        whole.update(re.findall(r'"([^"\s]+)"', path.read_text("utf-8")))
    return frozenset(whole), tuple(parts)


def is_read(key: str) -> bool:
    """Whether something asks for a key: by name, by a name put together, or by a kind of facepiece."""
    whole, parts = asked()
    if key in whole or key.startswith(FAMILIES) or key in {one.level for one in facepiece_kinds().values()}:
        return True
    return any(
        key.startswith(begin) and key.endswith(end) and len(key) > len(begin + end)
        for begin, end in parts
        if begin or len(end) > 2
    )


@pytest.mark.parametrize("book_id", sorted(shipped_books()))
def test_no_key_of_a_book_is_without_effect(book_id: str) -> None:
    book = shipped_books()[book_id]
    assert [key for key in sorted(book.values) if not is_read(key)] == []


def test_a_key_that_nothing_reads_is_found() -> None:
    assert not is_read("medical.moonphase") and not is_read("nobody.asks")


@pytest.mark.parametrize("book_id", sorted(shipped_books()))
def test_a_book_cites_its_own_country(book_id: str) -> None:
    """Questions that another country's law asks for are common practice elsewhere."""
    rules = rules_for(shipped_books()[book_id])
    sources = [one.source for one in rules.procedure.item] + [one.source for one in rules.book.values.values()]
    sources.append(str([encode(one) for one in shipped_protocols(rules.book.country)]))
    assert any("29 CFR" in one for one in sources) == (rules.book.country == "US")
