"""Health and time."""

from __future__ import annotations

import os
from dataclasses import asdict, dataclass
from datetime import datetime
from pathlib import Path
from typing import Literal

from flask import Response
from prometheus_client import CollectorRegistry, Gauge, Info, generate_latest

from moorfog import __version__
from moorfog.bootstrap import root
from moorfog.core.events.payloads import instant
from moorfog.core.visit.state import FOLD_VERSION
from moorfog.platform.db.clock import recent_jumps
from moorfog.platform.db.migrate import is_current_on
from moorfog.platform.jobs.rounds import SILENT, last_round
from moorfog.platform.web.errors import DomainError
from moorfog.platform.web.routing import Context, plain, route
from moorfog.serving import metrics
from moorfog.serving.backup_routes import backups_folder
from moorfog.serving.keeping import read_backups
from moorfog.serving.state import PLACE, read_state
from moorfog.shipped import licences, source_archive

WorkerState = Literal["at_work", "silent", "not_seen"]


@dataclass(frozen=True)
class Moment:
    """The server's time, by which a client measures its own clock's offset."""

    now: str


@dataclass(frozen=True)
class Health:
    """That the program and its database answer; how the worker for long jobs fares, and when it was last heard of
    (empty: never)."""

    ok: bool
    version: str
    fold_version: int
    rules: str
    worker: WorkerState
    worker_seen: str


@dataclass(frozen=True)
class ProgramPart:
    """A part of the program on this machine: whether it runs, how often it was started again, how it ended last."""

    name: str
    title: str
    is_running: bool
    restarts: int
    last_end: str


@dataclass(frozen=True)
class ClockJumped:
    """The database's clock jumped: when, by how many seconds ahead (below zero: back), and when times here followed
    it, empty while they go on as they were."""

    at: str
    by_s: float
    followed_at: str


@dataclass(frozen=True)
class PartsView:
    """The parts of the program that are watched on this machine, and when something changed last; empty where nobody
    watches them. ``jumps`` of the database's clock, the latest first."""

    changed_at: str
    parts: tuple[ProgramPart, ...]
    jumps: tuple[ClockJumped, ...]


TITLES = {
    "database": "The database",
    "web": "The first web server",
    "web-2": "The second web server",
    "worker": "The worker for long jobs",
    "page": "The server of the page",
}


def part_title(name: str) -> str:
    """Return what a part is called on a screen."""
    if name in TITLES:
        return TITLES[name]
    kind = name.removeprefix("link-")
    return f"The link of the {kind}" if kind != name else f"The simulated {kind}"


@route("GET", "/api/time", "public", returns=Moment)
def get_time(context: Context) -> Moment:
    """The server's time."""
    return Moment(instant(context.clock.now(context.db)))


@route("GET", "/api/health", "public", returns=Health)
def get_health(context: Context) -> Health:
    """Whether people can be tested here: 503 where the database does not answer, or has another schema; and whether a
    worker goes its rounds, without which long jobs, letters and what is kept beforehand stand still."""
    now: datetime = context.clock.now(context.db)
    if not is_current_on(context.db.connection()):
        raise DomainError("other_schema", "The database has another schema. Run: ./moorfog migrate", status=503)
    heard = last_round(context.db)
    worker: WorkerState = "not_seen" if heard is None else "silent" if now - heard > SILENT else "at_work"
    return Health(
        ok=True,
        version=__version__,
        fold_version=FOLD_VERSION,
        rules=context.rules.digest,
        worker=worker,
        worker_seen=instant(heard) if heard is not None else "",
    )


@route("GET", "/api/system/parts", "kit", returns=PartsView)
def get_system_parts(context: Context) -> PartsView:
    """How the parts of the program fare on this machine."""
    folder = os.environ.get(PLACE)
    at, parts = read_state(Path(folder)) if folder else ("", ())
    jumps = (
        ClockJumped(instant(one.at), one.by_ms / 1000, instant(one.taken_at) if one.taken_at else "")
        for one in recent_jumps(context.db)
    )
    named = (ProgramPart(title=part_title(one.name), **asdict(one)) for one in parts)
    return PartsView(at, tuple(named), tuple(jumps))


@route("GET", "/api/licences.txt", "read", media="text/plain; charset=utf-8")
def get_licences(context: Context) -> Response:
    """The licences of the Python packages that ship with the program; those of the page are at /licences.md."""
    return plain(licences(root()), "text/plain; charset=utf-8")


@route("GET", "/api/source.zip", "read", media="application/zip")
def get_source(context: Context) -> Response:
    """The source of the program as it runs here."""
    name = f'attachment; filename="moorfog-{__version__}-source.zip"'
    return plain(source_archive(root()), "application/zip", **{"Content-Disposition": name})


@route("GET", "/api/metrics", "read", media="text/plain; version=0.0.4")
def get_metrics(context: Context) -> Response:
    """Numbers by which the installation is watched, for Prometheus; a token reads them."""
    registry = CollectorRegistry()
    for one in metrics.metrics(context.db, context.clock, context.actor):
        Gauge(one.name, one.what, registry=registry).set(one.value)
    state = read_backups(backups_folder())
    if state.last_good:
        made = datetime.fromisoformat(state.last_good).timestamp()
        Gauge("moorfog_last_backup_timestamp_seconds", "The last good backup", registry=registry).set(made)
    folder = os.environ.get(PLACE)
    restarts = Gauge("moorfog_part_restarts", "How often a part was started again", ["part"], registry=registry)
    for part in read_state(Path(folder))[1] if folder else ():
        restarts.labels(part.name).set(part.restarts)
    Info("moorfog", "The program", registry=registry).info({"version": __version__})
    return plain(generate_latest(registry), "text/plain; version=0.0.4; charset=utf-8")
