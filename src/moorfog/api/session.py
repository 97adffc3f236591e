"""Signing in and out."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Response, current_app, request
from pydantic import ConfigDict, TypeAdapter

from moorfog.api.routing import Context, plain, route
from moorfog.operations.accounts import sessions
from moorfog.operations.errors import DomainError

COOKIE = "moorfog_session"


@dataclass(frozen=True)
class SignIn:
    """Name and password."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    login: str
    password: str


@dataclass(frozen=True)
class SessionView:
    """Who is signed in, with which roles, and the token every change must carry in X-Moorfog-Token."""

    account_id: str
    name: str
    login: str
    roles: tuple[str, ...]
    token: str


_out = TypeAdapter(SessionView)


@route("POST", "/api/session", "public", body=SignIn, returns=SessionView, most=4 * 1024)
def sign_in(context: Context, body: SignIn) -> Response | DomainError:
    """Sign in; sets the session's cookie."""
    done = sessions.sign_in(context.db, context.clock, body.login, body.password, context.address)
    if isinstance(done, DomainError):
        return done
    view = SessionView(
        account_id=done.actor.id,
        name=done.actor.name,
        login=done.actor.login,
        roles=done.actor.roles(),
        token=done.csrf,
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
    return SessionView(account_id=actor.id, name=actor.name, login=actor.login, roles=actor.roles(), token=context.csrf)


@route("DELETE", "/api/session", "signed_in")
def sign_out(context: Context) -> Response:
    """Sign out."""
    sessions.sign_out(context.db, context.secret)
    response = Response(status=204)
    response.delete_cookie(COOKIE)
    return response
