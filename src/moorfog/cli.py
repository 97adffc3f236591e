"""The commands of the program, one function each; `./moorfog --help` lists them."""

from __future__ import annotations

import argparse
import getpass
import json
import os
import secrets
import subprocess
import sys
from contextlib import ExitStack
from pathlib import Path

from moorfog import __version__
from moorfog.bootstrap import StepFailed, ensure_node_modules, ensure_packages, ensure_web, prepare, root
from moorfog.checking import add_verify
from moorfog.housekeeping import add_commands, database
from moorfog.serving.home import UNWRITABLE, unwritable

_opened = ExitStack()
"""What is closed when the command is through: a database that was started for it."""


def database_url(schema: bool = False) -> str:
    """Return the address of the database, which is there until the command's end. Raises :class:`StepFailed`."""
    return str(_opened.enter_context(database(schema)))


def cmd_demo(given: argparse.Namespace) -> int:
    """Run the demo; for developers with page and server that follow every change of a file."""
    from moorfog.demo.run import run

    home = Path(os.environ.get("MOORFOG_HOME", root() / "var"))
    return run(home, given.port, given.fresh, given.for_developers)


def cmd_serve(given: argparse.Namespace) -> int:
    """Serve on a database of your own: to this machine as it is, to others through the proxy."""
    from moorfog.serving.web import WEB_ENV, gunicorn_command
    from moorfog.serving.whole import Where, serve

    if bool(given.certificate) != bool(given.key):
        sys.exit("A certificate needs its key: give both --certificate and --key, or neither.")
    own = {"MOORFOG_DATABASE_URL": database_url(), "MOORFOG_WEB": str(ensure_web())}
    where = Where(given.host, given.port, given.certificate, given.key)
    if where.needs_door:
        home = Path(os.environ.get("MOORFOG_HOME", root() / "var"))
        return serve(home, where, given.workers, own)
    env = {**os.environ, **WEB_ENV, **own}
    os.execvpe(sys.executable, gunicorn_command(f"{given.host}:{given.port}", given.workers), env)


def cmd_worker(given: argparse.Namespace) -> int:
    """Run a worker."""
    from moorfog.platform.db.base import make_engine
    from moorfog.worker import main as work

    work(make_engine(database_url()))
    return 0


def cmd_migrate(given: argparse.Namespace) -> int:
    """Bring the database's schema up to date."""
    from moorfog.platform.db.migrate import migrate

    migrate(database_url(schema=True))
    print("The schema is up to date.")
    return 0


def cmd_rebuild(given: argparse.Namespace) -> int:
    """Refill the read models from the logs."""
    from moorfog.platform.db.base import make_engine
    from moorfog.platform.log.log import BrokenLog
    from moorfog.platform.log.readmodels import rebuild

    try:
        done = rebuild(
            make_engine(database_url(schema=True)),
            lambda at, total: print(f"\r{at} of {total} visits", end="", flush=True),
        )
    except BrokenLog as error:
        print(f"\nmoorfog rebuild: {error} Nothing was changed. See: ./moorfog verify", file=sys.stderr)
        return 3
    print(f"\nRead models refilled from {done} visits.")
    return 0


def cmd_anchors(given: argparse.Namespace) -> int:
    """Print the anchors there are, a line each, to be kept where nobody of this machine reaches them."""
    from sqlalchemy import select
    from sqlalchemy.orm import Session

    from moorfog.platform.db.base import make_engine
    from moorfog.rooms.proof.anchors import printed
    from moorfog.rooms.proof.tables import Anchor

    with Session(make_engine(database_url())) as db:
        for row in db.scalars(select(Anchor).order_by(Anchor.no)):
            print(printed(row))
    return 0


def cmd_grants(given: argparse.Namespace) -> int:
    """Print what lets an account work with this database and do nothing else."""
    from moorfog.platform.db.accounts import grants, tables_of
    from moorfog.platform.db.base import make_engine

    engine = make_engine(database_url())
    print(";\n".join(grants(given.account, given.host, engine.url.database or "", tables_of(engine))) + ";")
    return 0


def cmd_account(given: argparse.Namespace) -> int:
    """Create an account; the password is asked for, or read from a pipe."""
    from sqlalchemy import select

    from moorfog.platform.db.base import make_engine, run_in_transaction
    from moorfog.rooms.accounts.sessions import create_account, weak_password
    from moorfog.rooms.sites.tables import Employer

    password = getpass.getpass() if sys.stdin.isatty() else sys.stdin.readline().rstrip("\n")
    wrong = weak_password(password, given.login, *given.name.split())
    if wrong:
        sys.exit(f"This password will not do. {wrong}")

    def work(db) -> str:  # type: ignore[no-untyped-def]
        employer = None
        if given.employer:
            employer = db.scalar(select(Employer.id).where(Employer.name == given.employer))
            if employer is None:
                sys.exit(f"There is no employer {given.employer!r}.")
        return create_account(db, given.login, given.name, password, [(given.role, employer)])

    run_in_transaction(make_engine(database_url()), work)
    print(f"{given.login} may sign in as {given.role}.")
    return 0


def cmd_unlock(given: argparse.Namespace) -> int:
    """Let whoever tried a password too often try again at once."""
    from moorfog.platform.db.base import make_engine, run_in_transaction
    from moorfog.rooms.accounts.sessions import forget_all_tries

    done = run_in_transaction(make_engine(database_url()), lambda db: forget_all_tries(db, given.login))
    print(f"{done} tries forgotten; {given.login or 'everybody'} may sign in again.")
    return 0


def cmd_counter(given: argparse.Namespace) -> int:
    """Enter a counter and print the token for its link."""
    from moorfog.platform.db.base import make_engine, run_in_transaction
    from moorfog.rooms.kit.entering import create_instrument

    figures = json.loads(Path(given.figures).read_text())
    token = secrets.token_urlsafe(24)
    run_in_transaction(
        make_engine(database_url()),
        lambda db: create_instrument(
            db, name=given.name, employer_id=None, content=figures, is_simulated=False, token=token
        ),
    )
    print(f"{given.name} is entered. Its link's token, shown only now:\n{token}")
    return 0


def cmd_counters(given: argparse.Namespace) -> int:
    """List serial ports, what answers at the addresses given, and the instruments entered with their links."""
    from moorfog.instruments.ports import ask, serial_ports

    ports = serial_ports()
    print("Serial ports of this machine:" if ports else "No serial port on this machine.")
    for port in ports:
        print(f"  {port.device:24} {port.description}")
    for address in given.addresses:
        found = ask(address)
        print(f"  {address:34} {found.problem or f'{found.mode}, serial {found.serial}'}")
    if not os.environ.get("MOORFOG_DATABASE_URL"):
        print("Instruments entered: set MOORFOG_DATABASE_URL to list them.")
        return 0
    from sqlalchemy import select
    from sqlalchemy.orm import Session

    from moorfog.platform.db.base import make_engine
    from moorfog.platform.db.clock import DatabaseClock
    from moorfog.platform.log.tables import Lease
    from moorfog.rooms.kit.instruments import view_counter
    from moorfog.rooms.kit.tables import InstrumentRow

    print("Instruments entered:")
    with Session(make_engine(database_url())) as db:
        held = set(db.scalars(select(Lease.instrument_id)))
        for row in db.scalars(select(InstrumentRow).order_by(InstrumentRow.name)):
            one = view_counter(db, row, DatabaseClock().now(db))
            link = f"link {one.link_state.replace('_', ' ')}" if one.is_linked else "no link"
            run = ", in a run" if row.id in held else ""
            ready = "; ".join(one.blocked_by) or "ready for runs today"
            print(f"  {one.name:18} {one.kind:11} {one.serial_number:12} {link}{run}; {ready}")
    return 0


def cmd_openapi(given: argparse.Namespace) -> int:
    """Write the OpenAPI document, or check the committed one."""
    import moorfog.routes  # noqa: F401  (enters every route)
    from moorfog.platform.web.openapi import document

    text = json.dumps(document(), indent=1, sort_keys=True) + "\n"
    path = root() / "docs" / "openapi.json"
    if given.check:
        if path.read_text() != text:
            print("docs/openapi.json is not what the code says; run: ./moorfog openapi", file=sys.stderr)
            return 1
        return 0
    path.write_text(text)
    return 0


def cmd_bom(given: argparse.Namespace) -> int:
    """Write the bill of materials, or check the committed one."""
    from moorfog.bom import bill

    path = root() / "docs" / "sbom.json"
    if given.check:
        if not path.exists() or path.read_text() != bill(root()):
            print("docs/sbom.json is not what the lock files say; run: ./moorfog bom", file=sys.stderr)
            return 1
        return 0
    path.write_text(bill(root()))
    return 0


def cmd_test(given: argparse.Namespace) -> int:
    """Install what is missing and run every test."""
    ensure_packages(with_browser=True)
    ensure_node_modules()
    ensure_web()
    side_by_side = [] if given.rest else ["-n", "5", "--dist", "loadfile", "--no-loadscope-reorder"]
    command = [sys.executable, "-m", "pytest", *side_by_side, *given.rest]
    return subprocess.run(command, cwd=root(), check=False).returncode


def cmd_prepare(given: argparse.Namespace) -> int:
    """Make all that the program needs in its own folder, for accounts that may only read it."""
    prepare()
    return 0


def cmd_check(given: argparse.Namespace) -> int:
    """Do nothing: the environment with the developers' tools is made by now."""
    ensure_node_modules()
    return 0


def cmd_verify_card(given: argparse.Namespace) -> int:
    """Say whether what was scanned from a card was signed by the installation whose public key is given."""
    from moorfog.cards import run

    return run(given.text, given.key)


def cmd_bench(given: argparse.Namespace) -> int:
    """Print measurements as ratios, side by side in one run."""
    ensure_packages(with_browser=True)
    return subprocess.run([sys.executable, "-m", "tests.bench", *given.rest], cwd=root(), check=False).returncode


def cmd_recompute(given: argparse.Namespace) -> int:
    """Compute exported records again, from their files alone."""
    from moorfog.recompute import run

    return run(given.files, given.json, given.key)


def parser() -> argparse.ArgumentParser:
    """Return the parser of all commands."""
    top = argparse.ArgumentParser(prog="moorfog", description="Respiratory fit testing.")
    top.add_argument("--version", action="version", version=f"Moorfog {__version__}")
    sub = top.add_subparsers(dest="command", required=True)
    demo = sub.add_parser("demo", help="the whole program with invented data, on loopback")
    demo.add_argument("--port", type=int)
    demo.add_argument("--fresh", action="store_true", help="delete the demo's data first, after asking")
    demo.set_defaults(run=cmd_demo, for_developers=False)
    dev = sub.add_parser("dev", help="the demo for developers: page and server follow every change of a file")
    dev.add_argument("--port", type=int)
    dev.set_defaults(run=cmd_demo, fresh=False, for_developers=True)
    serve = sub.add_parser("serve", help="serve on the database of MOORFOG_DATABASE_URL")
    serve.add_argument("--host", default="127.0.0.1")
    serve.add_argument("--port", type=int, default=8000)
    serve.add_argument("--workers", type=int, default=2)
    serve.add_argument("--certificate", type=Path, help="PEM file: serve with TLS")
    serve.add_argument("--key", type=Path, help="PEM file of the certificate's key")
    serve.set_defaults(run=cmd_serve)
    for name, run, text in (
        ("worker", cmd_worker, "the worker of MOORFOG_DATABASE_URL"),
        ("migrate", cmd_migrate, "bring the schema up to date"),
        ("rebuild", cmd_rebuild, "refill the read models from the logs"),
        ("anchors", cmd_anchors, "print the signed heads of all logs, to be kept elsewhere"),
        ("bench", cmd_bench, "print measurements as ratios"),
        ("prepare", cmd_prepare, "install and build all it needs, for an account that may only read the program"),
        ("check", cmd_check, "make the developers' environment"),
    ):
        sub.add_parser(name, help=text).set_defaults(run=run)
    add_verify(sub, database_url)
    lets = sub.add_parser("grants", help="print the grants of the account that server and worker use")
    lets.add_argument("account")
    lets.add_argument("--host", default="localhost")
    lets.set_defaults(run=cmd_grants)
    unlock = sub.add_parser("unlock", help="let whoever tried a password too often try again at once")
    unlock.add_argument("login", nargs="?", default="", help="one account only")
    unlock.set_defaults(run=cmd_unlock)
    account = sub.add_parser("account", help="create an account")
    account.add_argument("login")
    account.add_argument("--name", required=True)
    account.add_argument("--role", required=True, choices=("tester", "administrator", "supervisor"))
    account.add_argument("--employer", help="at this employer only")
    account.set_defaults(run=cmd_account)
    counter = sub.add_parser("counter", help="enter a counter")
    counter.add_argument("name")
    counter.add_argument("--figures", required=True, help="JSON file, see docs/formats/counter-figures.md")
    counter.set_defaults(run=cmd_counter)
    counters = sub.add_parser("counters", help="list serial ports, instruments, their links and what they do")
    counters.add_argument(
        "addresses", nargs="*", metavar="ADDRESS", help="also ask who answers there: socket://…, /dev/…"
    )
    counters.set_defaults(run=cmd_counters)
    again = sub.add_parser("recompute", help="compute exported records again; 0 equal, 3 different, 2 unreadable")
    again.add_argument(
        "files", nargs="+", metavar="FILE", help="exported records, or archives of them; - for standard input"
    )
    again.add_argument("--json", action="store_true")
    again.add_argument("--key", default="", help="the key or fingerprint that an archive is to be signed with")
    again.set_defaults(run=cmd_recompute)
    card = sub.add_parser("verify-card", help="say, without a network, whether a scanned card was signed here")
    card.add_argument("text", help="what was scanned, a file that holds it, or - to read it")
    card.add_argument("--key", required=True, help="the public key of the installation, as /api/card-key says it")
    card.set_defaults(run=cmd_verify_card)
    add_commands(sub)
    openapi = sub.add_parser("openapi", help="write docs/openapi.json")
    openapi.add_argument("--check", action="store_true")
    openapi.set_defaults(run=cmd_openapi)
    bom = sub.add_parser("bom", help="write docs/sbom.json, every package that ships with the program")
    bom.add_argument("--check", action="store_true")
    bom.set_defaults(run=cmd_bom)
    test = sub.add_parser("test", help="run every test")
    test.set_defaults(run=cmd_test, rest=[])
    return top


def main() -> None:
    """Run a command."""
    given, rest = parser().parse_known_args()
    if rest and given.command not in ("test", "bench"):
        parser().error(f"unknown: {' '.join(rest)}")
    given.rest = rest
    try:
        with _opened:
            sys.exit(given.run(given))
    except StepFailed as error:
        sys.exit(f"moorfog {given.command}: {error}")
    except OSError as error:
        if error.filename is None or error.errno not in UNWRITABLE:
            raise
        sys.exit(f"moorfog {given.command}: {unwritable(error)}")


if __name__ == "__main__":
    main()
