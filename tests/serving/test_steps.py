"""What a worker does again and again: whatever fails keeps nothing else from its turn."""

from __future__ import annotations

import logging
import threading
from itertools import pairwise
from typing import NoReturn

import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import create_engine
from sqlalchemy.exc import DBAPIError

from moorfog.platform.db.clock import DatabaseClock
from moorfog.steps import LATEST_S, Apart, Step, Steps
from moorfog.worker import steps_of

LOG = logging.getLogger("moorfog.test-steps")


class Hand:
    """A clock by hand."""

    def __init__(self) -> None:
        self.at = 0.0

    def __call__(self) -> float:
        return self.at


def broken() -> NoReturn:
    raise ValueError("a row nobody can read")


@given(st.lists(st.booleans(), min_size=1, max_size=6), st.integers(1, 40))
def test_whatever_fails_the_others_have_their_turn(fails: list[bool], rounds: int) -> None:
    clock, done = Hand(), [0] * len(fails)

    def count(at: int) -> None:
        done[at] += 1

    steps = Steps(
        LOG,
        clock,
        [Step(str(at), 1.0, broken if one else (lambda at=at: count(at))) for at, one in enumerate(fails)],
    )
    for _ in range(rounds):
        steps.do_due()
        clock.at += 1
    assert done == [0 if one else rounds for one in fails]


def test_a_failing_step_is_said_once_tried_later_and_later_and_said_to_be_well(
    caplog: pytest.LogCaptureFixture,
) -> None:
    clock, tried, is_well = Hand(), list[float](), False

    def sometimes() -> None:
        tried.append(clock.at)
        if not is_well:
            broken()

    steps = Steps(LOG, clock, [Step("counting", 1.0, sometimes)])
    with caplog.at_level(logging.INFO):
        while clock.at < 2000:
            steps.do_due()
            clock.at += 0.5
        assert tried[:4] == [0, 2, 6, 14] and max(b - a for a, b in pairwise(tried)) <= LATEST_S
        assert [one.levelname for one in caplog.records] == ["ERROR"]
        is_well = True
        while clock.at < 3000:
            steps.do_due()
            clock.at += 0.5
        assert "done again" in caplog.messages[-1] and tried[-1] - tried[-2] == 1.0


def test_one_of_many_that_fails_is_left_alone_and_the_database_is_away_for_all() -> None:
    clock, apart, done = Hand(), Apart(LOG, Hand(), "reading"), list[str]()
    apart.clock = clock
    for _ in range(4):
        for name in ("a", "b", "c"):
            apart.do(name, broken if name == "b" else lambda name=name: done.append(name))
        clock.at += 1
    assert done == ["a", "c"] * 4 and apart.is_resting("b") and not apart.is_resting("a")
    with pytest.raises(DBAPIError):
        apart.do("a", lambda: create_engine("mariadb+pymysql://x@127.0.0.1:1/x").connect())


def test_a_worker_has_a_step_for_everything_and_each_has_its_own_name() -> None:
    found = steps_of(create_engine("mariadb+pymysql://x@127.0.0.1:1/x"), DatabaseClock(), threading.Event())
    assert len({one.name for one in found}) == len(found) >= 12
    steps = Steps(LOG, Hand(), found)
    steps.do_due()  # with no database at all: each says so, and none ends the round
    waiting = [one.name for one in steps.steps if one.due > 0 and not one.failures and not one.first]
    assert waiting == [] or waiting == ["sending letters", "telling who is due"]
