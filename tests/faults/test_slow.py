"""Hundreds of clients that send slowly or ask for streams keep nobody else waiting: they wait at the door."""

from __future__ import annotations

import json
import shutil
import socket
import tempfile
import urllib.request
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest
from werkzeug.test import EnvironBuilder

from moorfog.bootstrap import ensure_web
from moorfog.core.rules.book import Rules
from moorfog.demo.seed import enter_facepieces
from moorfog.platform.db.base import make_engine, run_in_transaction
from moorfog.rooms.bench import live
from moorfog.serving.database import FAST_FLAGS
from moorfog.serving.ports import free_port
from moorfog.serving.whole import Door, Where
from moorfog.wsgi import ThroughDoor
from tests.faults.slow import Crowd, health_times
from tests.faults.test_parts import within
from tests.rooms.house import PASSWORD, House
from tests.template import running_server


@pytest.fixture(scope="module")
def door(rules: Rules) -> Iterator[tuple[Door, House]]:
    """The web server behind its door, on a database of its own."""
    home = Path(tempfile.mkdtemp(prefix="mf"))
    home.chmod(0o755)
    server = running_server(home / "db", FAST_FLAGS)
    engine = make_engine(server.url)
    run_in_transaction(engine, enter_facepieces)
    env = {"MOORFOG_DATABASE_URL": server.url, "MOORFOG_WEB": str(ensure_web())}
    one = Door(home, Where(port=free_port(), always_door=True), 1, env)
    try:
        one.start()
        one.parts.wait_for("door", f"http://127.0.0.1:{one.port}/api/health")
        yield one, House(engine, rules)
    finally:
        one.parts.stop()
        engine.dispose()
        server.stop()
        shutil.rmtree(home, ignore_errors=True)


def signed_in(door: Door, house: House) -> tuple[str, str]:
    """The cookie of a tester who signed in through the door, and a visit to follow."""
    return cookie_of(door, house), house.client().open()


def cookie_of(door: Door, house: House) -> str:
    """The cookie of another sign-in of the tester, through the door."""
    body = json.dumps({"login": house.ours.logins["tester"], "password": PASSWORD}).encode()
    address = f"http://127.0.0.1:{door.port}/api/session"
    request = urllib.request.Request(address, body, {"Content-Type": "application/json"})
    with urllib.request.urlopen(request, timeout=10) as answer:
        return str(answer.headers["Set-Cookie"]).split(";")[0]


def test_slow_clients_and_streams_keep_nobody_waiting(door: tuple[Door, House]) -> None:
    cookie, visit = signed_in(*door)
    crowd = Crowd(door[0].port)
    try:
        crowd.gather(slow=300, streams=100, cookies=[cookie], visit=visit)
        times = health_times(f"http://127.0.0.1:{door[0].port}", times=20, every_s=0.1, timeout_s=10)
        assert len(times) == 20, "every one was answered"
        assert within(10, lambda: crowd.served() == live.OF_ONE), "of one sign-in so many streams, and no more"
    finally:
        crowd.leave()


def test_a_client_that_stops_in_the_middle_is_sent_away(door: tuple[Door, House]) -> None:
    with socket.create_connection(("127.0.0.1", door[0].port), timeout=30) as one:
        one.sendall(b"POST /api/session HTTP/1.1\r\nHost: 127.0.0.1\r\nX-Slow: ")
        with suppress(ConnectionResetError):
            assert one.recv(100) == b"", "after its patience the door hangs up"


@pytest.mark.parametrize(
    ("word", "said", "seen"),
    [("w", "w", "10.9.8.7"), ("w", "x", "1.2.3.4"), ("w", "é", "1.2.3.4"), ("w", "", "1.2.3.4")],
)
def test_where_a_request_came_from_is_believed_from_the_door_only(word: str, said: str, seen: str) -> None:
    """Whoever reaches the web server beside the door cannot say that they come from somewhere else."""
    found: list[object] = []

    def app(environ: dict[str, object], start_response: object) -> list[bytes]:
        found.append(environ["REMOTE_ADDR"])
        assert "HTTP_X_MOORFOG_DOOR" not in environ
        return []

    asked = EnvironBuilder(environ_base={"REMOTE_ADDR": "1.2.3.4"}, headers={"X-Forwarded-For": "10.9.8.7"})
    ThroughDoor(app, word)(asked.get_environ() | ({"HTTP_X_MOORFOG_DOOR": said} if said else {}), lambda *_: None)
    assert found == [seen]


def test_the_word_of_the_door_is_nobody_elses_to_read(door: tuple[Door, House]) -> None:
    assert (door[0].home / "door" / "nginx.conf").stat().st_mode & 0o077 == 0


def test_when_the_door_falls_it_is_hung_again(door: tuple[Door, House]) -> None:
    parts = door[0].parts
    parts.kill("door")

    def is_back() -> bool:
        parts.look()
        try:
            return health_times(f"http://127.0.0.1:{door[0].port}", 1, 0, 1) != []
        except OSError:
            return False

    assert within(5, is_back) and parts.parts["door"].restarts == 1
