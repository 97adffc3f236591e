"""Both judges of permission answer alike for made-up people: may, may not, and until when."""

from __future__ import annotations

from dataclasses import replace

import pytest

from moorfog.core.permission.may_wear import may_wear
from tests.independent.people import somebody, unlike
from tests.independent.wearing import until


@pytest.mark.parametrize("part", range(4))
def test_both_judges_of_permission_agree(part: int) -> None:
    assert list(unlike(250, 250 * part)) == []


def test_both_answers_are_among_them_and_a_bent_fact_is_seen() -> None:
    answers = {seed: somebody(seed).answered() for seed in range(400)}
    able = [somebody(seed) for seed, answer in answers.items() if answer]
    assert 40 < len(able) < 360
    for one in able[:20]:
        untrained = replace(one, facts=replace(one.facts, trained=()))
        assert until(untrained.plain(), one.day) == "" == untrained.answered()
        unstated = replace(one, facts=replace(one.facts, clearances=()))
        assert until(unstated.plain(), one.day) == "" == unstated.answered()
        assert may_wear(one.held, one.facts, one.task, one.books, one.day).may
