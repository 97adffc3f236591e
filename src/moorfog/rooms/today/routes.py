"""Today at the benches."""

from __future__ import annotations

from flask import Response

from moorfog.platform.web.actor import READERS
from moorfog.platform.web.routing import Context, FollowDay, route
from moorfog.rooms.today import today


@route("GET", "/api/today", "read", query=today.TodayPages, returns=today.Today)
def get_today(context: Context, query: today.TodayPages) -> today.Today:
    """Who is here, what was left unfinished, what was done today, each list by its page."""
    return today.today(context.db, context.clock, context.actor, query)


@route("POST", "/api/visits/{visit_id}/seal-notice", "supervise")
def acknowledge_seal(context: Context, visit_id: str) -> Response:
    """Acknowledge the failed seal checks of a visit."""
    today.acknowledge_seal(context.db, context.clock, context.actor, visit_id)
    return Response(status=204)


@route("GET", "/api/today/live", "read", media="text/event-stream")
def live_day(context: Context) -> FollowDay:
    """Hear that something has changed on the day: a page asks anew then, and not before."""
    return FollowDay(context.actor.require(*READERS))
