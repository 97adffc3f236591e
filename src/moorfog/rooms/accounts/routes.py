"""Accounts: inviting, roles, sessions, the second factor, one's own password."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Response
from pydantic import ConfigDict

from moorfog.platform.web.fields import Line
from moorfog.platform.web.queries import PageQuery
from moorfog.platform.web.routing import Context, route
from moorfog.rooms.accounts import competence, managing, notice, own, second
from moorfog.rooms.accounts.session_routes import attempt, let_in
from moorfog.rooms.accounts.sessions import confirm_password, open_session
from moorfog.rooms.accounts.tables import Account


@dataclass(frozen=True)
class Password:
    """A password."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    password: Line


@dataclass(frozen=True)
class NewPassword:
    """One's own password, and the one in its place."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    old: Line
    new: Line


@dataclass(frozen=True)
class Code:
    """A code of the second factor."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    code: Line


@dataclass(frozen=True)
class RecoveryCodes:
    """Codes that stand in for the second factor, each once; shown only now."""

    codes: tuple[str, ...]


def _done() -> Response:
    return Response(status=204)


@route("GET", "/api/accounts", "manage", query=PageQuery, returns=managing.AccountsPage)
def get_accounts(context: Context, query: PageQuery) -> managing.AccountsPage:
    """The accounts with a role at your employers."""
    return managing.list_accounts(context.db, context.clock, context.actor, query.page)


@route("POST", "/api/accounts", "manage", body=managing.AccountEntry, returns=managing.Invited)
def invite_colleague(context: Context, body: managing.AccountEntry) -> managing.Invited:
    """Invite a colleague: a one-time address at which they choose their password."""
    return managing.invite(context.db, context.clock, context.actor, body)


@route("PUT", "/api/accounts/{account_id}", "manage", body=managing.AccountEntry)
def change_account(context: Context, account_id: str, body: managing.AccountEntry) -> Response:
    """Change a colleague's name or roles."""
    managing.change_account(context.db, context.actor, account_id, body)
    return _done()


@route("POST", "/api/accounts/{account_id}/off", "manage")
def switch_account_off(context: Context, account_id: str) -> Response:
    """Switch an account off; its sessions end at once."""
    managing.switch(context.db, context.clock, context.actor, account_id, on=False)
    return _done()


@route("POST", "/api/accounts/{account_id}/on", "manage")
def switch_account_on(context: Context, account_id: str) -> Response:
    """Switch an account on again."""
    managing.switch(context.db, context.clock, context.actor, account_id, on=True)
    return _done()


@route("POST", "/api/accounts/{account_id}/reset", "manage", returns=managing.Invited)
def reset_account(context: Context, account_id: str) -> managing.Invited:
    """Make a one-time address at which a new password is chosen."""
    return managing.reset(context.db, context.clock, context.actor, account_id)


@route("POST", "/api/accounts/{account_id}/lost-second", "manage")
def lose_second_factor(context: Context, account_id: str) -> Response:
    """Switch a colleague's second factor off: their telephone is lost."""
    own.lose_second(context.db, context.actor, account_id)
    return _done()


@route("GET", "/api/accounts/{account_id}/sessions", "manage", returns=tuple[own.SessionLine, ...])
def get_account_sessions(context: Context, account_id: str) -> tuple[own.SessionLine, ...]:
    """Where a colleague is signed in."""
    return own.sessions_of(context.db, context.clock, context.actor, account_id)


@route("DELETE", "/api/accounts/{account_id}/sessions", "manage")
def end_account_sessions(context: Context, account_id: str) -> Response:
    """End every session of a colleague."""
    own.end_all(context.db, context.actor, account_id)
    return _done()


@route("GET", "/api/accounts/{account_id}/competence", "manage", returns=tuple[competence.CompetenceView, ...])
def get_competence(context: Context, account_id: str) -> tuple[competence.CompetenceView, ...]:
    """What a colleague has shown that they can do, method by method."""
    return competence.list_competence(context.db, context.actor, account_id)


@route("POST", "/api/accounts/{account_id}/competence", "manage", body=competence.CompetenceEntry)
def enter_competence(context: Context, account_id: str, body: competence.CompetenceEntry) -> Response:
    """Put a colleague's competence in a method on file, or take it back."""
    competence.enter_competence(context.db, context.clock, context.actor, account_id, body)
    return _done()


@route("GET", "/api/account", "signed_in", returns=own.Own)
def get_own_account(context: Context) -> own.Own:
    """Your own account: where you are signed in, and your second factor."""
    return own.own(context.db, context.clock, context.actor, context.secret)


@route("POST", "/api/account/password", "signed_in", body=NewPassword)
def change_own_password(context: Context, body: NewPassword) -> Response:
    """Change your own password; your other sessions end."""
    own.change_password(context.db, context.clock, context.actor, body.old, body.new, context.secret)
    return _done()


@route("PUT", "/api/account/notice", "signed_in", body=notice.NoticeEntry)
def set_own_notice(context: Context, body: notice.NoticeEntry) -> Response:
    """Say where you are written to, and how often you are told by e-mail who is due."""
    notice.set_notice(context.db, context.actor, body)
    return _done()


@route("DELETE", "/api/account/sessions/{session_id}", "signed_in")
def end_own_session(context: Context, session_id: str) -> Response:
    """End one of your own sessions."""
    own.end_own_session(context.db, context.actor, session_id)
    return _done()


@route("POST", "/api/account/second", "signed_in", body=Password, returns=second.SecondStart)
def start_second_factor(context: Context, body: Password) -> second.SecondStart:
    """Begin with a second factor: a secret for your authenticator."""
    return second.start(context.db, context.clock, context.actor, body.password)


@route("POST", "/api/account/second/confirm", "signed_in", body=Code, returns=RecoveryCodes)
def confirm_second_factor(context: Context, body: Code) -> RecoveryCodes:
    """Switch the second factor on with a code of it."""
    return RecoveryCodes(second.confirm(context.db, context.clock, context.actor, body.code))


@route("POST", "/api/account/second/off", "signed_in", body=Password)
def switch_second_factor_off(context: Context, body: Password) -> Response:
    """Switch your second factor off."""
    confirm_password(context.db, context.clock, context.actor, body.password)
    second.switch_off(context.db, context.db.get_one(Account, context.actor.id))
    return _done()


@route("GET", "/api/join/{token}", "public", returns=own.Joining)
def get_joining(context: Context, token: str) -> own.Joining:
    """Whom a one-time address is for."""
    return own.who_joins(context.db, context.clock, token)


@route("POST", "/api/join/{token}", "public", body=Password)
def join(context: Context, token: str, body: Password) -> Response:
    """Choose your password at a one-time address; you are signed in."""
    account = own.join(context.db, context.clock, token, body.password)
    return let_in(context, open_session(context.db, context.clock, account, attempt(context, account.login)))
