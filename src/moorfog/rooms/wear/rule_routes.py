"""Changing a site's rules, which asks first whom it would stop."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Response
from pydantic import ConfigDict

from moorfog.platform.web.routing import Context, route
from moorfog.rooms.sites import sites
from moorfog.rooms.wear import rule_change


@dataclass(frozen=True)
class BookChoice:
    """The rule book a site uses from now on; ``stops``: how many people it was said to stop, null: nobody asked yet."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    book: str
    stops: int | None = None


@dataclass(frozen=True)
class RuleAsked(sites.RuleEntry):
    """A site's entry, with how many people it was said to stop; null: nobody asked yet."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    stops: int | None = None


@route("POST", "/api/sites/{site_id}/rules", "manage", body=RuleAsked, returns=sites.BookView)
def enter_rule(context: Context, site_id: str, body: RuleAsked) -> sites.BookView:
    """Lay a stricter value over a rule book, a looser one with a written reason, fill a blank, or note a check.

    Where it would stop people who may wear something today it says whom first (``would_stop``), and waits to be sent
    again with their number.
    """
    rule_change.enter_rule_asked(context.db, context.clock, context.actor, site_id, body, body.stops)
    return sites.view_book(context.db, context.actor, site_id, body.book)


@route("POST", "/api/sites/{site_id}/rule-book", "manage", body=BookChoice)
def choose_book(context: Context, site_id: str, body: BookChoice) -> Response:
    """Choose the rule book from now on; whom it stops is said first, as where a rule is entered."""
    rule_change.choose_book_asked(context.db, context.actor, site_id, body.book, body.stops)
    return Response(status=204)
