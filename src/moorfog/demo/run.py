"""Starts the whole demo on loopback and stops all of it again; data stays in MOORFOG_HOME."""

from __future__ import annotations

import os
import secrets
import shutil
import sys
import time
from pathlib import Path

from moorfog.bootstrap import StepFailed, ensure_node_modules, ensure_packages, ensure_web, root, say
from moorfog.instruments.line import SIMULATED_KEY
from moorfog.serving.database import PrivateServer
from moorfog.serving.home import HELD, held, tell_where
from moorfog.serving.parts import DATABASE, Parts, Stopped, ignore_signals, stop_on_signals
from moorfog.serving.ports import free_port, is_free
from moorfog.serving.state import PLACE
from moorfog.serving.web import WEB_ENV, gunicorn_command, reloading_command

PASSWORD = "moor-and-fog"
SIGN_INS = (
    ("maren", "tester", "Maren Oake, both employers"),
    ("hollis", "administrator", "Hollis Grey, both employers"),
    ("ines", "supervisor", "Ines Carrow, Cold Haven Boatyard"),
)
USUAL_PORT = 8400


class Demo:
    """The demo's parts under one home.

    ``for_developers``: the page comes from Vite, the server starts anew whenever a file of the program changes.
    """

    def __init__(self, home: Path, port: int | None, for_developers: bool = False) -> None:
        self.home, self.wanted_port, self.for_developers = home.resolve(), port, for_developers
        self.server = PrivateServer(self.home / "db")
        self.key = secrets.token_hex(16)
        self.parts = Parts(self.home / "log", say)

    def start(self) -> str:
        """Bring everything up and return the address. Raises :class:`StepFailed`."""
        port = self._port()
        ensure_packages()
        if self.for_developers:
            ensure_node_modules()
        web = "" if self.for_developers else str(ensure_web())
        if self.server.install():
            say("database: data directory made")
        self.server.start()
        self.parts.adopt(DATABASE, self.server.spawn, self.server.spawned, self.server.log)
        if not (self.server.home / "password").exists():
            self.server.create_account(secrets.token_urlsafe(18))
        say(f"database: running on loopback, port {self.server.port}")
        url = self.server.url
        token = self._token()
        self._prepare(url, token)
        rules = {"MOORFOG_DATABASE_URL": url, "MOORFOG_WEB": web, PLACE: str(self.parts.logs)}
        inner = free_port() if self.for_developers else port
        command = reloading_command(inner) if self.for_developers else gunicorn_command(port, 2)
        self.parts.start("web", command, {**rules, **WEB_ENV})
        address = f"http://127.0.0.1:{inner}"
        self.parts.wait_for("web", f"{address}/api/health")
        self.parts.start("worker", [sys.executable, "-m", "moorfog.cli", "worker"], rules)
        for kind in ("counter", "photometer", "pressure"):
            self._start_instrument(kind, address, token if kind == "counter" else f"{token}.{kind}")
        say("web server answers; worker, three simulated instruments and their links are starting")
        return self._page(port, address) if self.for_developers else address

    def _page(self, port: int, api: str) -> str:
        """Have Vite serve the page as it stands in the sources, and hand everything else on to the server."""
        vite = root() / "web" / "node_modules" / "vite" / "bin" / "vite.js"
        command = ["node", str(vite), "--port", str(port), "--strictPort", "--host", "127.0.0.1"]
        self.parts.start("page", command, {"MOORFOG_API": api}, root() / "web")
        address = f"http://127.0.0.1:{port}"
        self.parts.wait_for("page", address)
        return address

    def _start_instrument(self, kind: str, address: str, token: str) -> None:
        """Start a simulated instrument on a free port, and its link."""
        port = str(free_port())
        simulated = [sys.executable, "-m", "moorfog.instruments.simulated", "--port", port, "--kind", kind]
        self.parts.start(kind, simulated, {SIMULATED_KEY: self.key})
        link = [sys.executable, "-m", "moorfog.instruments.link", "--server", address]
        link += ["--counter", f"socket://127.0.0.1:{port}", "--spool", str(self.home / "spool" / kind)]
        self.parts.start(f"link-{kind}", link, {"MOORFOG_LINK_TOKEN": token, SIMULATED_KEY: self.key})

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

    def stop(self) -> None:
        """Stop everything we started, last first."""
        self.parts.stop()
        self.server.stop()  # where it had not become a part yet


def run(home: Path, port: int | None, fresh: bool, for_developers: bool = False) -> int:
    """Run the demo until Ctrl-C or SIGTERM. Returns the exit code."""
    began = time.monotonic()
    stop_on_signals()
    demo = Demo(home, port, for_developers)
    try:
        with held(home) as place:
            try:
                if fresh and not _emptied(home):
                    return 1
                address = demo.start()
                tell_where(place, f"at {address}, process {os.getpid()}")
                people = "".join(f"    {login:8} {role:14} {who}\n" for login, role, who in SIGN_INS)
                sys.stdout.write(
                    f"\nMoorfog is at {address}   (up in {time.monotonic() - began:.1f} s)\n"
                    f"  sign in as, password {PASSWORD}:\n{people}  Ctrl-C stops it; the data stays.\n"
                )
                sys.stdout.flush()
                demo.parts.watch()
            except (Stopped, KeyboardInterrupt):
                say("stopping")
            finally:
                ignore_signals()
                demo.stop()
    except (Stopped, KeyboardInterrupt):
        return 0
    except Exception as error:
        sys.stderr.write(f"moorfog demo: {error}\n  logs: {demo.parts.logs}; database log: {demo.server.log}\n")
        return 1
    return 0


def _emptied(home: Path) -> bool:
    """Delete what is in a home that we hold, after asking; return False where the answer was no."""
    found = [one for one in home.iterdir() if one.name != HELD]
    if not found:
        return True
    sys.stdout.write(f"Everything in {home.resolve()} will be deleted. Type yes to go on: ")
    sys.stdout.flush()
    if sys.stdin.readline().strip() != "yes":
        sys.stdout.write("Nothing was deleted.\n")
        return False
    for one in found:
        if one.is_dir():
            shutil.rmtree(one)
        else:
            one.unlink()
    return True
