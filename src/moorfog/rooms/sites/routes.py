"""Rule books, tasks and added protocols of a site."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Response
from pydantic import ConfigDict

from moorfog.platform.web.routing import LIST, Context, route
from moorfog.rooms.sites import protocols, sites, tasks


@dataclass(frozen=True)
class BookQuery:
    """Which rule book; the one in use where empty."""

    book: str = ""


@dataclass(frozen=True)
class MadeTask:
    """The id of a task."""

    id: str


@dataclass(frozen=True)
class ProtocolFile:
    """The text of a protocol file, as TOML."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    text: str


@route("GET", "/api/sites/{site_id}/rules", "read", query=BookQuery, returns=sites.BookView)
def get_rules(context: Context, site_id: str, query: BookQuery) -> sites.BookView:
    """A rule book as a site uses it: value, unit, source, standing, what the site changed and checked."""
    return sites.view_book(context.db, context.actor, site_id, query.book)


@route("GET", "/api/sites/{site_id}/tasks", "read", returns=tuple[tasks.TaskLine, ...])
def get_tasks(context: Context, site_id: str) -> tuple[tasks.TaskLine, ...]:
    """The tasks of a site with the protection each needs under its rule book."""
    return tasks.list_tasks(context.db, context.actor, site_id)


@route("POST", "/api/sites/{site_id}/tasks", "manage", body=tasks.TaskEntry, returns=MadeTask)
def enter_task(context: Context, site_id: str, body: tasks.TaskEntry) -> MadeTask:
    """Enter a task of a site; one of the same name takes its place."""
    return MadeTask(tasks.enter_task(context.db, context.clock, context.actor, site_id, body))


@route("GET", "/api/sites/{site_id}/protocols", "read", returns=tuple[protocols.SiteProtocolView, ...])
def get_protocols(context: Context, site_id: str) -> tuple[protocols.SiteProtocolView, ...]:
    """The protocols a site has added."""
    return protocols.list_protocols(context.db, context.actor, site_id)


@route(
    "POST",
    "/api/sites/{site_id}/protocols/try",
    "manage",
    body=ProtocolFile,
    returns=protocols.ProtocolTrial,
    is_told=False,
)
def try_protocol(context: Context, site_id: str, body: ProtocolFile) -> protocols.ProtocolTrial:
    """Read a protocol file and run it on the simulator; nothing is stored."""
    return protocols.try_file(context.db, context.actor, site_id, body.text)


@route(
    "POST", "/api/sites/{site_id}/protocols", "manage", body=ProtocolFile, returns=protocols.ProtocolTrial, most=LIST
)
def add_protocol(context: Context, site_id: str, body: ProtocolFile) -> protocols.ProtocolTrial:
    """Add a protocol to a site; visits opened from now on may use it."""
    return protocols.add_file(context.db, context.clock, context.actor, site_id, body.text)


@route("POST", "/api/sites/{site_id}/protocols/{protocol_id}/withdraw", "manage")
def withdraw_protocol(context: Context, site_id: str, protocol_id: str) -> Response:
    """Withdraw a protocol a site has added."""
    protocols.withdraw(context.db, context.clock, context.actor, site_id, protocol_id)
    return Response(status=204)


@route("GET", "/api/sites", "read", returns=tuple[sites.SiteView, ...])
def get_sites(context: Context) -> tuple[sites.SiteView, ...]:
    """The sites within your grants, with their benches."""
    return sites.list_sites(context.db, context.actor)
