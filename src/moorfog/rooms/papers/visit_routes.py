"""The papers of a visit."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from flask import Response

from moorfog.core.kernel.arithmetic import whole_or_none
from moorfog.platform.web.routing import Context, plain, route
from moorfog.rooms.bench.routes import STRICT
from moorfog.rooms.papers import papers
from moorfog.rooms.papers.replaced import marked_replaced
from moorfog.rooms.papers.reports import find_report, replaced_words


@dataclass(frozen=True)
class IssueReport:
    """Which paper, and in which size a page is; a card is as large as a card."""

    __pydantic_config__ = STRICT
    page_size: Literal["A4", "Letter"]
    paper: papers.Paper = "report"


@dataclass(frozen=True)
class Issued:
    """An issued report: where its bytes are, and their digest."""

    url: str
    sha256: str


@route("POST", "/api/visits/{visit_id}/reports", "read", body=IssueReport, returns=Issued)
def issue(context: Context, visit_id: str, body: IssueReport) -> Issued:
    """Issue the report, the card or the worker's letter; the same revision gives the same bytes ever after."""
    wanted = papers.Printed(body.paper, body.page_size, context.where)
    row = papers.issue_to_print(context.db, context.clock, context.actor, visit_id, wanted)
    return Issued(f"/api/visits/{visit_id}/reports/{row.page_size}/{row.revision}", row.sha256)


@dataclass(frozen=True)
class PaperQuery:
    """``as_issued``: the very bytes that were stored, without a mark that they count no more."""

    as_issued: bool = False


@route(
    "GET",
    "/api/visits/{visit_id}/reports/{page_size}/{revision}",
    "read",
    query=PaperQuery,
    media="application/pdf",
    seen="visit",
)
def get_report(context: Context, visit_id: str, page_size: str, revision: str, query: PaperQuery) -> Response:
    """The stored PDF; one that a correction replaced, or whose pass does not hold today, is marked so on every page."""
    row = find_report(context.db, context.actor, visit_id, page_size, whole_or_none(revision) or 0)
    words = "" if query.as_issued else replaced_words(context.db, row)
    content = marked_replaced(row.content, words) if words else row.content
    over = "" if words or query.as_issued else papers.not_held_words(context.db, context.clock, visit_id)
    if over:
        content = marked_replaced(content, over, "NOT VALID")
    name = f"moorfog-{visit_id[-12:]}{'-replaced' if words else '-not-valid' if over else ''}.pdf"
    return plain(content, "application/pdf", **{"Content-Disposition": f'inline; filename="{name}"'})
