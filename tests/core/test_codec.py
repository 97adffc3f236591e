"""Strict reading: what was written comes back the same, and anything changed is refused at its very place."""

from __future__ import annotations

import copy
from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import pytest

from moorfog.core.kernel.codec import DataError, decode, encode, reader_of
from moorfog.core.measuring.readings import Chunk, Reading, chunk_of, merged
from moorfog.core.record.record import ExerciseVerdict, TryVerdict
from moorfog.core.rules.book import Book, Rules
from moorfog.core.rules.protocols import Protocol

TRY = TryVerdict(1, "r", "pass", ("a", "b"), "875/2", False, None, True, (ExerciseVerdict(0, "9", True, None, None),))


def leaves(value: Any, path: str) -> Iterator[tuple[str, Any, Any]]:
    """Every place of plain data, with the container and key it hangs on."""
    pairs = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, one in pairs:
        here = f"{path}.{key}" if isinstance(value, dict) else f"{path}[{key}]"
        yield here, value, key
        yield from leaves(one, here)


@pytest.mark.parametrize("what", ["book", "protocol", "try"])
def test_what_is_written_comes_back_and_a_wrong_leaf_is_named(rules: Rules, what: str) -> None:
    one, kind = {"book": (rules.book, Book), "protocol": (rules.protocols[0], Protocol), "try": (TRY, TryVerdict)}[what]
    data = encode(one)
    assert decode(kind, data, "x") == one == reader_of(kind)(data)
    places = [place for place, _, _ in leaves(data, "x")]
    for number, place in list(enumerate(places))[:: max(1, len(places) // 60)]:
        spoilt = copy.deepcopy(data)
        _, holder, key = list(leaves(spoilt, "x"))[number]
        holder[key] = 1.5
        with pytest.raises(DataError) as refused:
            decode(kind, spoilt, "x")
        assert refused.value.where == place, "a float is nowhere expected"


def test_truth_values_are_no_numbers_and_unknown_or_missing_keys_are_named() -> None:
    for wrong, where in (({"no": True}, "x.no"), ({"is_marginal": 1}, "x.is_marginal"), ({"more": 1}, "x.more")):
        with pytest.raises(DataError) as refused:
            decode(TryVerdict, {**encode(TRY), **wrong}, "x")
        assert refused.value.where == where
    with pytest.raises(DataError, match=r"x\.run_id: this key is missing"):
        decode(TryVerdict, {key: one for key, one in encode(TRY).items() if key != "run_id"}, "x")


def test_chunks_in_a_row_become_one_and_a_break_or_another_kind_begins_anew() -> None:
    read = [Reading(250 * n, 250, n, 416_750, "I") for n in range(1, 13)]
    chunks = [chunk_of(at, read[at : at + 4]) for at in (0, 4, 8)]
    (whole,) = merged(chunks)
    assert list(whole.readings()) == read and whole.first == 0
    later = replace(chunks[2], first=9)
    signal = Chunk(8, (1,), (1,), (0,), (0,), "I", ("",), (5,))
    assert merged([*chunks[:2], later]) == [merged(chunks[:2])[0], later]
    assert merged([*chunks[:2], signal]) == [merged(chunks[:2])[0], signal] and merged([]) == []
