"""Two web servers on one socket: while one is started again the other answers, and the port is nobody else's."""

from __future__ import annotations

import os
import signal
import time
import urllib.request
from functools import partial
from pathlib import Path

import pytest

from moorfog.bootstrap import ensure_web
from moorfog.core.rules.book import Rules
from moorfog.demo.seed import enter_facepieces
from moorfog.platform.db.base import make_engine, run_in_transaction
from moorfog.serving.database import FAST_FLAGS
from moorfog.serving.parts import Parts
from moorfog.serving.ports import free_port, is_free, listening
from moorfog.serving.whole import WEBS, Where, start_web
from tests.faults.test_parts import group_of, within
from tests.rooms.house import House
from tests.template import running_server

AT_ONCE = 40


def asked(address: str) -> bool:
    """Ask once more where a connection broke: whoever held it has just ended."""
    for _ in range(2):
        try:
            with urllib.request.urlopen(f"{address}/api/time", timeout=90) as answer:
                assert "Server" not in answer.headers or answer.headers["Server"] == "moorfog"
                return bool(answer.status == 200)
        except OSError:
            continue
    return False


def has_workers(parts: Parts, name: str) -> bool:
    """Tell whether a web server runs and has begun to serve."""
    return parts.parts[name].again_at is None and len(group_of(parts.children[name].pid)) > 1


def is_back(parts: Parts, name: str) -> bool:
    """Look after the parts once, and tell whether this one serves."""
    parts.look()
    return has_workers(parts, name)


def test_while_one_web_server_is_started_again_the_other_answers(place: Path, rules: Rules) -> None:
    server = running_server(place / "db", FAST_FLAGS)
    engine = make_engine(server.url)
    run_in_transaction(engine, enter_facepieces)
    House(engine, rules)
    parts, port = Parts(place / "log"), free_port()
    env = {"MOORFOG_DATABASE_URL": server.url, "MOORFOG_WEB": str(ensure_web())}
    try:
        address = start_web(parts, place, Where(port=port), port, port, env)
        assert not is_free(port)
        with pytest.raises(OSError, match="in use"):
            listening(port)
        assert within(180, lambda: all(has_workers(parts, name) for name in WEBS))
        for name in WEBS:
            os.kill(parts.children[name].pid, signal.SIGKILL)
            for _ in range(AT_ONCE):
                parts.look()
                assert asked(address), f"nobody answers after the end of {name}"
                time.sleep(0.02)
            assert within(180, partial(is_back, parts, name))
        assert [parts.parts[name].restarts for name in WEBS] == [1, 1]
        for name in WEBS:
            parts.kill(name)
        for name in WEBS:
            parts.parts[name].again_at = 0.0  # both at once: whoever connects waits at the socket, and is answered
        parts.look()
        assert asked(address)
    finally:
        parts.stop()
        engine.dispose()
        server.stop()
    assert is_free(port)
