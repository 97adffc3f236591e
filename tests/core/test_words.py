"""Words in a log: signs stand for them, they come back as they were, and without them nothing else changes."""

from __future__ import annotations

import dataclasses
import hashlib
import typing
from itertools import count

from hypothesis import given
from hypothesis import strategies as st

from moorfog.core.events import payloads as ev
from moorfog.core.events.words import ERASED_WORDS, WORDS, has_plain_words, holds, put_back, set_apart, signs_in
from moorfog.core.kernel.codec import encode

CALLED = {"reason", "why", "note", "by", "words"}
"""What a field is called into which somebody types what they like."""


def typed_in(cls: type, path: str = "") -> set[str]:
    """Return every free text of a payload by its path."""
    found = set[str]()
    for name, kind in typing.get_type_hints(cls).items():
        parts = [kind, *typing.get_args(kind)]
        if name in CALLED and any(one is str for one in parts):
            found.add(f"{path}{name}")
        for one in parts:
            if dataclasses.is_dataclass(one) and isinstance(one, type) and name != "traits":
                found |= typed_in(one, f"{path}{name}.")
    return found


def test_every_free_text_of_every_entry_is_set_apart() -> None:
    found = {kind: typed_in(cls) for kind, cls in ev.KINDS.items()}
    assert {kind: paths for kind, paths in found.items() if paths} == {kind: set(one) for kind, one in WORDS.items()}


CLEARED = ev.Clearance("cleared", ("powered only",), "2026-01-01", "", "Dr A. Fen")


@given(st.text(), st.text(), st.booleans())
def test_what_is_set_apart_comes_back_and_what_is_gone_leaves_the_rest(reason: str, by: str, is_there: bool) -> None:
    file = ev.FileRead(dataclasses.replace(CLEARED, by=by) if is_there else None, "2026-01-01", "2026-02-01")
    content = encode(ev.Corrected(3, reason, "M", None, None, file))
    salts = count()
    stored, words = set_apart(content, lambda: f"{next(salts):032x}")
    assert len(words) == bool(reason) + (bool(by) and is_there) and all(map(holds, words))
    assert set(signs_in(stored)) == {one.sign for one in words} and not has_plain_words(stored)
    assert has_plain_words(content) == bool(words)
    assert put_back(stored, {one.sign: one.text for one in words}) == content
    gone = encode(ev.Corrected(3, ERASED_WORDS if reason else "", "M", None, None, file))
    if is_there and by:
        gone["file"]["clearance"]["by"] = ERASED_WORDS
    assert put_back(stored, {}) == gone


def test_a_sign_is_the_digest_of_salt_and_words() -> None:
    """Against hashlib; the salt keeps a short word from being found by trying."""
    _, (word,) = set_apart(encode(ev.Stopped("unwell")), lambda: "s" * 32)
    assert word.sign == "words:" + hashlib.sha256(("s" * 32 + "unwell").encode()).hexdigest()
    _, (other,) = set_apart(encode(ev.Stopped("unwell")), lambda: "t" * 32)
    assert other.sign != word.sign


def test_what_looks_like_a_sign_is_set_apart_like_any_words() -> None:
    typed = "words:" + "0" * 64
    stored, words = set_apart(encode(ev.Stopped(typed)), lambda: "s" * 32)
    assert stored["why"] != typed and put_back(stored, {one.sign: one.text for one in words})["why"] == typed
