"""Names folded for searching: accents and case do not matter, nothing is lost that tells people apart."""

from __future__ import annotations

import unicodedata

import pytest
from hypothesis import given
from hypothesis import strategies as st

from moorfog.platform.text import WORD_LENGTH, fold_word, words_of


@pytest.mark.parametrize(
    ("name", "folded"),
    [
        ("Łukasz", "lukasz"),
        ("Åsvik", "asvik"),
        ("MÜLLER", "muller"),
        ("Strauß", "strauss"),
        ("Øyvind", "oyvind"),
        ("Đorđe", "dorde"),
        ("Æthel", "aethel"),
        ("Renée", "renee"),
        ("Þór", "thor"),
        ("O'Neil", "o'neil"),
        ("李雷", "李雷"),
    ],
)
def test_letters_are_folded_as_a_tester_would_type_them(name: str, folded: str) -> None:
    assert fold_word(name) == folded


@given(st.text(max_size=40))
def test_folding_twice_is_folding_once_and_leaves_no_accent(text: str) -> None:
    cached = fold_word(text)
    assert fold_word(cached) == cached
    assert not any(unicodedata.combining(one) for one in cached)


@given(st.text(alphabet="abcåßłØ -'", min_size=1, max_size=60), st.from_regex(r"[0-9A-Z-]{1,12}", fullmatch=True))
def test_every_word_of_a_name_and_the_number_are_found(name: str, number: str) -> None:
    words = words_of(name, number)
    assert fold_word(number) in words or not fold_word(number)
    for word in fold_word(name).split():
        assert word[:WORD_LENGTH] in words
    assert all(0 < len(one) <= WORD_LENGTH for one in words)


def test_a_double_name_is_found_by_each_half_and_as_a_whole() -> None:
    assert {"anne", "marie", "anne-marie", "holm", "17"} <= words_of("Anne-Marie Holm", "17")
