"""Starts the whole demo on loopback and stops all of it again; data stays in MOORFOG_HOME."""

from __future__ import annotations

import secrets
import shutil
import sys
import time
from pathlib import Path

from moorfog.bootstrap import ensure_node_modules, ensure_web, root, say
from moorfog.instruments.line import SIMULATED_KEY
from moorfog.secret_files import secret_of
from moorfog.serving.home import HELD
from moorfog.serving.parts import Stopped
from moorfog.serving.ports import free_port
from moorfog.serving.running import Running, run_until_stopped
from moorfog.serving.web import reloading_command
from moorfog.serving.whole import Where, Whole, claim_home

PASSWORD = "moor-and-fog"
SIGN_INS = (
    ("maren", "tester", "Maren Oake, both employers"),
    ("hollis", "administrator", "Hollis Grey, both employers"),
    ("ines", "supervisor", "Ines Carrow, Cold Haven Boatyard"),
)


class Demo(Whole):
    """The demo's parts under one home.

    ``for_developers``: the page comes from Vite, the server starts anew whenever a file of the program changes.
    """

    def __init__(self, home: Path, port: int | None, for_developers: bool = False) -> None:
        super().__init__(home, Where(port=port or 0))
        self.for_developers = for_developers
        self.key = secrets.token_hex(16)

    def start(self) -> str:
        """Bring everything up and return the address. Raises :class:`StepFailed`."""
        claim_home(self.home, "demo")
        if self.for_developers:
            ensure_node_modules()
        web = "" if self.for_developers else str(ensure_web())
        token = self._token()
        self.start_database(lambda: self._prepare(self.server.url, token))
        command = reloading_command if self.for_developers else None
        own, address = self.start_web(web, command, behind=self.for_developers)
        self.start_worker()
        for kind in ("counter", "photometer", "pressure"):
            self._start_instrument(kind, own, token if kind == "counter" else f"{token}.{kind}")
        say("web server answers; worker, three simulated instruments and their links are starting")
        return self._page(own) if self.for_developers else address

    def _page(self, api: str) -> str:
        """Have Vite serve the page as it stands in the sources, and hand everything else on to the server."""
        vite = root() / "web" / "node_modules" / "vite" / "bin" / "vite.js"
        command = ["node", str(vite), "--port", str(self.port), "--strictPort", "--host", "127.0.0.1"]
        self.parts.start("page", command, {"MOORFOG_API": api}, root() / "web")
        address = self.where.address(self.port)
        self.parts.wait_for("page", address)
        return address

    def _start_instrument(self, kind: str, address: str, token: str) -> None:
        """Start a simulated instrument on a free port, and its link."""
        from moorfog.demo.scenario import SERIALS

        port = str(free_port())
        simulated = [sys.executable, "-m", "moorfog.instruments.simulated", "--port", port, "--kind", kind]
        simulated += ["--serial", SERIALS[kind]]
        self.parts.start(kind, simulated, {SIMULATED_KEY: self.key})
        link = [sys.executable, "-m", "moorfog.instruments.link", "--server", address]
        link += ["--counter", f"socket://127.0.0.1:{port}", "--spool", str(self.home / "spool" / kind)]
        self.parts.start(f"link-{kind}", link, {"MOORFOG_LINK_TOKEN": token, SIMULATED_KEY: self.key})

    def _token(self) -> str:
        return secret_of(self.home / "link-token").decode()

    def _prepare(self, url: str, token: str) -> None:
        """Migrate and seed, unless this very program has done so: then not even its modules are loaded here."""
        done = self.home / "prepared"
        if done.exists() and done.read_text() == self._schema():
            return
        from moorfog.data import shipped_rules
        from moorfog.demo import seed
        from moorfog.demo.before import seed_before
        from moorfog.platform.db.base import make_engine, run_in_transaction
        from moorfog.platform.db.migrate import migrate
        from moorfog.platform.log.readmodels import rebuild_foreign

        migrate(self.server.schema_url)
        self.server.let_work()
        engine = make_engine(url)
        schema = make_engine(self.server.schema_url)
        refilled = rebuild_foreign(schema)
        schema.dispose()
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
            seed_before(engine)
            sys.stdout.write("\n")
        engine.dispose()
        done.write_text(self._schema())

    def _schema(self) -> str:
        """Return what migrations and which fold this program has; others mean that there is something to do."""
        from moorfog.core.visit.state import FOLD_VERSION

        migrations = (Path(__file__).parents[1] / "platform" / "db" / "migrations" / "versions").glob("*.py")
        return "\n".join([f"FOLD_VERSION = {FOLD_VERSION}", "two accounts", *sorted(one.name for one in migrations)])


def run(home: Path, port: int | None, fresh: bool, for_developers: bool = False) -> int:
    """Run the demo until Ctrl-C or SIGTERM. Returns the exit code."""
    began = time.monotonic()
    demo = Demo(home, port, for_developers)

    def begin() -> str:
        claim_home(demo.home, "demo")
        if fresh and not _emptied(home):
            raise Stopped
        return demo.start()

    def greet(address: str) -> str:
        people = "".join(f"    {login:8} {role:14} {who}\n" for login, role, who in SIGN_INS)
        return (
            f"\nMoorfog is at {address}   (up in {time.monotonic() - began:.1f} s)\n"
            f"  sign in as, password {PASSWORD}:\n{people}  Ctrl-C stops it; the data stays.\n"
        )

    return run_until_stopped(
        Running(
            command="demo",
            hold=home,
            parts=demo.parts,
            begin=begin,
            greet=greet,
            end=demo.stop,
            hint=f"database log: {demo.server.log}",
        )
    )


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
