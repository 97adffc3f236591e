"""The whole program on loopback for a test: database, web processes, worker, link and simulated counter."""

from __future__ import annotations

import shutil
import sys
import tempfile
from datetime import timedelta
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.bootstrap import ensure_web
from moorfog.core.rules.book import Rules
from moorfog.demo import seed
from moorfog.demo.run import PASSWORD
from moorfog.demo.scenario import SERIALS
from moorfog.instruments.line import SIMULATED_KEY
from moorfog.platform.db.base import make_engine, new_id, run_in_transaction
from moorfog.platform.db.clock import DatabaseClock
from moorfog.rooms.people.tables import ClearanceRow, Person, TrainingRow
from moorfog.secret_files import key_folder
from moorfog.serving.parts import Parts
from moorfog.serving.ports import free_port
from moorfog.serving.web import WEB_ENV, gunicorn_command
from tests.faults.clocks import SetClock
from tests.template import running_server

TOKEN = "the-token-of-the-tests-link"
__all__ = ["PASSWORD", "Stack"]


def put_everybody_on_file(db: Session) -> None:
    """Clear and train those of the demo who are not: these tests are about the bench, not about what is missing."""
    now = DatabaseClock().now(db)
    cleared, trained = (set(db.scalars(select(one.person_id))) for one in (ClearanceRow, TrainingRow))
    for person_id in db.scalars(select(Person.id)).all():
        common = {"id": new_id(), "person_id": person_id, "account_id": new_id(), "entered_at": now - timedelta(days=9)}
        if person_id not in cleared:
            start = (now - timedelta(days=400)).date()
            given = {"status": "cleared", "limits": [], "valid_from": start, "valid_until": None}
            db.add(ClearanceRow(**common, **given, by_whom="Harbour Row practice"))
        if person_id not in trained:
            day = (now - timedelta(days=90)).date()
            db.add(TrainingRow(**{**common, "id": new_id()}, trained_on=day, what="donning, seal check, care"))
    db.flush()


class Stack:
    """Everything a fit tester's browser talks to. Only what was started here is stopped."""

    def __init__(self, rules: Rules, webs: int = 1, flags: tuple[str, ...] = (), is_clock_set: bool = False) -> None:
        self.home = Path(tempfile.mkdtemp(prefix="mf"))
        self.home.chmod(0o755)
        self.parts = Parts(self.home)
        self.ports = [free_port() for _ in range(webs)]
        self.counter_port = free_port()
        try:
            self.clock = SetClock(self.home / "off") if is_clock_set else None
            self.server = running_server(self.home / "db", flags, **(self.clock.env if self.clock else {}))
            self.engine = make_engine(self.server.url)
            run_in_transaction(self.engine, lambda db: seed.seed_places(db, rules, PASSWORD, TOKEN))
            run_in_transaction(self.engine, put_everybody_on_file)
            for number in range(webs):
                self.start_web(number)
            self.start_counter()
            self.start_link()
            self.spawn("worker", [sys.executable, "-m", "moorfog.cli", "worker"])
        except BaseException:
            self.stop()
            raise

    @property
    def address(self) -> str:
        """The first web process's address."""
        return f"http://127.0.0.1:{self.ports[0]}"

    def spawn(self, name: str, command: list[str], **env: str) -> None:
        """Start a child with a log of its own."""
        given = {
            "MOORFOG_DATABASE_URL": self.server.url,
            "MOORFOG_WEB": str(ensure_web()),
            SIMULATED_KEY: "abc1",
            "MOORFOG_KEYS": str(key_folder()),  # one installation, one set of keys
            **env,
        }
        self.parts.start(name, command, given)

    def start_web(self, number: int) -> None:
        """Start one web process and wait for it."""
        self.spawn(f"web{number}", gunicorn_command(f"127.0.0.1:{self.ports[number]}", 1), **WEB_ENV)
        self.parts.wait_for(f"web{number}", f"http://127.0.0.1:{self.ports[number]}/api/health", seconds=90)

    def start_counter(self) -> None:
        """Start the simulated counter."""
        command = [sys.executable, "-m", "moorfog.instruments.simulated", "--port", str(self.counter_port)]
        self.spawn("counter", command)

    def start_link(self) -> None:
        """Start the counter's link."""
        command = [sys.executable, "-m", "moorfog.instruments.link", "--server", self.address]
        command += ["--counter", f"socket://127.0.0.1:{self.counter_port}", "--spool", str(self.home / "spool")]
        self.spawn("link", command, MOORFOG_LINK_TOKEN=TOKEN)

    def start_instrument(self, kind: str) -> None:
        """Start a simulated instrument of another kind, and its link, unless they run already."""
        if kind in self.parts.children:
            return
        port = free_port()
        command = [sys.executable, "-m", "moorfog.instruments.simulated", "--port", str(port), "--kind", kind]
        command += ["--serial", SERIALS[kind]]
        self.spawn(kind, command)
        command = [sys.executable, "-m", "moorfog.instruments.link", "--server", self.address]
        command += ["--counter", f"socket://127.0.0.1:{port}", "--spool", str(self.home / "spool" / kind)]
        self.spawn(f"link-{kind}", command, MOORFOG_LINK_TOKEN=f"{TOKEN}.{kind}")

    def kill(self, name: str) -> None:
        """End a child at once, as a power cut would."""
        self.parts.kill(name)

    def stop(self) -> None:
        """Stop all of it and throw it away."""
        self.parts.stop()
        if hasattr(self, "engine"):
            self.engine.dispose()
        if hasattr(self, "server"):
            self.server.stop()
        shutil.rmtree(self.home, ignore_errors=True)

    def logs(self) -> dict[str, Any]:
        """Return the tail of every child's log, for a failing test."""
        return {path.name: path.read_text()[-1500:] for path in self.home.glob("*.log")}
