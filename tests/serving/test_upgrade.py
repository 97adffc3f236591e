"""A database as an earlier release left it is brought up to date, holds, and is worked with."""

from __future__ import annotations

import gzip
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from sqlalchemy import select, text, update
from sqlalchemy.orm import Session

from moorfog.core.rules.book import Rules
from moorfog.platform.db.base import make_engine
from moorfog.platform.db.clock import DatabaseClock
from moorfog.platform.db.migrate import Schema, migrate, schema_of, wanted_revision
from moorfog.platform.log.readmodels import rebuild_foreign
from moorfog.platform.log.summaries import VisitSummary, WearPermission
from moorfog.rooms.accounts.sessions import load_actor
from moorfog.rooms.accounts.tables import Account, Grant
from moorfog.rooms.people.tables import Person
from moorfog.rooms.proof.verify import verify
from moorfog.rooms.sites.tables import SiteTask
from moorfog.rooms.wear.permissions import permissions_of
from moorfog.serving.backup import dump_to, restore
from moorfog.serving.database import DATABASE, PrivateServer
from moorfog.serving.own import Own
from moorfog.serving.whole import Where
from tests.rooms.house import House
from tests.template import empty_server

STORED = sorted((Path(__file__).parents[1] / "data" / "databases").glob("*.sql.gz"))


@pytest.fixture(params=STORED, ids=lambda one: one.name.split(".")[0])
def old(request: pytest.FixtureRequest) -> Iterator[PrivateServer]:
    """A server with a stored database in it, made by the release of that schema with two visits and one open."""
    home = Path(tempfile.mkdtemp(prefix="mfu"))
    home.chmod(0o755)
    try:
        with empty_server(home) as server:
            dumped = gzip.decompress(request.param.read_bytes())
            subprocess.run([*server.client_command(), DATABASE], input=dumped, check=True)
            yield server
    finally:
        shutil.rmtree(home, ignore_errors=True)


def test_a_stored_database_is_brought_up_to_date_holds_and_is_worked_with(old: PrivateServer, rules: Rules) -> None:
    schema = make_engine(old.schema_url)
    assert schema_of(schema) is Schema.OLDER
    migrate(old.schema_url)
    old.let_work()
    rebuild_foreign(schema)
    assert schema_of(schema) is Schema.CURRENT
    schema.dispose()
    engine = make_engine(old.url)
    assert verify(engine) == []
    with Session(engine) as db:
        assert sorted(one.closed for one in db.scalars(select(VisitSummary))) == ["", "released", "released"]
        passed = db.scalars(select(WearPermission)).one()
        reader = db.scalars(select(Account).join(Grant, Grant.account_id == Account.id).where(Grant.role == "tester"))
        mine = [load_actor(db, one) for one in reader]
        tester = next(one for one in mine if one.scope("tester").allows(passed.employer_id))
        day = passed.valid_from.isoformat()
        shown = permissions_of(db, DatabaseClock(), tester, passed.person_id, day, "").rows
        whose = db.get_one(Person, passed.person_id)
        task = db.scalars(select(SiteTask).where(SiteTask.task_id == whose.task_id, SiteTask.is_current)).one()
        if not task.content.get("oxygen_percent"):
            said = [why.sentence for why in shown[0].reasons]
            assert len(said) == 1 and "Oxygen is not stated" in said[0], "nobody ever said what oxygen there is"
            db.execute(update(SiteTask).values(content=task.content | {"oxygen_percent": "20.9"}))
            shown = permissions_of(db, DatabaseClock(), tester, passed.person_id, day, "").rows
        assert [one.may for one in shown] == [True], "what was passed before may still be worn"
        db.rollback()
    house = House(engine, rules)
    house.client().whole_visit()
    assert verify(engine) == []
    engine.dispose()


def test_a_backup_of_before_is_laid_back_and_brought_up_to_date(old: PrivateServer, place: Path) -> None:
    """What its own program wrote, at the schema that it had: all of it is there, and holds."""
    file = place / "one.moorfog"
    dump_to(old.schema_url, place / "keys", file)
    with empty_server(place) as server:
        about = restore(file, place, server)
        assert about.revision != wanted_revision()
        schema, before, engine = make_engine(server.schema_url), make_engine(old.schema_url), make_engine(server.url)
        assert schema_of(schema) is Schema.CURRENT and verify(engine) == []
        for table in ("event", "person", "signature", "visit"):
            asked = text(f"SELECT COUNT(*) FROM {table}")
            with engine.connect() as now, before.connect() as then:
                assert now.scalar(asked) == then.scalar(asked) > 0, table
        for one in (schema, before, engine):
            one.dispose()


def test_a_database_of_a_newer_program_is_left_alone(old: PrivateServer) -> None:
    engine = make_engine(old.schema_url)
    with engine.begin() as connection:
        connection.execute(text("UPDATE alembic_version SET version_num = '9999'"))
    assert schema_of(engine) is Schema.NEWER
    engine.dispose()


def test_a_taking_over_that_was_broken_off_goes_on_at_the_next_start(
    old: PrivateServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The schema is the newest by then: the start must not take that for the end of it."""
    home = old.home.parent
    monkeypatch.setenv("MOORFOG_HOME", str(home))

    def broken_off(rows: int) -> None:
        raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        migrate(old.schema_url, taken=broken_off)
    own = Own(home, Where())
    own.server = old
    own._prepare()
    engine = make_engine(old.url)
    assert verify(engine, keys=home / "keys") == []
    engine.dispose()
