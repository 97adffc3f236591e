"""The programme: tomorrow's crew, and who is due."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Response

from moorfog.api.routing import Context, plain, route
from moorfog.documents.sheets import workbook
from moorfog.operations.people import crews

XLSX = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
CREW_COLUMNS = ("name", "number", "task", "may wear", "set-up", "until", "limits", "reasons", "settled by")


@dataclass(frozen=True)
class Saved:
    """The id of what was saved."""

    id: str


@route("GET", "/api/tomorrow", "read", query=crews.CrewAsked, returns=crews.CrewView)
def get_tomorrow(context: Context, query: crews.CrewAsked) -> crews.CrewView:
    """Who of a crew may wear what on a day, or every reason why not."""
    return crews.crew_on(context.db, context.clock, context.actor, query)


@route("GET", "/api/tomorrow.xlsx", "read", query=crews.CrewAsked, media=XLSX)
def get_tomorrow_sheet(context: Context, query: crews.CrewAsked) -> Response:
    """The same as a workbook, a line for each set-up or each reason."""
    view = crews.crew_on(context.db, context.clock, context.actor, query)
    lines: list[tuple[str, ...]] = []
    for one in view.rows:
        who = (one.name, one.number, one.task)
        lines += [(*who, "yes", each.words, each.until, "; ".join(each.limits), "", "") for each in one.set_ups]
        lines += [(*who, "no", one.nearest, "", "", why.sentence, why.settled_by) for why in one.reasons]
    name = f'attachment; filename="crew-{view.day}.xlsx"'
    return plain(workbook(view.day, CREW_COLUMNS, lines), XLSX, **{"Content-Disposition": name})


@route("POST", "/api/sites/{site_id}/crews", "read", body=crews.CrewEntry, returns=Saved, is_told=True)
def save_crew(context: Context, site_id: str, body: crews.CrewEntry) -> Saved:
    """Save a crew under a name."""
    return Saved(crews.save_crew(context.db, context.actor, site_id, body))


@route("DELETE", "/api/crews/{crew_id}", "read", is_told=True)
def drop_crew(context: Context, crew_id: str) -> Response:
    """Forget a saved crew; the people stay."""
    crews.drop_crew(context.db, context.actor, crew_id)
    return Response(status=204)
