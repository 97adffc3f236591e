"""What an operator does while people are being entered and tested: a backup, checks, a rebuild, a new schema."""

from __future__ import annotations

import base64
import resource
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from alembic import command
from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.rules.book import Rules
from moorfog.platform.db.base import make_engine
from moorfog.platform.db.migrate import config_for, migrate
from moorfog.platform.log.readmodels import rebuild
from moorfog.platform.log.tables import EventRow
from moorfog.rooms.people.tables import Person
from moorfog.rooms.proof.verify import Extent, verify
from moorfog.secret_files import key_folder
from moorfog.serving.backup import back_up, restore
from tests.browser.stack import Stack
from tests.faults.at_work import AtWork
from tests.template import empty_server

BENCHES, ROOM_MIB = 4, 24
"""Visits that go on; and so much more memory a process may take, which is less than it needs for what it is sent."""


@pytest.fixture(scope="module")
def stack(rules: Rules) -> Iterator[Stack]:
    made = Stack(rules)
    yield made
    made.stop()


def goes_on(at_work: AtWork) -> None:
    """Wait until everybody has had something acknowledged from here on."""
    before = {one: len(one.acknowledged) for one in (at_work.poster, *at_work.visits)}
    deadline = time.monotonic() + 30
    while any(len(one.acknowledged) < count + 2 for one, count in before.items()):
        assert time.monotonic() < deadline, "somebody gets no further"
        time.sleep(0.1)


def test_checks_and_rebuilds_find_nothing_wrong_while_people_work(stack: Stack) -> None:
    """A check sees each visit as at one moment, however it goes on; a rebuild loses nothing that comes meanwhile."""
    schema = make_engine(stack.server.schema_url)
    with AtWork(stack, BENCHES) as at_work:
        for _ in range(3):
            goes_on(at_work)
            assert verify(stack.engine, keys=key_folder(), extent=Extent(processes=2)) == []
            rebuild(schema)
            assert verify(stack.engine, keys=key_folder(), extent=Extent(anew=True)) == []
        goes_on(at_work)
    schema.dispose()
    assert at_work.lost() == [] and verify(stack.engine, keys=key_folder()) == []


def test_a_backup_made_while_people_work_is_of_one_moment(stack: Stack, place: Path) -> None:
    """Laid back, it holds, and what was acknowledged before it began is in it."""
    with AtWork(stack, BENCHES) as at_work:
        goes_on(at_work)
        entered = list(at_work.poster.acknowledged)
        pressed = [press for one in at_work.visits for press in list(one.acknowledged)]
        file = place / "one.moorfog"
        back_up(stack.server, stack.home, file)
        goes_on(at_work)
    assert at_work.lost() == []
    with empty_server(place) as server:
        restore(file, place, server, "")
        engine = make_engine(server.url)
        assert verify(engine) == []
        with Session(engine) as db:
            assert set(entered) <= set(db.scalars(select(Person.number)))
            assert set(pressed) <= set(db.scalars(select(EventRow.id)))
        engine.dispose()


def test_a_schema_that_changes_under_people_at_work_loses_nothing_of_theirs(stack: Stack) -> None:
    """The newest step of the schema is taken back and made again, over and over."""
    with AtWork(stack, BENCHES) as at_work:
        for _ in range(3):
            goes_on(at_work)
            command.downgrade(config_for(stack.server.schema_url), "-1")
            migrate(stack.server.schema_url)
            stack.server.let_work()
        goes_on(at_work)
    assert at_work.lost() == [] and verify(stack.engine, keys=key_folder()) == []


def members(pid: int) -> list[int]:
    """A process and all that came of it."""
    there = Path(f"/proc/{pid}/task/{pid}/children").read_text().split()
    return [pid, *(one for child in there for one in members(int(child)))]


def given_room(pid: int, mib: int) -> None:
    """Let a process and those it has take so much more memory than they have, and no more."""
    for one in members(pid):
        pages = int(Path(f"/proc/{one}/statm").read_text().split()[0])
        most = pages * resource.getpagesize() + mib * 1024 * 1024
        resource.prlimit(one, resource.RLIMIT_AS, (most, most))


def test_a_web_process_that_gets_no_more_memory_says_so_and_the_others_go_on(stack: Stack) -> None:
    """The largest file that is taken, sent again and again."""
    lines = "\n".join(f"W{number},{'Ada Wren' * 25}" for number in range(45_000))
    content = base64.b64encode(f"number,name\n{lines}".encode()).decode()
    with AtWork(stack, BENCHES) as at_work:
        goes_on(at_work)
        file = {"site_id": at_work.poster.site, "file_name": "all.csv", "content": content, "columns": {}}
        given_room(stack.parts.children["web0"].pid, ROOM_MIB)
        said = [at_work.poster.answer("/api/imports/preview", file) for _ in range(6)]
        told = [refusal["message"] for status, refusal in said if status == 503]
        assert told and all("not enough memory" in words for words in told), said
        assert {status for status, _ in said} <= {503, 0}, "a process that ends in the middle is started again"
        goes_on(at_work)
    assert at_work.lost() == [] and verify(stack.engine, keys=key_folder()) == []
