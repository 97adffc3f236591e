"""Shared fixtures: one private MariaDB for the whole run, fast and thrown away afterwards."""

from __future__ import annotations

import shutil
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest
from hypothesis import settings
from sqlalchemy import Engine

from moorfog.core.rules.book import Rules
from moorfog.data import shipped_rules
from moorfog.platform.db.base import make_engine
from moorfog.serving.database import PrivateServer
from tests.cost import Cost
from tests.plan import ByWaiting, be_polite, waits
from tests.template import forget, own_server, prepare

if TYPE_CHECKING:
    from playwright.sync_api import Browser

settings.register_profile("steady", deadline=None)  # a loaded machine is no falsifying example
settings.load_profile("steady")


def pytest_configure(config: pytest.Config) -> None:
    """Let the workers of one run share a template of a database, and each say what its files cost."""
    config.pluginmanager.register(Cost())
    if hasattr(config, "workerinput"):
        be_polite()
    else:
        prepare()


def pytest_unconfigure(config: pytest.Config) -> None:
    """Throw the template away."""
    if not hasattr(config, "workerinput"):
        forget()


def pytest_xdist_make_scheduler(config: pytest.Config, log: Any) -> ByWaiting | None:
    """Hand out files by whether they wait or count, where they are handed out as files."""
    return ByWaiting(config, log) if config.getoption("dist") == "loadfile" else None


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Browser tests mostly wait: they begin first, and the others fill in beside them."""
    items.sort(key=lambda one: not waits(one.nodeid))


def pytest_runtest_logreport(report: pytest.TestReport) -> None:
    """Name a failure at once: the run goes on for minutes before it sums up."""
    if report.failed:
        sys.stdout.write(f"\n{report.when} of {report.nodeid} failed\n")
        sys.stdout.flush()


@pytest.fixture(scope="session")
def rules() -> Rules:
    """The shipped rule set."""
    return shipped_rules()


@pytest.fixture(scope="session")
def server() -> Iterator[PrivateServer]:
    """A running, migrated MariaDB of our own on a free port."""
    with own_server() as one:
        yield one


@pytest.fixture(scope="session")
def engine(server: PrivateServer) -> Iterator[Engine]:
    """An engine on the test database."""
    made = make_engine(server.url)
    yield made
    made.dispose()


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    """Debian's Chromium, headless."""
    from playwright.sync_api import sync_playwright

    from tests.chromium import launched

    with sync_playwright() as playwright:
        one = launched(playwright)
        yield one
        one.close()


@pytest.fixture
def place() -> Iterator[Path]:
    """A folder that every account comes to, with a short path: sockets have no room for a long one."""
    made = Path(tempfile.mkdtemp(prefix="mfp"))
    made.chmod(0o755)
    yield made
    shutil.rmtree(made, ignore_errors=True)
