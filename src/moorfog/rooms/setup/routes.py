"""Setting up: the first administrator by a one-time code, and what is missing before the first test."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Response
from pydantic import ConfigDict

from moorfog.platform.web.errors import DomainError
from moorfog.platform.web.fields import Line
from moorfog.platform.web.routing import Context, route
from moorfog.rooms.accounts.session_routes import attempt, let_in
from moorfog.rooms.setup import setup


@dataclass(frozen=True)
class OrganisationEntry:
    """Whose installation it is, and whether there is no instrument here."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    name: Line
    by_senses_only: bool


@route("GET", "/api/setup", "public", returns=setup.SetupState)
def get_setup(context: Context) -> setup.SetupState:
    """Whether this installation waits to be set up."""
    return setup.setup_state(context.db)


@route("POST", "/api/setup", "public", body=setup.SetupEntry, most=8 * 1024)
def set_up(context: Context, body: setup.SetupEntry) -> Response | DomainError:
    """Set up an empty installation with the code its terminal shows; you are signed in as its administrator."""
    tried = attempt(context, body.login)
    done = setup.set_up(context.db, context.clock, body, tried)
    return done if isinstance(done, DomainError) else let_in(context, done)


@route("GET", "/api/setup/missing", "manage", returns=setup.Missing)
def get_missing(context: Context) -> setup.Missing:
    """What is still missing before the first test."""
    return setup.missing(context.db, context.clock, context.actor)


@route("PUT", "/api/organisation", "manage", body=OrganisationEntry)
def change_organisation(context: Context, body: OrganisationEntry) -> Response:
    """Say whose installation it is, and whether there is no instrument here."""
    setup.change_organisation(context.db, context.clock, context.actor, body.name, by_senses_only=body.by_senses_only)
    return Response(status=204)
