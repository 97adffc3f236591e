"""What is wrong with an installation, and what to do; nothing is touched."""

from __future__ import annotations

import os
import shutil
import sys
from collections.abc import Iterator
from contextlib import ExitStack
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import serialization
from sqlalchemy import Engine, text
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session

from moorfog.bootstrap import DEBIAN_DOOR, DEBIAN_LIBRARIES, DEBIAN_RUN, StepFailed, missing_packages, root
from moorfog.platform.db.base import make_engine
from moorfog.platform.db.clock import DatabaseClock
from moorfog.platform.db.migrate import Schema, schema_of
from moorfog.platform.jobs.rounds import SILENT, last_round
from moorfog.platform.mail import NotSet, mail_server
from moorfog.rooms.setup.setup import has_accounts
from moorfog.serving.backup import backups_of
from moorfog.serving.database import ServerFailed, reach
from moorfog.serving.keeping import is_late, read_backups
from moorfog.serving.ports import answers

LEAST_FREE = 2 * 1024**3
CLOCK_S = 2.0


@dataclass(frozen=True)
class Finding:
    """Something that was looked at: whether it is well, what was found, and what to do where it is not."""

    is_well: bool
    what: str
    remedy: str = ""


def examine(home: Path, url: str = "", certificate: Path | None = None, key: Path | None = None) -> Iterator[Finding]:
    """Yield what was found about an installation under ``home``, or on the database at ``url``."""
    yield _python()
    yield from _packages()
    yield from _space(home)
    yield from _mail()
    if certificate is not None:
        yield from _certificate(certificate, key)
    if not url and not (home / "db" / "data" / "mysql").exists():
        yield Finding(False, f"there is no data in {home}", "./moorfog run makes it; or set MOORFOG_HOME")
        return
    with ExitStack() as stack:
        try:
            if not url:
                url = stack.enter_context(reach(home)).schema_url
            yield from _database(url)
        except (StepFailed, ServerFailed, OSError) as error:
            yield Finding(False, f"the database does not come up: {error}", "look into its log; restore a backup")
    if not os.environ.get("MOORFOG_DATABASE_URL"):
        yield from _backups(home)


def _mail() -> Iterator[Finding]:
    """Tell whether a mail server that is set can be used, and answers. None set is no fault."""
    try:
        server = mail_server()
    except NotSet as error:
        yield Finding(False, "the mail server cannot be used", f"{error}")
        return
    if server is not None:
        there = answers(server.host, server.port)
        where = f"{server.host}:{server.port}"
        words = f"the mail server at {where} answers" if there else f"the mail server at {where} does not answer"
        yield Finding(there, words, "letters wait in the outbox until it does; look whether host and port are right")


def _python() -> Finding:
    found = ".".join(map(str, sys.version_info[:3]))
    return Finding(sys.version_info >= (3, 11), f"Python {found}", "install Python 3.11 or newer")


def _packages() -> Iterator[Finding]:
    lacking = missing_packages(DEBIAN_RUN, DEBIAN_LIBRARIES)
    yield Finding(
        not lacking,
        "Debian packages" if not lacking else f"Debian packages are missing: {', '.join(lacking)}",
        f"as root: apt-get install -y --no-install-recommends {' '.join(lacking)}",
    )
    door = missing_packages(DEBIAN_DOOR, {})
    if door:
        yield Finding(True, f"{', '.join(door)} is not here; only needed where other machines reach Moorfog")
    built = (root() / "web" / "dist" / "index.html").exists() or bool(os.environ.get("MOORFOG_WEB"))
    yield Finding(built, "the pages are built" if built else "the pages are not built", "./moorfog run builds them")


def _space(home: Path) -> Iterator[Finding]:
    place = home if home.exists() else home.parent
    try:
        free = shutil.disk_usage(place).free
    except OSError as error:
        yield Finding(False, f"{place}: {error.strerror}", "make the folder, or set MOORFOG_HOME to another one")
        return
    yield Finding(
        free >= LEAST_FREE,
        f"{free / 1024**3:.1f} GB free in {place}",
        "clear some room: a full disk stops the database",
    )
    if home.exists() and not os.access(home, os.W_OK):
        yield Finding(False, f"{home} cannot be written to", "give it to the account that runs Moorfog")


def _certificate(certificate: Path, key: Path | None) -> Iterator[Finding]:
    try:
        found = x509.load_pem_x509_certificate(certificate.read_bytes())
    except (OSError, ValueError) as error:
        yield Finding(False, f"the certificate {certificate} cannot be read: {error}", "give a PEM file")
        return
    left = (found.not_valid_after_utc - datetime.now(UTC)).days
    yield Finding(left >= 14, f"the certificate ends in {left} days", "renew it")
    if key is None:
        return
    try:
        private = serialization.load_pem_private_key(key.read_bytes(), None)
    except (OSError, ValueError, TypeError) as error:
        yield Finding(False, f"the key {key} cannot be read: {error}", "give its PEM file, without a passphrase")
        return
    raw, form = serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo
    fits = private.public_key().public_bytes(raw, form) == found.public_key().public_bytes(raw, form)
    yield Finding(fits, "certificate and key belong together" if fits else "the key is not this certificate's", "")


def _database(url: str) -> Iterator[Finding]:
    engine = make_engine(url, 5)
    try:
        found = schema_of(engine)
        words: dict[Schema, tuple[str, str]] = {
            Schema.EMPTY: ("the database is empty", "./moorfog migrate, or ./moorfog run"),
            Schema.OLDER: ("the database has an older schema", "./moorfog backup FILE, then ./moorfog migrate"),
            Schema.NEWER: ("the database was made by a newer Moorfog", "start it with that one"),
            Schema.CURRENT: ("the database's schema is this program's", ""),
        }
        yield Finding(found is Schema.CURRENT, *words[found])
        if found is Schema.CURRENT:
            yield from _inside(engine)
    except SQLAlchemyError as error:
        why = str(getattr(error, "orig", error))
        yield Finding(False, f"the database does not answer: {why}", "start it, and look at MOORFOG_DATABASE_URL")
    finally:
        engine.dispose()


def _inside(engine: Engine) -> Iterator[Finding]:
    with Session(engine) as db:
        behind = abs(float(db.scalar(text("SELECT UNIX_TIMESTAMP(NOW(3))")) or 0) - datetime.now(UTC).timestamp())
        yield Finding(
            behind < CLOCK_S,
            f"the database's clock is {behind:.1f} s from this machine's",
            "set both by one time server",
        )
        is_set_up = has_accounts(db)
        yield Finding(
            is_set_up,
            "somebody has an account" if is_set_up else "nobody has an account",
            "./moorfog run shows a code for the set-up; or ./moorfog init",
        )
        if os.environ.get("MOORFOG_DATABASE_URL"):
            yield _worker(db)


def _worker(db: Session) -> Finding:
    """Tell whether a worker goes its rounds beside a database of one's own."""
    heard, now = last_round(db), DatabaseClock().now(db)
    is_heard = heard is not None and now - heard <= SILENT
    words = "a worker goes its rounds" if is_heard else "no worker goes its rounds: long jobs and letters stand still"
    return Finding(is_heard, words, "./moorfog worker")


def _backups(home: Path) -> Iterator[Finding]:
    state, now = read_backups(backups_of(home)), datetime.now(UTC)
    if state.problem:
        yield Finding(False, f"the last backup failed: {state.problem}", "put that right; it is tried again by itself")
    yield Finding(
        not is_late(state, now),
        f"last good backup {state.last_good[:16] or 'never'}",
        "it is made while ./moorfog run runs; or: ./moorfog backup FILE",
    )
    if state.faults > 0:
        yield Finding(False, f"{state.faults} stored things are not what was stored", "./moorfog verify names them")
