"""Routes as data: method, path, who may use it, what goes in and out. Flask views and OpenAPI both come from here.

Why not a ready framework for this: the bodies are the core's own frozen dataclasses, and a route without a rule
about who may use it must not exist; with the rule a required argument, it cannot.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

from flask import Response
from pydantic import TypeAdapter
from sqlalchemy import Engine
from sqlalchemy.orm import Session

from moorfog.core.rules.book import Rules
from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import Scope
from moorfog.platform.web.actor import HEALTH_READERS, READERS, Actor

Rule = Literal["public", "signed_in", "read", "health", "test", "kit", "manage", "supervise", "link", "wearer"]
RULE_ROLES: dict[str, tuple[str, ...]] = {
    "read": READERS,
    "health": HEALTH_READERS,
    "test": ("tester",),
    "kit": ("tester", "administrator"),
    "manage": ("administrator",),
    "supervise": ("supervisor", "administrator"),
}


@dataclass
class Context:
    """What a handler gets: an open transaction, the clock, who is asking."""

    db: Session
    engine: Engine
    clock: Clock
    rules: Rules
    signed_in: Actor | None
    csrf: str
    address: str
    secret: str
    link: Linked | None
    after_commit: list[Callable[[], None]]
    visit_id: str = ""
    """The visit of the wearer's address, where the route's rule is "wearer"."""
    where: str = ""
    """The address by which this installation was asked, for what is printed."""

    @property
    def actor(self) -> Actor:
        """The signed-in account; the route's rule has made sure there is one."""
        if self.signed_in is None:
            raise RuntimeError("this route needs a rule that signs in")
        return self.signed_in

    @property
    def counter(self) -> Linked:
        """The counter the link's token is for."""
        if self.link is None:
            raise RuntimeError("this route needs the rule 'link'")
        return self.link


TOLD = ("kit", "manage", "supervise")
SAFE = ("GET", "HEAD", "OPTIONS")
Quick = Callable[..., Any]
SMALL, READINGS, LIST, FILE = 32 * 1024, 1024 * 1024, 4 * 1024 * 1024, 16 * 1024 * 1024
"""Bytes of a body: what somebody types; readings of a run; a catalogue or a protocol; a roster as base64."""


@dataclass(frozen=True)
class Route:
    """One route. ``returns`` None means that the handler answers with a Response of its own."""

    method: str
    path: str
    name: str
    rule: Rule
    group: str
    summary: str
    body: TypeAdapter[Any] | None
    query: TypeAdapter[Any] | None
    returns: TypeAdapter[Any] | None
    media: str
    also: tuple[str, ...]
    """Other media that the question may ask for instead."""
    handler: Callable[..., Any]
    most: int
    """Bytes of a body at the most."""
    seen: str = ""
    """The kind of record that is looked at here or taken away, which the journal has; empty where there is none."""
    is_told: bool = False
    """Whether the journal has what is done here: what administrators and testers change, not presses at the bench."""
    by_token: bool = False
    """Whether another program does this by a token that writes."""
    quick: Quick | None = None
    """A way to answer a link in one question, tried first: engine, token, body. None where it cannot."""

    @property
    def takes_token(self) -> bool:
        """Whether another program may do this by a token: all reading, and what is marked."""
        return self.by_token or (self.rule == "read" and self.method == "GET")


@dataclass(frozen=True)
class Follow:
    """The answer of a route that streams a visit."""

    visit_id: str
    for_wearer: bool = False


@dataclass(frozen=True)
class FollowDay:
    """The answer of a route that streams the news of the day to a page, of the employers it may see."""

    scope: Scope


CLOSED_VISIT = "closed visit"
"""What is looked at where a visit counts as seen once it is closed, and not while it is worked at."""
MESSAGES: list[type] = []
"""What a stream tells besides whole answers; each room enters its own, so that they are documented."""
ROUTES: list[Route] = []
Handler = Callable[..., Any]


def route(
    method: str,
    path: str,
    rule: Rule,
    *,
    body: Any = None,
    query: Any = None,
    returns: Any = None,
    media: str = "application/json",
    also: tuple[str, ...] = (),
    quick: Quick | None = None,
    most: int = SMALL,
    seen: str = "",
    is_told: bool | None = None,
    by_token: bool = False,
) -> Callable[[Handler], Handler]:
    """Register a handler. Its docstring's first line is the summary; the room it lies in the group."""

    def register(handler: Handler) -> Handler:
        summary = (handler.__doc__ or "").strip().splitlines()[0]
        group = handler.__module__.split(".")[-2]
        taken, asked, given = (TypeAdapter(one) if one is not None else None for one in (body, query, returns))
        ROUTES.append(
            Route(
                method=method,
                path=path,
                name=handler.__name__,
                rule=rule,
                group=group,
                summary=summary,
                body=taken,
                query=asked,
                returns=given,
                media=media,
                also=also,
                handler=handler,
                most=most,
                seen=seen,
                is_told=is_told if is_told is not None else method not in SAFE and rule in TOLD,
                quick=quick,
                by_token=by_token,
            )
        )
        return handler

    return register


def plain(content: bytes | str, media: str, **headers: str) -> Response:
    """Return a response that is not JSON."""
    response = Response(content, mimetype=media)
    response.headers.update(headers)
    return response


@dataclass(frozen=True)
class Linked:
    """The instrument a link speaks for."""

    id: str
    name: str
