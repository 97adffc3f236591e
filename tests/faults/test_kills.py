"""Sixty kills over all parts of the real program, with a client that keeps posting."""

from __future__ import annotations

from moorfog.core.rules.book import Rules
from tests.browser.stack import Stack
from tests.faults.kills import kill_at_random

KILLS = 60


def test_every_part_comes_back_and_nothing_acknowledged_is_lost_or_doubled(rules: Rules) -> None:
    stack = Stack(rules)
    try:
        assert kill_at_random(stack, KILLS, seed=4) == [], stack.logs()
    finally:
        stack.stop()
