"""No list reads the whole of a table that grows: by the server's own plans, over some thousand people."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime

import pytest
from sqlalchemy import Engine
from sqlalchemy.orm import Session

from moorfog.core.rules.book import Rules
from moorfog.operations.people.standing import freshen_everywhere
from moorfog.store.base import make_engine
from moorfog.store.clock import DatabaseClock
from tests.bench_large import heard, scans, views
from tests.crowd import Crowd, make
from tests.template import own_server

CROWD = Crowd(5_000, datetime.now(UTC).date())


@pytest.fixture(scope="module")
def crowded(rules: Rules) -> Iterator[Engine]:
    """A database with the programme in it."""
    with own_server() as server:
        make(make_engine(server.schema_url), CROWD, rules)
        engine = make_engine(server.url)
        for _ in freshen_everywhere(engine, DatabaseClock()):
            pass
        yield engine


def test_every_list_reads_by_an_index(crowded: Engine) -> None:
    found = {}
    for name, view in views(CROWD).items():
        with heard(crowded) as asked, Session(crowded) as db:
            view(db)
            db.rollback()
        assert asked, name
        found[name] = scans(crowded, asked, 4_000)
    assert {name: one for name, one in found.items() if one} == {}


def test_a_scan_is_seen(crowded: Engine) -> None:
    """The check itself: a question that no index answers is named."""
    assert scans(crowded, [("SELECT * FROM visit_summary WHERE doing = %s", ("waits",))], 4_000)
