"""The demo command itself: starts everything, stops everything, keeps its data; two of them side by side."""

from __future__ import annotations

import json
import os
import re
import shutil
import signal
import subprocess
import tempfile
import urllib.request
from collections.abc import Iterator
from pathlib import Path

import pytest

from moorfog.demo.run import PASSWORD, SIGN_INS
from moorfog.serving.ports import free_port

ROOT = Path(__file__).parents[2]


def as_account(name: str, *command: object) -> list[str]:
    """The command as another account of this machine runs it."""
    return ["setpriv", f"--reuid={name}", f"--regid={name}", "--init-groups", "--", *map(str, command)]


class Demo:
    """A running ``./moorfog demo`` and what it has said."""

    def __init__(self, home: Path, *more: str, command: str = "demo", account: str = "", venv: str = "") -> None:
        line = [ROOT / "moorfog", command, *more]
        self.process = subprocess.Popen(
            as_account(account, *line) if account else line,
            env={**os.environ, "MOORFOG_HOME": str(home), **({"MOORFOG_VENV": venv} if venv else {})},
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            start_new_session=True,
        )
        self.said = ""
        assert self.process.stdout is not None
        for line in self.process.stdout:
            self.said += line
            if "Ctrl-C" in line:
                break
        found = re.search(r"Moorfog is at (http://127\.0\.0\.1:\d+)", self.said)
        assert found, self.said
        self.address = found[1]

    def health(self) -> bool:
        try:
            with urllib.request.urlopen(f"{self.address}/api/health", timeout=3) as answer:
                return bool(json.load(answer)["ok"])
        except OSError:
            return False

    def people(self, login: str) -> int:
        """Sign in and return how many people this account sees."""
        opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor())
        body = json.dumps({"login": login, "password": PASSWORD}).encode()
        opener.open(
            urllib.request.Request(f"{self.address}/api/session", body, {"Content-Type": "application/json"}), timeout=5
        )
        with opener.open(f"{self.address}/api/people", timeout=5) as answer:
            return int(json.load(answer)["total"])

    def stop(self, how: signal.Signals = signal.SIGTERM) -> int:
        self.process.send_signal(how)
        return self.process.wait(40)


@pytest.fixture
def homes() -> Iterator[list[Path]]:
    made = [Path(tempfile.mkdtemp(prefix="mfd")) for _ in range(2)]
    for one in made:
        one.chmod(0o755)
    yield made
    for one in made:
        shutil.rmtree(one, ignore_errors=True)


def processes_naming(text: str) -> list[str]:
    found = subprocess.run(["pgrep", "-af", text], capture_output=True, text=True, check=False).stdout
    return [line for line in found.splitlines() if "pgrep" not in line]


def test_the_demo_starts_stops_and_keeps_its_data_beside_another(homes: list[Path]) -> None:
    port = free_port()
    first = Demo(homes[0], "--port", str(port))
    second: Demo | None = None
    try:
        assert first.address.endswith(f":{port}") and "30 of 30 past visits" in first.said
        for login, role, _ in SIGN_INS:
            assert login in first.said and role in first.said and first.people(login) == (30 if login == "ines" else 60)
        assert first.stop(signal.SIGINT) == 0
        assert not first.health() and processes_naming(str(homes[0])) == []
        shutil.copytree(homes[0], homes[1], dirs_exist_ok=True)
        for owned in (homes[1] / "db").rglob("*"):
            origin = homes[0] / owned.relative_to(homes[1])
            os.chown(owned, origin.stat().st_uid, origin.stat().st_gid)
        os.chown(homes[1] / "db", (homes[0] / "db").stat().st_uid, (homes[0] / "db").stat().st_gid)
        first, second = Demo(homes[0], "--port", str(port)), Demo(homes[1], "--port", str(free_port()))
        assert "past visits" not in first.said, "the data survived, nothing is seeded again"
        assert first.health() and second.health() and first.address != second.address
        assert second.stop() == 0 and first.health() and first.stop() == 0
        first = Demo(homes[0], "--port", str(port), command="dev")
        with urllib.request.urlopen(f"{first.address}/src/main.tsx", timeout=20) as answer:
            assert b"/src/app/routes.tsx" in answer.read(), "the page comes from its sources"
        assert first.health() and first.people("maren") == 60 and first.stop() == 0, "the rest from the server"
        assert not first.health() and processes_naming(str(homes[0])) == processes_naming(f"vite --port {port}") == []
    finally:
        for one in (first, second):
            if one is not None and one.process.poll() is None:
                one.stop()


def test_a_taken_port_is_said_and_nothing_is_left(homes: list[Path]) -> None:
    import socket

    with socket.create_server(("127.0.0.1", 0)) as taken:
        port = taken.getsockname()[1]
        done = subprocess.run(
            [ROOT / "moorfog", "demo", "--port", str(port)],
            env={**os.environ, "MOORFOG_HOME": str(homes[0])},
            capture_output=True,
            text=True,
            check=False,
            timeout=60,
        )
    assert done.returncode == 1 and f"port {port} is taken" in done.stderr and "--port" in done.stderr
    assert processes_naming(str(homes[0])) == [] and not (homes[0] / "db").exists(), "said before anything is made"


@pytest.mark.parametrize("command", ["serve", "worker", "migrate", "rebuild"])
def test_a_command_without_a_database_says_what_to_set(command: str) -> None:
    env = {key: value for key, value in os.environ.items() if key != "MOORFOG_DATABASE_URL"}
    done = subprocess.run([ROOT / "moorfog", command], env=env, capture_output=True, text=True, check=False, timeout=60)
    assert done.returncode != 0 and "MOORFOG_DATABASE_URL" in done.stderr
