"""No list reads the whole of a table that grows: by the server's own plans, over some thousand people."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime

import pytest
from sqlalchemy import Engine, insert
from sqlalchemy.orm import Session

from moorfog.core.rules.book import Rules
from moorfog.platform.db.base import make_engine, run_in_transaction
from moorfog.platform.db.clock import DatabaseClock
from moorfog.rooms.accounts.sessions import Attempt, create_account, open_session
from moorfog.rooms.accounts.tables import Account, KnownAddress
from moorfog.rooms.wear.standing import freshen_everywhere
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


def test_a_browser_is_known_by_an_index(crowded: Engine) -> None:
    """Among five thousand places somebody signs in with a browser that was used before."""

    def fill(db: Session) -> str:
        account_id, now = create_account(db, "maren", "Maren Oake", "heather", []), DatabaseClock().now(db)
        places = [{"account_id": account_id, "address": f"place {no}", "at": now} for no in range(5_000)]
        db.execute(insert(KnownAddress), places)
        return account_id

    account_id = run_in_transaction(crowded, fill)
    with heard(crowded) as asked, Session(crowded) as db:
        open_session(db, DatabaseClock(), db.get_one(Account, account_id), Attempt("a", "", browser="used before"))
        db.rollback()
    assert [one for one in asked if "known_address" in one[0]] and scans(crowded, asked, 4_000) == []


def test_a_scan_is_seen(crowded: Engine) -> None:
    """The check itself: a question that no index answers is named."""
    assert scans(crowded, [("SELECT * FROM visit_summary WHERE doing = %s", ("waits",))], 4_000)
