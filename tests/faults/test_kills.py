"""Sixty kills over all parts of the real program, while people are entered and tested."""

from __future__ import annotations

from moorfog.core.rules.book import Rules
from tests.browser.stack import Stack
from tests.faults.kills import kill_at_random

KILLS, BENCHES = 60, 4


def test_every_part_comes_back_and_nothing_acknowledged_is_lost_or_doubled(rules: Rules) -> None:
    stack = Stack(rules)
    try:
        assert kill_at_random(stack, KILLS, seed=4, benches=BENCHES) == [], stack.logs()
    finally:
        stack.stop()
