"""The code on a card: how it stands now, for anybody who holds it."""

from __future__ import annotations

from moorfog.platform.web.errors import DomainError, NotFound
from moorfog.platform.web.routing import Context, route
from moorfog.rooms.papers import papers


@route("GET", "/api/codes/{code}", "public", returns=papers.CodeView)
def look_up_code(context: Context, code: str) -> papers.CodeView | DomainError:
    """How the card with this code stands now: initials, facepiece, size, until when, and nothing more."""
    try:
        return papers.look_up(context.db, context.clock, context.address, code)
    except NotFound as missing:
        papers.note_wrong_code(context.db, context.clock, context.address)
        return missing


@route("POST", "/api/codes/{code}/report", "public", body=papers.CardReport)
def report_by_card(context: Context, code: str, body: papers.CardReport) -> DomainError | None:
    """Something has changed, says whoever holds the card: what they passed ends at once."""
    try:
        papers.report_by_card(context.db, context.clock, context.address, code, body)
    except NotFound as missing:
        papers.note_wrong_code(context.db, context.clock, context.address)
        return missing
    return None
