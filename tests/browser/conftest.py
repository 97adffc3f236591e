"""Fixtures of the browser tests: for each file a program on loopback."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import pytest
from playwright.sync_api import Browser

from moorfog.core.rules.book import Rules
from tests.browser.desk import Desk
from tests.browser.stack import Stack
from tests.browser.walked import Walker


@pytest.fixture(scope="module")
def stack(rules: Rules) -> Iterator[Stack]:
    """The program with one web process, worker, link and counter; a file's own, as its tests change sites and kit."""
    one = Stack(rules)
    yield one
    one.stop()


@pytest.fixture(scope="module")
def walker(stack: Stack, rules: Rules) -> Walker:
    """Walks visits on this file's program."""
    return Walker(stack, rules)


@pytest.fixture
def desk(browser: Browser, stack: Stack) -> Iterator[Callable[..., Desk]]:
    """Return a maker of windows; each is closed after the test, and none may have thrown an error."""
    made: list[Desk] = []

    def make(address: str | None = None, **given: Any) -> Desk:
        made.append(Desk(browser, address or stack.address, **given))
        return made[-1]

    yield make
    for one in made:
        one.context.close()
    assert [problem for one in made for problem in one.problems] == []
