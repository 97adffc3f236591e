"""Who is due, as a list, a sheet and a calendar."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from flask import Response
from pydantic import Field

from moorfog.platform.printing.sheets import workbook
from moorfog.platform.web.fields import Id, Page
from moorfog.platform.web.media import XLSX
from moorfog.platform.web.routing import Context, plain, route
from moorfog.rooms.due import due

DUE_COLUMNS = ("name", "number", "task", "contact", "set-up", "until", "what ends", "days", "only set-up", "reasons")


@dataclass(frozen=True)
class DueQuery:
    """At which site, within how many days (0: the site's notice), which page."""

    site: Id
    within: Annotated[int, Field(ge=0, le=366)] = 0
    page: Page = 1


@route("GET", "/api/due", "read", query=DueQuery, returns=due.DuePage)
def get_due(context: Context, query: DueQuery) -> due.DuePage:
    """Who is due at a site: who can wear nothing first, then by the earliest of test, clearance and training."""
    found = due.due_at(context.db, context.clock, context.actor, query.site, query.within)
    return due.due_page(context.db, found, query.page)


@route("GET", "/api/due.xlsx", "read", query=DueQuery, media=XLSX)
def get_due_sheet(context: Context, query: DueQuery) -> Response:
    """The same as a workbook, all of it."""
    found = due.due_at(context.db, context.clock, context.actor, query.site, query.within, whole=True)
    rows = [
        (
            *(one.name, one.number, one.task, one.contact, one.set_up, one.until, one.ends_by),
            one.days if one.until else "",
            "yes" if one.is_only else "no",
            " ".join(why.sentence for why in one.reasons),
        )
        for one in due.due_lines(context.db, found)
    ]
    name = f'attachment; filename="due-{found.today.isoformat()}.xlsx"'
    return plain(workbook("due", DUE_COLUMNS, rows), XLSX, **{"Content-Disposition": name})


@route("POST", "/api/sites/{site_id}/calendar", "read", returns=due.FeedView, is_told=True)
def renew_calendar(context: Context, site_id: str) -> due.FeedView:
    """Make a secret address of who is due, for a calendar; the one before ends."""
    return due.renew_feed(context.db, context.clock, context.actor, site_id)


@route("GET", "/api/calendar/{secret}", "public", media="text/calendar; charset=utf-8")
def get_calendar(context: Context, secret: str) -> Response:
    """Who is due, as a calendar that names people by initials and number."""
    content = due.calendar_of(context.db, context.clock, secret.removesuffix(".ics"))
    return plain(content, "text/calendar; charset=utf-8")
