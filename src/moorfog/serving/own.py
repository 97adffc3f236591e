"""One's own data on the database that ships with the program: `./moorfog run`."""

from __future__ import annotations

import hashlib
import hmac
import logging
import os
import sys
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy import Engine, select, update
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session

from moorfog.bootstrap import StepFailed, ensure_web, say
from moorfog.instruments.complaint import Complaint
from moorfog.platform.db.base import make_engine, run_in_transaction
from moorfog.platform.db.migrate import Schema, migrate, schema_of
from moorfog.platform.keys import KEY as ANCHORS_KEY
from moorfog.platform.log.ledger import KEY as LEDGER_KEY
from moorfog.platform.log.readmodels import rebuild_foreign
from moorfog.platform.log.take_over import begin_ledgers
from moorfog.platform.web.actor import digest_of
from moorfog.plugged import NoPlace, allowed_place
from moorfog.rooms.kit.tables import InstrumentRow
from moorfog.rooms.setup.setup import has_accounts, new_code
from moorfog.secret_files import read_secret, secret_of
from moorfog.serving.backup import back_up, backups_of
from moorfog.serving.database import fitted_flags
from moorfog.serving.running import Running, run_until_stopped
from moorfog.serving.whole import Where, Whole, claim_home

LINKS_KEY = "links"
TOLD_EVERY = 10_000
"""Rows that are taken over between two words of it."""
RESTORING = "restoring"
"""Lies in a home while a backup is laid into it: half of one is nothing to work with."""
log = logging.getLogger("moorfog.run")


class Own(Whole):
    """The parts of an installation with its owner's own data."""

    def __init__(self, home: Path, where: Where) -> None:
        super().__init__(home, where, fitted_flags())
        self.linked: dict[str, tuple[str, str]] = {}
        """By instrument: the part that is its link, and where it is plugged in."""
        self.misplaced = Complaint(log, "every instrument is where it may be", time.monotonic)
        self.inner, self.code = "", ""
        self._engine: Engine | None = None

    @property
    def engine(self) -> Engine:
        """The database by the program's account."""
        if self._engine is None:
            self._engine = make_engine(self.server.url)
        return self._engine

    def start(self) -> str:
        """Bring everything up and return the address. Raises :class:`StepFailed`."""
        if (self.home / RESTORING).exists():
            raise StepFailed(
                f"a backup was being laid into {self.home} and was broken off; delete that folder and restore again"
            )
        claim_home(self.home, "own")
        for name in (LINKS_KEY, ANCHORS_KEY, LEDGER_KEY):
            if (self.home / "keys" / name).exists():
                read_secret(self.home / "keys" / name)
        web = str(ensure_web())
        self.start_database(self._prepare)
        self.inner, address = self.start_web(web)
        self.start_worker()
        self.parts.start("backups", [sys.executable, "-m", "moorfog.cli", "keep"], self.rules)
        self.look_at_links()
        return address

    def _prepare(self) -> None:
        """Bring the schema up to date, after a backup where there is something to lose."""
        schema = make_engine(self.server.schema_url)
        try:
            found = schema_of(schema)
            if found is Schema.NEWER:
                raise StepFailed("this data was made by a newer Moorfog; start it with that one, or a newer one still")
            if found is Schema.OLDER:
                file = backups_of(self.home) / f"before-upgrade-{datetime.now(UTC):%Y-%m-%d-%H%M%S}.moorfog"
                say(f"an older Moorfog made this data: first a backup, {file}")
                back_up(self.server, self.home, file)
            if found is not Schema.CURRENT:
                migrate(self.server.schema_url, taken=_told())
            begin_ledgers(schema, _told())  # a taking over that was broken off goes on
            self.server.let_work()
            refilled = rebuild_foreign(schema)
            if refilled:
                say(f"read models refilled from {refilled} visits: an earlier program made them")
        finally:
            schema.dispose()
        with Session(self.engine) as db:
            is_set_up = has_accounts(db)
        if not is_set_up:
            self.code = run_in_transaction(self.engine, new_code)

    def look_at_links(self) -> None:
        """Have a link run for every instrument that is plugged into this machine, and for no other."""
        try:
            wanted = run_in_transaction(self.engine, self._plugged_in)
        except SQLAlchemyError as error:
            log.warning("the instruments cannot be looked at: %s", error)
            return
        for instrument, (part, line) in list(self.linked.items()):
            if wanted.get(instrument, ("", "", ""))[:2] != (part, line):
                self.parts.drop(part)
                del self.linked[instrument]
        for instrument, (part, line, token) in wanted.items():
            if instrument in self.linked:
                continue
            command = [sys.executable, "-m", "moorfog.instruments.link", "--server", self.inner]
            command += [f"--counter={line}", f"--spool={self.home / 'spool' / instrument}"]
            self.parts.start(part, command, {"MOORFOG_LINK_TOKEN": token})
            self.linked[instrument] = (part, line)

    def _plugged_in(self, db: Session) -> dict[str, tuple[str, str, str]]:
        """Return the part, the place and the token of each instrument of this machine, and let its token count."""
        key = secret_of(self.home / "keys" / LINKS_KEY)
        found, misplaced = {}, []
        query = select(InstrumentRow).where(InstrumentRow.line != "", InstrumentRow.retired_at.is_(None))
        for row in db.scalars(query.limit(100)):
            token = hmac.new(key, row.id.encode(), hashlib.sha256).hexdigest()
            if row.local_token_digest != digest_of(token):
                chosen = update(InstrumentRow).where(InstrumentRow.id == row.id)
                db.execute(chosen.values(local_token_digest=digest_of(token)))
            try:
                found[row.id] = (f"link-{row.name}", str(allowed_place(row.line, self.home)), token)
            except NoPlace as error:
                misplaced.append(f"{row.name} has no link: {error}")
        if misplaced:
            self.misplaced.fault("; ".join(misplaced))
        else:
            self.misplaced.well()
        return found


def _told() -> Callable[[int], None]:
    """Return what says every ten thousand rows how far the ledgers have come."""
    last = [0]

    def taken(rows: int) -> None:
        if rows - last[0] >= TOLD_EVERY:
            last[0] = rows
            say(f"the ledgers begin: {rows} rows taken over")

    return taken


def run(home: Path, where: Where) -> int:
    """Run an installation with its owner's own data until Ctrl-C or SIGTERM. Returns the exit code."""
    own = Own(home, where)
    os.environ["MOORFOG_HOME"] = str(own.home)

    def greet(address: str) -> str:
        words = f"\nMoorfog is at {address}\n  Your data is in {own.home}\n"
        if own.code:
            words += f"  Nobody has an account yet. Open {address}/setup and give this code:\n\n      {own.code}\n\n"
        return words + "  Ctrl-C stops it; the data stays.\n"

    return run_until_stopped(
        Running(
            command="run",
            hold=home,
            parts=own.parts,
            begin=own.start,
            greet=greet,
            end=own.stop,
            round=own.look_at_links,
            hint=f"database log: {own.server.log}",
        )
    )
