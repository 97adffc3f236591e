"""Signing in and out."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Response, current_app, request
from pydantic import ConfigDict, TypeAdapter

from moorfog.api.mails import is_on
from moorfog.api.routing import Context, plain, route
from moorfog.operations.accounts import second, sessions
from moorfog.operations.accounts.journal import Note, write
from moorfog.operations.errors import DomainError

COOKIE = "moorfog_session"


@dataclass(frozen=True)
class SignIn:
    """Name and password."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    login: str
    password: str
    code: str = ""
    """Of the second factor, where the account has one; or a recovery code."""


@dataclass(frozen=True)
class SessionView:
    """Who is signed in, with which roles, and the token every change must carry in X-Moorfog-Token."""

    account_id: str
    name: str
    login: str
    roles: tuple[str, ...]
    token: str
    has_mail: bool
    """Whether papers and invitations can go out by e-mail here."""


_out = TypeAdapter(SessionView)


@route("POST", "/api/session", "public", body=SignIn, returns=SessionView, most=4 * 1024)
def sign_in(context: Context, body: SignIn) -> Response | DomainError:
    """Sign in; sets the session's cookie."""
    tried = sessions.Attempt(
        login=body.login, password=body.password, code=body.code, address=context.address, agent=agent()
    )
    done = sessions.sign_in(context.db, context.clock, tried, second.passes)
    return done if isinstance(done, DomainError) else let_in(context, done)


def agent() -> str:
    """Return what a browser says it is."""
    return request.headers.get("User-Agent", "")


def let_in(context: Context, done: sessions.SignedIn) -> Response:
    """Answer with the session's cookie, and who is signed in; the journal has it."""
    write(context.db, context.clock, done.actor.id, "signed_in", Note("account", done.actor.id))
    view = SessionView(
        account_id=done.actor.id,
        name=done.actor.name,
        login=done.actor.login,
        roles=done.actor.roles(),
        token=done.csrf,
        has_mail=is_on(),
    )
    response = plain(_out.dump_json(view), "application/json")
    response.set_cookie(
        COOKIE,
        done.secret,
        max_age=sessions.SESSION_HOURS * 3600,
        httponly=True,
        samesite="Strict",
        secure=request.is_secure or bool(current_app.config.get("SESSION_COOKIE_SECURE")),
    )
    return response


@route("GET", "/api/session", "signed_in", returns=SessionView)
def who_am_i(context: Context) -> SessionView:
    """Tell who is signed in."""
    actor = context.actor
    return SessionView(
        account_id=actor.id,
        name=actor.name,
        login=actor.login,
        roles=actor.roles(),
        token=context.csrf,
        has_mail=is_on(),
    )


@route("DELETE", "/api/session", "signed_in")
def sign_out(context: Context) -> Response:
    """Sign out."""
    sessions.sign_out(context.db, context.secret)
    response = Response(status=204)
    response.delete_cookie(COOKIE)
    return response
