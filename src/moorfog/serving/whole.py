"""The whole program under one home: database, web server, door, worker, and whatever else its owner wants beside."""

from __future__ import annotations

import os
import secrets
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from moorfog.bootstrap import StepFailed, ensure_packages, ensure_proxy, say
from moorfog.serving.database import PrivateServer
from moorfog.serving.parts import DATABASE, Parts
from moorfog.serving.ports import answers, free_port, is_free, listening
from moorfog.serving.proxy import nginx_command, nginx_config
from moorfog.serving.running import Running, run_until_stopped
from moorfog.serving.state import PLACE
from moorfog.serving.web import WEB_ENV, gunicorn_command

LOOPBACK = ("127.0.0.1", "localhost", "::1")
USUAL_PORT = 8400
DOOR_S = 10.0
WEBS = ("web", "web-2")
"""Two of them, so that somebody answers while one of them is started again."""
KIND = "kind"
"""The file that says what a home is for: nobody's demo is ever laid over somebody's data."""


@dataclass(frozen=True)
class Where:
    """Where the program is reached: host, port (0: the usual one, or a free one), a certificate with its key for TLS,
    and the names it is asked for by besides its host."""

    host: str = "127.0.0.1"
    port: int = 0
    certificate: Path | None = None
    key: Path | None = None
    names: tuple[str, ...] = ()
    always_door: bool = False

    @property
    def needs_door(self) -> bool:
        """Whether the proxy stands before it: always where other machines reach it."""
        return self.always_door or self.host not in LOOPBACK or self.certificate is not None

    def chosen_port(self) -> int:
        """Return the port to listen on. Raises :class:`StepFailed` where the one that was asked for is taken."""
        if not self.port:
            return USUAL_PORT if is_free(USUAL_PORT) else free_port()
        if not is_free(self.port):
            raise StepFailed(f"port {self.port} is taken; choose another with --port, or leave --port away")
        return self.port

    def address(self, port: int) -> str:
        """Return the address to type into a browser."""
        host = self.names[0] if self.names else self.host
        return f"{'https' if self.certificate else 'http'}://{host}:{port}"

    def hosts(self) -> str:
        """Return the names under which it may be asked for, as MOORFOG_HOSTS has them."""
        own = [] if self.host in ("0.0.0.0", "::") else [self.host]
        given = os.environ.get("MOORFOG_HOSTS", "").split()
        return " ".join(dict.fromkeys(["127.0.0.1", "localhost", "[::1]", *own, *self.names, *given]))


def claim_home(home: Path, kind: str) -> None:
    """Say what a home is for. Raises :class:`StepFailed` where it is for something else."""
    file, other = home / KIND, {"demo": "own", "own": "demo"}[kind]
    found = file.read_text().strip() if file.exists() else ""
    if found == other or (not found and kind == "own" and (home / "prepared").exists()):
        words = {"demo": "the demo's invented data", "own": "somebody's own data"}[other]
        raise StepFailed(f"{home} holds {words}; set MOORFOG_HOME to another folder")
    if not found:
        file.write_text(kind + "\n")


class Whole:
    """The parts of a program under one home; ``flags`` are the database server's besides its usual ones."""

    def __init__(self, home: Path, where: Where, flags: tuple[str, ...] = ()) -> None:
        self.home, self.where = home.resolve(), where
        self.port = where.port
        self.server = PrivateServer(self.home / "db", flags=flags)
        self.parts = Parts(self.home / "log", say)

    def start_database(self, prepare: Callable[[], None]) -> None:
        """Start the database and have it prepared before anything else needs it.

        Raises :class:`StepFailed`; where the port is taken, before anything is made.
        """
        self.port = self.where.chosen_port()
        ensure_packages()
        if self.server.install():
            say("database: data directory made")
        self.server.start()
        self.parts.adopt(DATABASE, self.server.spawn, self.server.spawned, self.server.log)
        self.server.ensure_accounts()
        say(f"database: running on loopback, port {self.server.port}")
        prepare()

    @property
    def rules(self) -> dict[str, str]:
        """What every part that works with the data is told."""
        return {"MOORFOG_DATABASE_URL": self.server.url, "MOORFOG_HOME": str(self.home), PLACE: str(self.parts.logs)}

    def start_web(
        self, web: str, command: Callable[[int], list[str]] | None = None, *, behind: bool = False
    ) -> tuple[str, str]:
        """Start the web server, with the door before it where others reach it.

        ``command`` makes another command of a port; ``behind``: something of our own stands before it. Returns the
        address for this machine's own links, and the one for browsers.
        """
        inner = free_port() if self.where.needs_door or behind else self.port
        env = {**self.rules, "MOORFOG_WEB": web}
        own = start_web(self.parts, self.home, self.where, self.port, inner, env, command)
        return own, self.where.address(self.port)

    def start_worker(self) -> None:
        """Start the worker."""
        self.parts.start("worker", [sys.executable, "-m", "moorfog.cli", "worker"], self.rules)

    def stop(self) -> None:
        """Stop everything we started, last first."""
        self.parts.stop()
        self.server.stop()  # where it had not become a part yet


def start_web(
    parts: Parts,
    home: Path,
    where: Where,
    port: int,
    inner: int,
    env: dict[str, str],
    command: Callable[[int], list[str]] | None = None,
    workers: int = 2,
) -> str:
    """Start a web server at port ``inner`` of this machine, and the door at ``port`` where others reach it.

    Returns the web server's own address. Raises :class:`StepFailed` where one does not come up.
    """
    door = secrets.token_urlsafe(24)
    behind = {**env, **WEB_ENV, PLACE: str(parts.logs)}
    if where.needs_door:
        ensure_proxy()
        behind |= {"MOORFOG_DOOR": door, "MOORFOG_HOSTS": where.hosts()}
    if where.certificate is not None:
        behind["MOORFOG_BEHIND_TLS"] = "1"
    address = f"http://127.0.0.1:{inner}"
    if command is not None:
        parts.start(WEBS[0], command(inner), behind)
        parts.wait_for(WEBS[0], f"{address}/api/health", seconds=90)
    else:
        _start_webs(parts, inner, workers, behind)
    if where.needs_door:
        start_door(parts, home / "door", where, port, inner, door)
    return address


def _start_webs(parts: Parts, port: int, workers: int, env: dict[str, str]) -> None:
    """Start two web servers on one socket, one after the other: where one ends, the other answers until it is back.
    Where one process was asked for there is no second."""
    opened, names = listening(port), WEBS[: min(workers, len(WEBS))]
    for name in names:
        command = gunicorn_command(f"fd://{opened.fileno()}", -(-workers // len(names)))
        parts.start(name, command, env, listening=opened)
        parts.wait_for(name, f"http://127.0.0.1:{port}/api/health", seconds=90)  # the first answers for the second too


def start_door(parts: Parts, folder: Path, where: Where, port: int, inner: int, word: str) -> None:
    """Start the proxy before a web server at port ``inner``; ``word``: by which that one knows it."""
    folder.mkdir(parents=True, exist_ok=True)
    config = folder / "nginx.conf"
    config.touch(mode=0o600)
    config.write_text(nginx_config(folder.resolve(), where.host, port, inner, word, where.certificate, where.key))
    child = parts.start("door", nginx_command(config.resolve()), {}, end="TERM")
    asked = {"0.0.0.0": "127.0.0.1", "::": "::1"}.get(where.host, where.host)
    until = time.monotonic() + DOOR_S
    while not answers(asked, port):
        if child.poll() is not None or time.monotonic() > until:
            raise StepFailed(f"nginx did not come up at {where.host}:{port}; see {folder / 'nginx.log'}")
        time.sleep(0.05)


class Door:
    """Web server and proxy for a database of one's own, under one watch. ``env`` is the web server's."""

    def __init__(self, home: Path, where: Where, workers: int, env: dict[str, str]) -> None:
        self.home, self.where, self.workers, self.env = home, where, workers, env
        self.parts = Parts(home / "log", say)
        self.port = where.port

    def start(self) -> str:
        """Start both; return the address for browsers. Raises :class:`StepFailed` where one does not come up."""
        start_web(self.parts, self.home, self.where, self.where.port, free_port(), self.env, workers=self.workers)
        return self.where.address(self.where.port)


def serve(home: Path, where: Where, workers: int, env: dict[str, str]) -> int:
    """Serve a database of one's own to other machines until Ctrl-C or SIGTERM. Returns the exit code."""
    door = Door(home, where, workers, env)
    return run_until_stopped(
        Running(
            command="serve",
            hold=home / "serve",
            parts=door.parts,
            begin=door.start,
            greet=lambda address: f"· Moorfog is at {address}; Ctrl-C stops it\n",
            end=door.parts.stop,
        )
    )
