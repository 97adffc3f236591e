"""A roster from a file."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from moorfog.platform.jobs import jobs
from moorfog.platform.web.queries import PageQuery
from moorfog.platform.web.routing import FILE, Context, route
from moorfog.rooms.people import roster, roster_file


@dataclass(frozen=True)
class PreviewQuery(PageQuery):
    """Which rows of a roster are looked at: of which kind, and which page of them."""

    kind: Literal["new", "changed", "moved", "back", "missing", "same"] = "new"


@route(
    "POST",
    "/api/imports/preview",
    "manage",
    body=roster_file.RosterFile,
    query=PreviewQuery,
    returns=roster.Preview,
    most=FILE,
    is_told=False,
)
def preview_import(context: Context, body: roster_file.RosterFile, query: PreviewQuery) -> roster.Preview:
    """What a roster would import, and what is wrong with it by row and column; nothing is stored."""
    return roster.check_roster(context.db, context.clock, context.actor, body, roster.Asked(query.kind, query.page))[0]


@route("POST", "/api/imports", "manage", body=roster_file.RosterFile, returns=jobs.JobView, most=FILE)
def start_import(context: Context, body: roster_file.RosterFile) -> jobs.JobView:
    """Import a roster as a job: all or nothing."""
    return roster.start_import(context.db, context.clock, context.actor, body)
