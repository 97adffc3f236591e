"""Signing in and out."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import timedelta

from flask import Response, current_app, request
from pydantic import ConfigDict, TypeAdapter

from moorfog.platform.log.deeds import Note, write
from moorfog.platform.mail import is_on
from moorfog.platform.web.errors import DomainError
from moorfog.platform.web.routing import Context, plain, route
from moorfog.rooms.accounts import second, sessions

COOKIE, BROWSER_COOKIE = "moorfog_session", "moorfog_browser"
"""Of a session; and by which a browser is known where somebody has signed in before."""


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
    tried = replace(attempt(context, body.login), password=body.password, code=body.code)
    done = sessions.sign_in(context.db, context.clock, tried, second.passes)
    return done if isinstance(done, DomainError) else let_in(context, done)


def attempt(context: Context, login: str) -> sessions.Attempt:
    """Return somebody at the door, without a password, and what their browser says."""
    return sessions.Attempt(
        login=login,
        password="",
        address=context.address,
        agent=request.headers.get("User-Agent", ""),
        browser=request.cookies.get(BROWSER_COOKIE, ""),
    )


def let_in(context: Context, done: sessions.SignedIn) -> Response:
    """Answer with the cookies of session and browser, and who is signed in; the journal has it."""
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
    set_cookie(response, COOKIE, done.secret, timedelta(hours=sessions.SESSION_HOURS))
    set_cookie(response, BROWSER_COOKIE, done.browser, sessions.KNOWN_FOR)
    return response


def set_cookie(response: Response, name: str, value: str, lasts: timedelta, path: str = "/") -> None:
    """Give a browser a cookie that no script and no other site gets."""
    response.set_cookie(
        name,
        value,
        max_age=lasts,
        path=path,
        httponly=True,
        samesite="Strict",
        secure=request.is_secure or bool(current_app.config.get("SESSION_COOKIE_SECURE")),
    )


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
