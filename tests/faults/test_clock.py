"""The database's clock is set ahead and back under processes that go on: their times do too, and it is told."""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from sqlalchemy import Engine, delete, select
from sqlalchemy.orm import Session

from moorfog.platform.db import clock as clocks
from moorfog.platform.db.base import make_engine, new_id, run_in_transaction
from moorfog.platform.db.clock import DatabaseClock, take_new_time
from moorfog.platform.db.tables import ClockJump, ClockRow
from moorfog.platform.log.tables import VisitScreen
from moorfog.serving.database import FAST_FLAGS
from tests.faults.clocks import SetClock
from tests.template import running_server

CLOCK = DatabaseClock()
OTHER_PROCESS = """
import sys
from sqlalchemy.orm import Session
from moorfog.platform.db.base import make_engine
from moorfog.platform.db.clock import DatabaseClock
with Session(make_engine(sys.argv[1])) as db:
    print(DatabaseClock().now(db).isoformat())
"""


@pytest.fixture(scope="module")
def home() -> Iterator[Path]:
    """A folder of this file's own."""
    one = Path(tempfile.mkdtemp(prefix="mf"))
    one.chmod(0o755)
    yield one
    shutil.rmtree(one, ignore_errors=True)


@pytest.fixture(scope="module")
def set_clock(home: Path) -> SetClock:
    """The database's clock."""
    return SetClock(home / "off")


@pytest.fixture(scope="module")
def kept(home: Path, set_clock: SetClock) -> Iterator[Engine]:
    """A database whose clock can be set."""
    server = running_server(home / "db", FAST_FLAGS, **set_clock.env)
    engine = make_engine(server.url)
    yield engine
    engine.dispose()
    server.stop()


@pytest.fixture(autouse=True)
def set_right(kept: Engine, set_clock: SetClock) -> None:
    """Every test begins with a clock that is right, and with no jumps."""
    set_clock.put(0)
    clocks._last.clear()
    with Session(kept) as db, db.begin():
        db.execute(delete(ClockJump))
        db.execute(delete(VisitScreen))
        db.get_one(ClockRow, 1).behind_ms = 0


def now_in(engine: Engine) -> datetime:
    """What the clock of this process says."""
    with Session(engine) as db:
        return CLOCK.now(db)


def is_about(moment: datetime, off: timedelta = timedelta(0)) -> bool:
    """Tell whether a moment is the machine's, so far off."""
    return abs(moment - off - datetime.now(UTC)) < timedelta(seconds=5)


@pytest.mark.parametrize("jump", [3600, -3600, 40])
def test_times_go_on_when_the_clock_is_set(kept: Engine, set_clock: SetClock, jump: int) -> None:
    before = now_in(kept)
    set_clock.put(jump)
    after = now_in(kept)
    assert is_about(before) and is_about(after) and after >= before
    with Session(kept) as db:
        (row,) = db.scalars(select(ClockJump)).all()
        assert abs(row.by_ms / 1000 - jump) < 2 and row.taken_at is None and is_about(row.at)
    began = datetime.now(UTC)
    other = subprocess.run(
        [sys.executable, "-c", OTHER_PROCESS, kept.url.render_as_string(hide_password=False)],
        capture_output=True,
        text=True,
        check=True,
    )
    said, slack = datetime.fromisoformat(other.stdout.strip()), timedelta(seconds=3)
    assert began - slack <= said <= datetime.now(UTC) + slack, (
        f"a process that starts now says the same: {began}, {said}"
    )
    set_clock.put(0)
    assert is_about(now_in(kept)), "and back"
    with Session(kept) as db:
        assert len(db.scalars(select(ClockJump)).all()) == 2
        assert abs(db.get_one(ClockRow, 1).behind_ms) < 2000


def test_several_that_see_one_jump_take_it_off_once(kept: Engine, set_clock: SetClock) -> None:
    now_in(kept)
    known = dict(clocks._last)
    set_clock.put(3600)
    now_in(kept)
    clocks._last.update(known)  # another process, which saw the clock before it jumped
    assert is_about(now_in(kept))
    with Session(kept) as db:
        assert len(db.scalars(select(ClockJump)).all()) == 1


def test_the_new_time_is_taken_once_nobody_is_being_tested(kept: Engine, set_clock: SetClock) -> None:
    now = now_in(kept)
    run_in_transaction(kept, lambda db: take_new_time(db, CLOCK))
    set_clock.put(3600)
    assert is_about(now_in(kept))
    with Session(kept) as db, db.begin():
        db.execute(clocks.text("SET foreign_key_checks = 0"))
        db.add(VisitScreen(visit_id=new_id(), screen=new_id(), role="bench", seen_at=now - timedelta(minutes=1)))
    assert not run_in_transaction(kept, lambda db: take_new_time(db, CLOCK)), "a bench is there"
    with Session(kept) as db, db.begin():
        db.execute(delete(VisitScreen))
    assert run_in_transaction(kept, lambda db: take_new_time(db, CLOCK))
    assert is_about(now_in(kept), timedelta(hours=1))
    with Session(kept) as db:
        assert db.scalars(select(ClockJump)).one().taken_at is not None
    assert not run_in_transaction(kept, lambda db: take_new_time(db, CLOCK)), "once"
