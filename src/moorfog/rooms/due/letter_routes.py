"""Letters by e-mail: a paper to the worker, and invitations to whoever is due."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import Field

from moorfog.core.events.facts import STRICT
from moorfog.platform.mail import must_be_on
from moorfog.platform.web.actor import READERS
from moorfog.platform.web.routing import Context, route
from moorfog.rooms.bench.visits import find_head
from moorfog.rooms.due import letters
from moorfog.rooms.papers import papers
from moorfog.rooms.sites.sites import find_site


@dataclass(frozen=True)
class MailPaper:
    """Which paper goes to the worker."""

    __pydantic_config__ = STRICT
    paper: papers.Paper
    page_size: Literal["A4", "Letter"] = "A4"


@dataclass(frozen=True)
class MailedTo:
    """The address that it goes to."""

    to: str


@dataclass(frozen=True)
class InviteWithin:
    """Within how many days somebody is due (0: the site's notice)."""

    __pydantic_config__ = STRICT
    within: Annotated[int, Field(ge=0, le=366)] = 0


@route("POST", "/api/visits/{visit_id}/mail", "read", body=MailPaper, returns=MailedTo, is_told=True)
def mail_paper(context: Context, visit_id: str, body: MailPaper) -> MailedTo:
    """Send a paper of a signed visit to the worker's own address."""
    find_head(context.db, context.actor.require(*READERS), visit_id)
    must_be_on()
    one = papers.Printed(body.paper, body.page_size, context.where)
    return MailedTo(letters.mail_paper(context.db, context.clock, context.actor, visit_id, one))


@route("POST", "/api/sites/{site_id}/invitations", "read", body=InviteWithin, returns=letters.DueInvited, is_told=True)
def invite_due(context: Context, site_id: str, body: InviteWithin) -> letters.DueInvited:
    """Invite everybody who is due at a site to their next test."""
    find_site(context.db, context.actor.require(*READERS), site_id)
    must_be_on()
    return letters.invite_due(context.db, context.clock, context.actor, site_id, body.within)
