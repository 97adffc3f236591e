"""Windows at a bench, in the browser of the other browser tests."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest
from playwright.sync_api import Browser

from moorfog.bootstrap import ensure_web
from tests.cards.table import Make, Table
from tests.core.bench import Bench


@pytest.fixture
def table(browser: Browser) -> Iterator[Make]:
    """Return a maker of windows at a bench; each is closed after the test."""
    made: list[Table] = []

    def make(bench: Bench, **given: Any) -> Table:
        made.append(Table(browser, ensure_web(), bench, **given))
        return made[-1]

    yield make
    for one in made:
        one.close()
