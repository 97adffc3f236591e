"""What the core says to walks made up by dice is what it said when they were written down.

These hold no outside fact: they hold still what the other tests, and the second judge, have found to be right. A change
of behaviour that is meant writes them down again (``python -m tests.core.walks``), and its commit says why.
"""

from __future__ import annotations

import json
from collections import Counter
from typing import Any

import pytest

from tests.core.all_ways import Way, ways
from tests.core.walks import EACH, KEPT, permissions, walks_of

WALKS: dict[str, Any] = json.loads(KEPT.read_text())
ANSWERS: list[str] = WALKS.pop("people")


@pytest.mark.parametrize("way", ways(), ids=str)
def test_a_walk_comes_to_what_it_came_to(way: Way) -> None:
    for number, (now, kept) in enumerate(zip(walks_of(way), WALKS[str(way)], strict=True)):
        for step, (is_now, was) in enumerate(zip(now, kept, strict=False)):
            assert is_now == was, f"walk {number}, step {step}, after {kept[:step][-5:]}"
        assert len(now) == len(kept)


def test_people_are_answered_what_they_were_answered() -> None:
    """The answer, until when, every reason and every limit."""
    assert [seed for seed, (now, was) in enumerate(zip(permissions(), ANSWERS, strict=True)) if now != was] == []


def test_walks_go_everywhere() -> None:
    """Of every way; a hundred sorts of press taken, and two dozen reasons to refuse one."""
    assert set(WALKS) == {str(way) for way in ways()} and all(len(walks) == EACH for walks in WALKS.values())
    steps = [step.split(":") for walks in WALKS.values() for walk in walks for step in walk]
    taken = Counter(what for what, refusal, _ in steps if not refusal)
    refused = Counter(refusal for _, refusal, _ in steps)
    assert taken["run"] > 150 and taken["decided"] > 100 and taken["release"] > 80 and len(taken) > 100, taken
    assert len(refused) > 24 and refused["cannot"] < len(steps) / 20, refused
