"""Fixtures of the API's tests: the invented catalogue once, a house of two employers per test."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from argon2 import PasswordHasher
from sqlalchemy import Engine, update

from moorfog.core.rules.book import Rules
from moorfog.demo.seed import enter_facepieces
from moorfog.platform.db.base import make_engine, run_in_transaction
from moorfog.platform.jobs.tables import Job
from moorfog.rooms.accounts import sessions
from tests.rooms.house import House
from tests.template import own_server


@pytest.fixture(scope="session", autouse=True)
def cheap_hashes() -> Iterator[None]:
    """Passwords hashed for the tests' sake only: eight accounts a test would cost more than what is tested."""
    dear = sessions._hasher
    sessions._hasher = PasswordHasher(time_cost=1, memory_cost=8, parallelism=1)
    yield
    sessions._hasher = dear


@pytest.fixture(scope="session")
def catalogue(engine: Engine) -> None:
    """The invented facepieces, one version each."""

    run_in_transaction(engine, enter_facepieces)


@pytest.fixture(scope="module")
def alone() -> Iterator[Engine]:
    """A database of a file's own: all of it can be checked, and what is edited there lies about for nobody else."""
    with own_server() as server:
        made = make_engine(server.url)
        run_in_transaction(made, enter_facepieces)
        yield made
        made.dispose()


@pytest.fixture
def house(engine: Engine, rules: Rules, catalogue: None) -> House:
    """Two employers of this test's own, with people, counters and accounts; no job of another test waits."""
    left = update(Job).where(Job.state == "waiting").values(state="cancelled")
    run_in_transaction(engine, lambda db: db.execute(left))
    return House(engine, rules)
