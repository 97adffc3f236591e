"""What whoever looks after the installation reads: the journal, and how the backups stand."""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Annotated

from flask import Response
from prometheus_client import CollectorRegistry, Gauge, Info, generate_latest
from pydantic import Field
from sqlalchemy.orm import Session

from moorfog import __version__
from moorfog.api.accounts import Password
from moorfog.api.routing import Context, plain, route
from moorfog.api.streams import csv_pieces, sent
from moorfog.operations.accounts import recovering, tokens
from moorfog.operations.records import journal, metrics
from moorfog.recovery import RECIPIENT
from moorfog.secret_files import key_folder
from moorfog.serving.keeping import is_late, read_backups
from moorfog.serving.state import PLACE, read_state


@dataclass(frozen=True)
class JournalQuery:
    """Which rows of the journal: before a number, of a day, of an account, of a subject; everything where left out."""

    before: Annotated[int, Field(ge=0, le=2**62)] = 0
    day: str = ""
    account: str = ""
    subject: str = ""


@dataclass(frozen=True)
class BackupsView:
    """How the backups stand. ``made_here``: whether this installation makes them by itself; the rest is empty then.

    ``faults``: how many stored things were not what was stored when it was last checked; -1 where it was not."""

    made_here: bool
    folder: str
    last_good: str
    file: str
    is_late: bool
    problem: str
    faults: int
    has_recovery_key: bool
    may_make_key: bool


JOURNAL = ("no", "at", "who", "deed", "subject", "changes", "why")
"""The columns of the journal as a table."""


def _cells(one: journal.JournalLine) -> tuple[str | int, ...]:
    return one.no, one.at, one.who, one.deed, one.subject, "; ".join(one.changes), one.why


def _asked(query: JournalQuery) -> journal.JournalAsked:
    return journal.JournalAsked(query.before, query.day, query.account, query.subject)


@route("GET", "/api/journal", "manage", query=JournalQuery, returns=journal.JournalPage)
def get_journal(context: Context, query: JournalQuery) -> journal.JournalPage:
    """The journal: who did what to what, the newest first."""
    return journal.read_journal(context.db, context.actor, _asked(query))


@route("GET", "/api/journal.csv", "manage", query=JournalQuery, media="text/csv")
def get_journal_csv(context: Context, query: JournalQuery) -> Response:
    """The journal as a table."""
    actor, engine, asked = context.actor, context.engine, _asked(query)
    journal.note_taken(context.db, asked)

    def pieces() -> Iterator[bytes]:
        with Session(engine) as db:
            yield from csv_pieces(JOURNAL, (_cells(one) for one in journal.every_line(db, actor, asked)))

    return sent(pieces(), "text/csv; charset=utf-8", "journal.csv")


@route("GET", "/api/metrics", "read", media="text/plain; version=0.0.4")
def get_metrics(context: Context) -> Response:
    """Numbers by which the installation is watched, for Prometheus; a token reads them."""
    registry = CollectorRegistry()
    for one in metrics.metrics(context.db, context.clock, context.actor):
        Gauge(one.name, one.what, registry=registry).set(one.value)
    state = read_backups(_backups_folder())
    if state.last_good:
        made = datetime.fromisoformat(state.last_good).timestamp()
        Gauge("moorfog_last_backup_timestamp_seconds", "The last good backup", registry=registry).set(made)
    folder = os.environ.get(PLACE)
    restarts = Gauge("moorfog_part_restarts", "How often a part was started again", ["part"], registry=registry)
    for part in read_state(Path(folder))[1] if folder else ():
        restarts.labels(part.name).set(part.restarts)
    Info("moorfog", "The program", registry=registry).info({"version": __version__})
    return plain(generate_latest(registry), "text/plain; version=0.0.4; charset=utf-8")


def _backups_folder() -> Path:
    home = os.environ.get("MOORFOG_HOME", "")
    return Path(os.environ.get("MOORFOG_BACKUPS") or (Path(home) / "backups" if home else ""))


@route("GET", "/api/backups", "manage", returns=BackupsView)
def get_backups(context: Context) -> BackupsView:
    """How the backups stand."""
    home, folder = os.environ.get("MOORFOG_HOME", ""), _backups_folder()
    state = read_backups(folder)
    now: datetime = context.clock.now(context.db)
    made_here = bool(home) and folder.is_dir()
    return BackupsView(
        made_here=made_here,
        folder=str(folder) if made_here else "",
        last_good=state.last_good,
        file=state.file,
        is_late=made_here and is_late(state, now),
        problem=state.problem,
        faults=state.faults,
        has_recovery_key=(key_folder() / RECIPIENT).exists(),
        may_make_key=context.actor.keeps_all(),
    )


@route("POST", "/api/recovery-key", "manage", body=Password, returns=recovering.RecoveryKey)
def make_recovery_key(context: Context, body: Password) -> recovering.RecoveryKey:
    """Make the recovery key of the backups: it is shown this once, and ends that of before."""
    return recovering.new_recovery_key(context.db, context.clock, context.actor, key_folder(), body.password)


@route("GET", "/api/tokens", "manage", returns=tuple[tokens.TokenView, ...])
def get_tokens(context: Context) -> tuple[tokens.TokenView, ...]:
    """The tokens by which other programs read here."""
    return tokens.list_tokens(context.db, context.clock, context.actor)


@route("POST", "/api/tokens", "manage", body=tokens.TokenEntry, returns=tokens.TokenMade)
def make_token(context: Context, body: tokens.TokenEntry) -> tokens.TokenMade:
    """Make a token by which another program reads what an employer has here; it is shown only now."""
    return tokens.make_token(context.db, context.clock, context.actor, body)


@route("DELETE", "/api/tokens/{token_id}", "manage")
def end_token(context: Context, token_id: str) -> Response:
    """End a token at once."""
    tokens.end_token(context.db, context.clock, context.actor, token_id)
    return Response(status=204)
