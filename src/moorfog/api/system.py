"""Health and time."""

from __future__ import annotations

from dataclasses import dataclass

from moorfog import __version__
from moorfog.api.routing import Context, route
from moorfog.core.events.payloads import instant
from moorfog.core.visit.state import FOLD_VERSION


@dataclass(frozen=True)
class Moment:
    """The server's time, by which a client measures its own clock's offset."""

    now: str


@dataclass(frozen=True)
class Health:
    """That the program and its database answer."""

    ok: bool
    version: str
    fold_version: int
    rules: str


@route("GET", "/api/time", "public", returns=Moment)
def get_time(context: Context) -> Moment:
    """The server's time."""
    return Moment(instant(context.clock.now(context.db)))


@route("GET", "/api/health", "public", returns=Health)
def get_health(context: Context) -> Health:
    """Whether the program and its database answer."""
    context.clock.now(context.db)
    return Health(True, __version__, FOLD_VERSION, context.rules.digest)
