"""Results of before, and what a site says of them in writing."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Response

from moorfog.platform.web.answers import Made
from moorfog.platform.web.fields import Withdrawal
from moorfog.platform.web.queries import PageQuery
from moorfog.platform.web.routing import FILE, Context, route
from moorfog.rooms.wear import history, history_words


@dataclass(frozen=True)
class TakenOver:
    """How many results of before are new here."""

    new: int


@route(
    "POST",
    "/api/history/preview",
    "manage",
    body=history.HistoryFile,
    returns=history.HistoryPreview,
    most=FILE,
    is_told=False,
    by_token=True,
)
def preview_history(context: Context, body: history.HistoryFile) -> history.HistoryPreview:
    """What taking over a table of earlier results would do."""
    return history.preview_history(context.db, context.clock, context.actor, body)


@route("POST", "/api/history", "manage", body=history.HistoryFile, returns=TakenOver, most=FILE, by_token=True)
def import_history(context: Context, body: history.HistoryFile) -> TakenOver:
    """Take over a table of earlier results as history: judged by nobody here, permitting nothing."""
    return TakenOver(history.import_history(context.db, context.clock, context.actor, body))


@route("GET", "/api/sites/{site_id}/history", "manage", query=PageQuery, returns=history_words.EarlierPage)
def list_history(context: Context, site_id: str, query: PageQuery) -> history_words.EarlierPage:
    """A site's results of before by facepiece and size, and what it said of them in writing."""
    return history_words.earlier_at(context.db, context.clock, context.actor, site_id, query.page)


@route("POST", "/api/sites/{site_id}/history", "manage", body=history_words.WordEntry, returns=Made)
def say_in_writing(context: Context, site_id: str, body: history_words.WordEntry) -> Made:
    """Let results of before in one facepiece and size count as passes, in writing."""
    return Made(history_words.say_in_writing(context.db, context.clock, context.actor, site_id, body))


@route("POST", "/api/history-words/{word_id}/withdrawal", "manage", body=Withdrawal)
def take_word_back(context: Context, word_id: str, body: Withdrawal) -> Response:
    """Take back what was said in writing of results of before, with the reason."""
    history_words.take_word_back(context.db, context.clock, context.actor, word_id, body.why)
    return Response(status=204)
