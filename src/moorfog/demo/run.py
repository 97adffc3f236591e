"""Starts the whole demo on loopback and stops all of it again; data stays in MOORFOG_HOME."""

from __future__ import annotations

import os
import secrets
import shutil
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

from moorfog.bootstrap import StepFailed, ensure_packages, ensure_web, say
from moorfog.demo.database import PrivateServer, free_port

PASSWORD = "moor-and-fog"
SIGN_INS = (
    ("maren", "tester", "Maren Oake, both employers"),
    ("hollis", "administrator", "Hollis Grey, both employers"),
    ("ines", "supervisor", "Ines Carrow, Cold Haven Boatyard"),
)
USUAL_PORT = 8400


class Stopped(Exception):
    """A signal asked us to stop."""


def _stop(*_: object) -> None:
    raise Stopped


def is_free(port: int) -> bool:
    """Tell whether a port can be listened on."""
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
    return True


WEB_ENV = {"MALLOC_ARENA_MAX": "1"}
"""What a web process is started with besides: its many threads run one at a time, and memory of their own for each of
them would only double what it holds."""


def gunicorn_command(port: int, workers: int, host: str = "127.0.0.1") -> list[str]:
    """Return the command of the web server; each event stream holds a thread."""
    return [
        sys.executable,
        "-m",
        "gunicorn",
        "-w",
        str(workers),
        "-k",
        "gthread",
        "--threads",
        "100",
        "--worker-connections",
        "120",
        "--preload",
        "--no-control-socket",
        "--graceful-timeout",
        "3",
        "--bind",
        f"{host}:{port}",
        "moorfog.wsgi:application()",
    ]


class Demo:
    """The demo's processes under one home."""

    def __init__(self, home: Path, port: int | None) -> None:
        self.home, self.wanted_port = home.resolve(), port
        self.logs = self.home / "log"
        self.server = PrivateServer(self.home / "db")
        self.children: list[tuple[str, subprocess.Popen[bytes]]] = []

    def spawn(self, name: str, command: list[str], **env: str) -> subprocess.Popen[bytes]:
        """Start a child with its own log."""
        with (self.logs / f"{name}.log").open("ab") as log:
            child = subprocess.Popen(
                command,
                stdout=log,
                stderr=log,
                stdin=subprocess.DEVNULL,
                env={**os.environ, **env},
                start_new_session=True,
            )
        self.children.append((name, child))
        return child

    def start(self) -> str:
        """Bring everything up and return the address. Raises :class:`StepFailed`."""
        self.logs.mkdir(parents=True, exist_ok=True)
        port = self._port()
        ensure_packages()
        web = ensure_web()
        if self.server.install():
            say("database: data directory made")
        self.server.start()
        if not (self.server.home / "password").exists():
            self.server.create_account(secrets.token_urlsafe(18))
        say(f"database: running on loopback, port {self.server.port}")
        url = self.server.url
        token = self._token()
        self._prepare(url, token)
        rules = {"MOORFOG_DATABASE_URL": url, "MOORFOG_WEB": str(web)}
        self.spawn("web", gunicorn_command(port, 2), **rules, **WEB_ENV)
        address = f"http://127.0.0.1:{port}"
        self._wait(address)
        self.spawn("worker", [sys.executable, "-m", "moorfog.cli", "worker"], **rules)
        for kind in ("counter", "photometer", "pressure"):
            self._spawn_instrument(kind, address, token if kind == "counter" else f"{token}.{kind}")
        say("web server answers; worker, three simulated instruments and their links are starting")
        return address

    def _spawn_instrument(self, kind: str, address: str, token: str) -> None:
        """Start a simulated instrument on a free port, and its link."""
        port = str(free_port())
        simulated = [sys.executable, "-m", "moorfog.instruments.simulated", "--port", port, "--kind", kind]
        self.spawn(kind, simulated)
        link = [sys.executable, "-m", "moorfog.instruments.link", "--server", address]
        link += ["--counter", f"socket://127.0.0.1:{port}", "--spool", str(self.home / "spool" / kind)]
        self.spawn(f"link-{kind}", link, MOORFOG_LINK_TOKEN=token)

    def _port(self) -> int:
        if self.wanted_port is not None:
            if not is_free(self.wanted_port):
                raise StepFailed(f"port {self.wanted_port} is taken; choose another with --port, or leave --port away")
            return self.wanted_port
        return USUAL_PORT if is_free(USUAL_PORT) else free_port()

    def _token(self) -> str:
        path = self.home / "link-token"
        if not path.exists():
            path.touch(mode=0o600)
            path.write_text(secrets.token_urlsafe(24))
        return path.read_text().strip()

    def _prepare(self, url: str, token: str) -> None:
        """Migrate and seed, unless this very program has done so: then not even its modules are loaded here."""
        done = self.home / "prepared"
        if done.exists() and done.read_text() == self._schema():
            return
        from moorfog.data import shipped_rules
        from moorfog.demo import seed
        from moorfog.store.base import make_engine, run_in_transaction
        from moorfog.store.migrate import migrate
        from moorfog.store.readmodels import rebuild_foreign

        migrate(url)
        engine = make_engine(url)
        refilled = rebuild_foreign(engine)
        if refilled:
            say(f"read models refilled from {refilled} visits: an earlier program made them")
        rules = shipped_rules()
        if not seed.is_seeded(engine):
            run_in_transaction(engine, lambda db: seed.seed_places(db, rules, PASSWORD, token))

            def progress(done: int, total: int) -> None:
                sys.stdout.write(f"\r· demo data: {done} of {total} past visits ")
                sys.stdout.flush()

            seed.seed_history(engine, rules, progress)
            seed.seed_open_visits(engine, rules)
            sys.stdout.write("\n")
        engine.dispose()
        done.write_text(self._schema())

    def _schema(self) -> str:
        """Return what migrations and which fold this program has; others mean that there is something to do."""
        from moorfog.core.visit.state import FOLD_VERSION

        migrations = (Path(__file__).parents[1] / "store" / "migrations" / "versions").glob("*.py")
        return "\n".join([f"FOLD_VERSION = {FOLD_VERSION}", *sorted(one.name for one in migrations)])

    def _wait(self, address: str) -> None:
        deadline = time.monotonic() + 30
        while time.monotonic() < deadline:
            if self.children[0][1].poll() is not None:
                break
            try:
                with urllib.request.urlopen(f"{address}/api/health", timeout=1):
                    return
            except OSError:
                time.sleep(0.05)
        raise StepFailed(f"the web server did not answer; see {self.logs / 'web.log'}")

    def watch(self) -> None:
        """Wait until a signal comes or a child ends. Raises :class:`StepFailed` naming the child and its log."""
        while True:
            for name, child in self.children:
                if child.poll() is not None:
                    raise StepFailed(f"{name} ended unexpectedly; see {self.logs / (name + '.log')}, then start again")
            time.sleep(0.3)

    def stop(self) -> None:
        """Stop everything we started, last first."""
        for _, child in reversed(self.children):
            if child.poll() is None:
                child.terminate()
        for _, child in reversed(self.children):
            try:
                child.wait(8)
            except subprocess.TimeoutExpired:
                child.kill()
                child.wait(3)
        self.server.stop()


def run(home: Path, port: int | None, fresh: bool) -> int:
    """Run the demo until Ctrl-C or SIGTERM. Returns the exit code."""
    began = time.monotonic()
    if fresh and home.exists():
        sys.stdout.write(f"Everything in {home.resolve()} will be deleted. Type yes to go on: ")
        sys.stdout.flush()
        if sys.stdin.readline().strip() != "yes":
            sys.stdout.write("Nothing was deleted.\n")
            return 1
        shutil.rmtree(home)
    home.mkdir(parents=True, exist_ok=True)
    for one in (signal.SIGTERM, signal.SIGINT):  # SIGINT is ignored from the start in a shell's background job
        signal.signal(one, _stop)
    demo = Demo(home, port)
    try:
        address = demo.start()
        people = "".join(f"    {login:8} {role:14} {who}\n" for login, role, who in SIGN_INS)
        sys.stdout.write(
            f"\nMoorfog is at {address}   (up in {time.monotonic() - began:.1f} s)\n"
            f"  sign in as, password {PASSWORD}:\n{people}  Ctrl-C stops it; the data stays.\n"
        )
        sys.stdout.flush()
        demo.watch()
    except (Stopped, KeyboardInterrupt):
        say("stopping")
        return 0
    except Exception as error:
        sys.stderr.write(f"moorfog demo: {error}\n  logs: {demo.logs}; database log: {demo.server.log}\n")
        return 1
    finally:
        signal.signal(signal.SIGTERM, signal.SIG_IGN)
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        demo.stop()
    return 0
