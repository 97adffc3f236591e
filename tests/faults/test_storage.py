"""The database is full, only reads, or does not answer: said in words, nothing lost or doubled, and all goes on."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from moorfog.core.rules.book import Rules
from moorfog.demo.seed import enter_facepieces
from moorfog.platform.db.base import make_engine, run_in_transaction
from moorfog.platform.log.tables import EventRow
from moorfog.serving.database import FAST_FLAGS, PrivateServer
from tests.rooms.house import Client, House, Refused
from tests.template import own_server, running_server

PATIENCE_S = 1.0


@pytest.fixture(scope="module")
def own() -> Iterator[PrivateServer]:
    """A database server of this file's own."""
    with own_server() as one:
        yield one


@pytest.fixture
def tester(own: PrivateServer, rules: Rules) -> Iterator[Client]:
    """A tester of a house on that server."""
    engine = make_engine(own.url, PATIENCE_S)
    run_in_transaction(engine, enter_facepieces)
    yield House(engine, rules).client()
    engine.dispose()


def entries(tester: Client, visit: str) -> int:
    """How many entries a visit's log has."""
    with Session(tester.house.engine) as db:
        return db.scalar(select(func.count()).select_from(EventRow).where(EventRow.visit_id == visit)) or 0


def press(tester: Client, visit: str) -> dict[str, object]:
    """An answer to the first card, to be sent as often as it takes."""
    card = tester.get(f"/api/visits/{visit}")["visit"]["queue"][0]
    body = {"kind": "answered", "question": card["id"], "answer": "fine", "facts": card["facts"]}
    return tester.proposal(visit, body)


def refused(tester: Client, visit: str, body: dict[str, object]) -> Refused:
    """What a press is answered with."""
    with pytest.raises(Refused) as error:
        tester.post(f"/api/visits/{visit}/events", body)
    return error.value


def goes_on(tester: Client, visit: str, body: dict[str, object]) -> None:
    """The same press is stored once, however often it is sent again."""
    before = entries(tester, visit)
    for _ in range(2):
        tester.post(f"/api/visits/{visit}/events", body)
    assert entries(tester, visit) == before + 1


def test_a_database_that_only_reads_is_said_and_the_press_kept(tester: Client, own: PrivateServer) -> None:
    visit = tester.open()
    body = press(tester, visit)
    own._tell("SET GLOBAL read_only = 1")
    try:
        said = refused(tester, visit, body)
        assert (said.status, said.code) == (503, "database_full") and "only reads" in said.body["message"]
        assert tester.get(f"/api/visits/{visit}")["visit"]["queue"][0]["id"] == "identity", "it is shown all the same"
    finally:
        own._tell("SET GLOBAL read_only = 0")
    goes_on(tester, visit, body)


@contextmanager
def disk_of(size: str) -> Iterator[Path]:
    """A disk of its own, mounted for as long as the block goes on."""
    disk = Path(tempfile.mkdtemp(prefix="mf"))
    subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={size},mode=755", "none", str(disk)], check=True)
    try:
        yield disk
    finally:
        subprocess.run(["umount", "--lazy", str(disk)], check=True)
        disk.rmdir()


@pytest.fixture
def read_only() -> Iterator[Path]:
    """A home on a disk that was mounted so that nobody writes to it."""
    with disk_of("1m") as disk:
        (disk / "home").mkdir()
        subprocess.run(["mount", "-o", "remount,ro", str(disk)], check=True)
        yield disk / "home"


@pytest.mark.skipif(os.geteuid() != 0, reason="only root may mount a disk of its own")
@pytest.mark.parametrize("command", ["run", "demo", "recovery-key"])
def test_a_home_that_cannot_be_written_to_is_said_with_what_to_do(read_only: Path, command: str) -> None:
    env = {name: value for name, value in os.environ.items() if name != "MOORFOG_KEYS"}
    line = [sys.executable, "-m", "moorfog.cli", command]
    done = subprocess.run(line, env={**env, "MOORFOG_HOME": str(read_only)}, capture_output=True, text=True, timeout=60)
    assert done.returncode == 1 and "Traceback" not in done.stderr, done.stderr
    assert str(read_only) in done.stderr and "cannot be used: read-only file system" in done.stderr
    assert "./moorfog doctor" in done.stderr


@pytest.fixture
def small() -> Iterator[Path]:
    """A disk that is soon full."""
    with disk_of("400m") as disk:
        yield disk


@pytest.mark.skipif(os.geteuid() != 0, reason="only root may mount a disk of its own to fill")
def test_a_full_disk_is_said_and_nothing_is_half_stored(small: Path, rules: Rules) -> None:
    server, engine = None, None
    try:
        server = running_server(small / "db", FAST_FLAGS)
        engine = make_engine(server.url, PATIENCE_S)
        run_in_transaction(engine, enter_facepieces)
        tester = House(engine, rules).client()
        visit = tester.open()
        body = press(tester, visit)
        filler = small / "filler"
        with filler.open("wb", buffering=0) as file, suppress(OSError):  # nothing is left to be written when it closes
            while True:
                file.write(b"\0" * 65536)
        said = None
        for number in range(3000):
            try:
                tester.post("/api/lots", lot(tester, number))
            except Refused as error:
                said = error
                break
        assert said is not None and (said.status, said.code) == (503, "database_full"), said
        assert "no room" in said.body["message"]
        filler.unlink()
        goes_on(tester, visit, body)
    finally:
        if engine is not None:
            engine.dispose()
        if server is not None:
            server.stop()


def lot(tester: Client, number: int) -> dict[str, object]:
    """A lot to enter."""
    day = tester.house.clock.at.date().isoformat()
    return {
        "employer_id": tester.house.ours.employer,
        "agent": "sweet",
        "role": "fit",
        "number": f"{number}" + "x" * 50,
        "made_on": day,
        "use_by": day,
        "made_by": "y" * 180,
    }


def test_a_database_that_does_not_answer_is_given_up_and_goes_on(tester: Client, own: PrivateServer) -> None:
    visit = tester.open()
    body = press(tester, visit)
    server = int((own.home / "m.pid").read_text())
    os.kill(server, signal.SIGSTOP)
    try:
        began = time.monotonic()
        said = refused(tester, visit, body)
        waited = time.monotonic() - began
        assert (said.status, said.code) == (503, "database_away")
        assert waited < 20 * PATIENCE_S, "a bound against waiting for ever, and no measurement"
    finally:
        os.kill(server, signal.SIGCONT)
    goes_on(tester, visit, body)
