"""The programme: tomorrow's crew, and who is due."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Response

from moorfog.platform.jobs import jobs
from moorfog.platform.printing.plain import table
from moorfog.platform.printing.sheets import workbook
from moorfog.platform.web.answers import Made
from moorfog.platform.web.fields import Id, Page
from moorfog.platform.web.media import CSV, XLSX
from moorfog.platform.web.routing import Context, plain, route
from moorfog.rooms.crews import board, crew_papers, crews, gates

CREW_COLUMNS = ("name", "number", "task", "may wear", "set-up", "until", "limits", "reasons", "settled by")


@route("GET", "/api/tomorrow", "read", query=crews.CrewAsked, returns=crews.CrewView)
def get_tomorrow(context: Context, query: crews.CrewAsked) -> crews.CrewView:
    """Who of a crew may wear what on a day, or every reason why not."""
    return crews.crew_on(context.db, context.clock, context.actor, query)


@route("GET", "/api/tomorrow.xlsx", "read", query=crews.CrewAsked, media=XLSX)
def get_tomorrow_sheet(context: Context, query: crews.CrewAsked) -> Response:
    """The same as a workbook, a line for each set-up or each reason."""
    view = crews.crew_on(context.db, context.clock, context.actor, query)
    lines = list(crew_papers.table_lines(view))
    return _crew_file(workbook(view.day, CREW_COLUMNS, lines), XLSX, view, "xlsx")


@route("GET", "/api/tomorrow.csv", "read", query=crews.CrewAsked, media=CSV)
def get_tomorrow_table(context: Context, query: crews.CrewAsked) -> Response:
    """The same as CSV."""
    view = crews.crew_on(context.db, context.clock, context.actor, query)
    return _crew_file(table(CREW_COLUMNS, crew_papers.table_lines(view)), CSV, view, "csv")


def _crew_file(content: bytes | str, media: str, view: crews.CrewView, ending: str) -> Response:
    name = f'attachment; filename="crew-{view.day}.{ending}"'
    return plain(content, media, **{"Content-Disposition": name})


@dataclass(frozen=True)
class BoardQuery(crews.CrewAsked):
    """Which crew, and which page of it."""

    page: Page = 1


@route("GET", "/api/board", "read", query=BoardQuery, returns=board.Board)
def get_board(context: Context, query: BoardQuery) -> board.Board:
    """A crew against the set-ups they have passed in: people down, set-ups across."""
    return board.board_on(context.db, context.clock, context.actor, query, query.page)


@route("POST", "/api/gate", "read", body=crews.CrewAsked, returns=board.GateAddress, is_told=True)
def open_gate(context: Context, body: crews.CrewAsked) -> board.GateAddress:
    """Make the short-lived address of a tablet at the gate, which shows a crew day by day."""
    return board.open_gate(context.db, context.clock, context.actor, body)


@dataclass(frozen=True)
class GatesQuery:
    """Of which site."""

    site: Id


@route("GET", "/api/gates", "read", query=GatesQuery, returns=gates.GateTablets)
def list_gates(context: Context, query: GatesQuery) -> gates.GateTablets:
    """The addresses of tablets at a site's gate that still hold."""
    return gates.gates_of(context.db, context.clock, context.actor, query.site)


@route("DELETE", "/api/gates/{gate_id}", "read", is_told=True)
def end_gate(context: Context, gate_id: str) -> None:
    """End the address of a tablet: it shows nothing from then on."""
    gates.end_gate(context.db, context.actor, gate_id)


@route("GET", "/api/gate/{secret}", "public", returns=board.GateView)
def get_gate(context: Context, secret: str) -> board.GateView:
    """Who may wear what today, for whoever stands at the gate: yes or no, never why."""
    return board.gate_of(context.db, context.clock, secret)


@route("POST", "/api/tomorrow/cards", "read", body=crew_papers.CardsWanted, returns=jobs.JobView, is_told=True)
def draw_cards(context: Context, body: crew_papers.CardsWanted) -> jobs.JobView:
    """Draw the cards of everybody of a crew who may wear something, ten on a sheet, as a job."""
    return jobs.view_of(
        context.db, crew_papers.start_cards(context.db, context.clock, context.actor, body, context.where)
    )


@route("POST", "/api/tomorrow/paper", "read", body=crews.CrewAsked, returns=jobs.JobView, is_told=True)
def draw_list(context: Context, body: crews.CrewAsked) -> jobs.JobView:
    """Draw who of a crew may wear what, for a wall or for an employer, as a job."""
    return jobs.view_of(context.db, crew_papers.start_list(context.db, context.clock, context.actor, body))


@route("POST", "/api/sites/{site_id}/crews", "read", body=crews.CrewEntry, returns=Made, is_told=True)
def save_crew(context: Context, site_id: str, body: crews.CrewEntry) -> Made:
    """Save a crew under a name."""
    return Made(crews.save_crew(context.db, context.actor, site_id, body))


@route("DELETE", "/api/crews/{crew_id}", "read", is_told=True)
def drop_crew(context: Context, crew_id: str) -> Response:
    """Forget a saved crew; the people stay."""
    crews.drop_crew(context.db, context.actor, crew_id)
    return Response(status=204)
