"""E-mail: a paper to the worker, invitations to whoever is due, and the outbox with what became of each."""

from __future__ import annotations

from moorfog.platform.mail import is_on
from moorfog.platform.web.queries import PageQuery
from moorfog.platform.web.routing import Context, route
from moorfog.rooms.mail import outbox


@route("GET", "/api/mails", "read", query=PageQuery, returns=outbox.MailPage)
def get_mails(context: Context, query: PageQuery) -> outbox.MailPage:
    """What was sent, waits, or could not be sent, the latest first."""
    return outbox.list_mails(context.db, context.actor, query.page, is_on())


@route("POST", "/api/mails/{mail_id}/again", "read", is_told=True)
def send_again(context: Context, mail_id: str) -> None:
    """Try a letter again that could not be sent."""
    outbox.send_again(context.db, context.clock, context.actor, mail_id)
