"""E-mail: a paper to the worker, invitations to whoever is due, and the outbox with what became of each."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import Field

from moorfog.api.paging import PageQuery
from moorfog.api.routing import Context, route
from moorfog.core.events.facts import STRICT
from moorfog.operations.accounts.sessions import READERS
from moorfog.operations.bench.visits import find_head
from moorfog.operations.errors import DomainError
from moorfog.operations.records import letters, outbox, papers
from moorfog.operations.sites.sites import find_site

MAIL_OFF = "No mail server is set here, so nothing is sent. Whoever keeps the installation sets MOORFOG_MAIL."


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


def is_on() -> bool:
    """Tell whether a mail server is set, in a way that can be used."""
    try:
        return outbox.mail_server() is not None
    except outbox.NotSet:
        return False


def _must_be_on() -> None:
    if not is_on():
        raise DomainError("mail_off", MAIL_OFF)


@route("POST", "/api/visits/{visit_id}/mail", "read", body=MailPaper, returns=MailedTo, is_told=True)
def mail_paper(context: Context, visit_id: str, body: MailPaper) -> MailedTo:
    """Send a paper of a signed visit to the worker's own address."""
    find_head(context.db, context.actor.require(*READERS), visit_id)
    _must_be_on()
    one = papers.Printed(body.paper, body.page_size, context.where)
    return MailedTo(letters.mail_paper(context.db, context.clock, context.actor, visit_id, one))


@route("POST", "/api/sites/{site_id}/invitations", "read", body=InviteWithin, returns=letters.DueInvited, is_told=True)
def invite_due(context: Context, site_id: str, body: InviteWithin) -> letters.DueInvited:
    """Invite everybody who is due at a site to their next test."""
    find_site(context.db, context.actor.require(*READERS), site_id)
    _must_be_on()
    return letters.invite_due(context.db, context.clock, context.actor, site_id, body.within)


@route("GET", "/api/mails", "read", query=PageQuery, returns=outbox.MailPage)
def get_mails(context: Context, query: PageQuery) -> outbox.MailPage:
    """What was sent, waits, or could not be sent, the latest first."""
    return outbox.list_mails(context.db, context.actor, query.page, is_on())


@route("POST", "/api/mails/{mail_id}/again", "read", is_told=True)
def send_again(context: Context, mail_id: str) -> None:
    """Try a letter again that could not be sent."""
    outbox.send_again(context.db, context.clock, context.actor, mail_id)
