"""The Flask application: turns routes into views, errors into one shape, and serves the built front end."""

from __future__ import annotations

import logging
import re
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from flask import Flask, Response, g, jsonify, request, send_from_directory
from sqlalchemy import Engine
from sqlalchemy.orm import Session
from werkzeug.exceptions import BadRequest

from moorfog.core.rules.book import Rules
from moorfog.platform.db.base import run_in_transaction
from moorfog.platform.db.clock import Clock, DatabaseClock
from moorfog.platform.log.deeds import Note, notes_of, write, write_seen
from moorfog.platform.log.ledger import Doing, say_doing
from moorfog.platform.log.summaries import VisitSummary
from moorfog.platform.log.tables import VisitHead
from moorfog.platform.web.actor import HEALTH_READERS, READERS, digest_of
from moorfog.platform.web.asked import watch_requests
from moorfog.platform.web.errors import DomainError
from moorfog.platform.web.faults import answer_error
from moorfog.platform.web.openapi import document
from moorfog.platform.web.routing import CLOSED_VISIT, ROUTES, RULE_ROLES, SAFE, Context, Follow, FollowDay, Route
from moorfog.rooms.accounts.session_routes import COOKIE, set_cookie
from moorfog.rooms.accounts.sessions import find_session, note_active
from moorfog.rooms.accounts.tokens import actor_for_token
from moorfog.rooms.bench.live import Hub, follow_visit, stream_response
from moorfog.rooms.bench.wearer import LASTS, visit_of_address
from moorfog.rooms.kit.links import instrument_for_token
from moorfog.rooms.people.tables import Person
from moorfog.rooms.today.day import Day
from moorfog.routes import ALL

HOSTS = ("127.0.0.1", "localhost", "[::1]")
"""Names under which the program may be asked for, where no others are given."""
log = logging.getLogger("moorfog")
security = logging.getLogger("moorfog.security")
SCREEN_COOKIE = "moorfog_screen"
"""Holds the secret of a wearer's screen, which an address opens for."""


def create_app(
    engine: Engine,
    rules: Rules,
    web: Path | None = None,
    clock: Clock | None = None,
    hosts: tuple[str, ...] = HOSTS,
) -> Flask:
    """Return the application on a database. ``web`` is the folder of the built front end, if it is served here;
    ``hosts`` are the names under which it is asked for, any other is refused."""
    assert ALL  # importing them has entered every route
    app = Flask("moorfog", static_folder=None)
    app.config["TRUSTED_HOSTS"] = list(hosts)
    moment = clock or DatabaseClock()
    hub, day = Hub(engine, moment), Day(engine)
    app.extensions["moorfog_hub"] = hub
    watch_requests(app)
    for one in ROUTES:
        rule = one.path.replace("{", "<").replace("}", ">")
        app.add_url_rule(rule, one.name, _view(one, engine, moment, rules, hub, day), methods=[one.method])
    app.register_error_handler(Exception, answer_error)
    _serve_pages(app, web)
    _secure(app)
    return app


def _read_query(one: Route, known: list[str]) -> Any:
    """Return what is asked for after the "?". A word nobody knows is refused: left out, it asks something else."""
    strange = sorted(set(request.args) - set(known))
    if strange:
        words = ", ".join(strange)
        raise DomainError("unknown_query", f"{words} cannot be asked for here; {', '.join(known) or 'nothing'} can.")
    return one.query.validate_python(request.args.to_dict()) if one.query else None


def _view(one: Route, engine: Engine, clock: Clock, rules: Rules, hub: Hub, day: Day) -> Any:
    known = list(one.query.json_schema()["properties"]) if one.query else []
    linked: set[str] = set()  # digests of tokens that this process has seen to be right: nobody else is read first

    def view(**path: str) -> Response:
        request.max_content_length = one.most
        hooks: list[Any] = []
        read: dict[str, Any] = {}
        if one.quick is not None and digest_of(_bearer()) in linked:
            read["body"] = _read_body(one)
            found = one.quick(engine, _bearer(), body=read["body"], **path)
            if found is not None:
                hub.nudge()
                return _json(one, found)

        def work(db: Session) -> Any:
            hooks.clear()
            context = _context(one, db, engine, clock, rules)
            by = context.signed_in.id if context.signed_in is not None else ""
            say_doing(db, Doing(by, one.name, clock))
            hooks.extend(context.after_commit)
            context.after_commit = hooks
            if context.link is not None and one.quick is not None:
                linked.add(digest_of(_bearer()))
            if "query" not in read:  # only now: who may not ask is not listened to
                read["query"] = _read_query(one, known)
            if "body" not in read:
                read["body"] = _read_body(one)
            given: dict[str, Any] = {**path}
            if one.body:
                given["body"] = read["body"]
            if one.query:
                given["query"] = read["query"]
            answer = one.handler(context, **given)
            if not isinstance(answer, DomainError):
                _journal(one, context, path)
            return answer

        result = run_in_transaction(engine, work)
        for hook in hooks:
            hook()
        if isinstance(result, (Follow, FollowDay)):
            token, secret = path.get("token", ""), request.cookies.get(COOKIE, "")
            may = _still_may(one, engine, clock, result, token)
            listen = (
                partial(follow_visit, hub, result) if isinstance(result, Follow) else partial(day.listen, result.scope)
            )
            return stream_response(hub.places, listen, may, digest_of(token or secret), request.remote_addr or "")
        if isinstance(result, Response):
            return result
        if isinstance(result, DomainError):
            raise result
        if one.returns is None:
            return Response(status=204)
        return _json(one, result)

    return view


def _journal(one: Route, context: Context, path: dict[str, str]) -> None:
    """Write down what was done or seen, with what the operation said of it: in the same transaction, last."""
    said, actor = notes_of(context.db), context.signed_in
    subject = next(iter(path.values()), "")
    if one.seen == CLOSED_VISIT and not _is_closed(context, subject):
        return  # a bench at work asks for its visit all the time
    if one.seen and actor is not None:
        write_seen(
            context.db,
            context.clock,
            actor.id,
            one.name,
            Note(one.seen, subject, _employer_of(context, one.seen, subject)),
        )
    elif said or (one.is_told and actor is not None):
        mine = actor.scope(*actor.roles()).employers if actor is not None else None
        at = next(iter(mine)) if mine is not None and len(mine) == 1 else ""
        for each in said or [Note("", subject, at)]:
            write(context.db, context.clock, actor.id if actor is not None else "", one.name, each)


def _is_closed(context: Context, visit_id: str) -> bool:
    row = context.db.get(VisitSummary, visit_id)
    return row is not None and row.closed != ""


def _employer_of(context: Context, kind: str, subject: str) -> str:
    """Return whose record was looked at."""
    table: Any = {"person": Person, "visit": VisitHead, CLOSED_VISIT: VisitHead}.get(kind)
    row = context.db.get(table, subject) if table is not None else None
    return row.employer_id if row is not None else ""


def _still_may(one: Route, engine: Engine, clock: Clock, what: Follow | FollowDay, token: str) -> Callable[[], bool]:
    """Return a question for a stream to ask while it goes on: may this browser still see what it follows?"""
    secret, address = request.cookies.get(COOKIE, ""), request.remote_addr or ""
    screen = g.get("screen", "")

    def ask(db: Session) -> bool:
        if isinstance(what, FollowDay):
            found = find_session(db, clock, secret, address) if secret else None
            return found is not None and found[0].scope(*READERS) == what.scope
        if one.rule == "wearer":
            try:
                desk = _at(db, clock, secret, address, "tester")
                return visit_of_address(db, clock, token, screen, desk)[0] == what.visit_id
            except DomainError:
                return False
        return _at(db, clock, secret, address, *HEALTH_READERS)(what.visit_id)

    return lambda: run_in_transaction(engine, ask)


def _at(db: Session, clock: Clock, secret: str, address: str, *roles: str) -> Callable[[str], bool]:
    """Return a question of a visit: is somebody with one of these roles for it signed in at this browser?"""

    def ask(visit_id: str) -> bool:
        found, head = (find_session(db, clock, secret, address) if secret else None), db.get(VisitHead, visit_id)
        return found is not None and head is not None and found[0].scope(*roles).allows(head.employer_id)

    return ask


def _json(one: Route, result: Any) -> Response:
    """Return an answer in the shape its route promises."""
    assert one.returns is not None
    content = one.returns.dump_json(result)
    return Response(content, mimetype="application/json", headers={"Cache-Control": "no-store"})


def _bearer() -> str:
    """Return the token a link sends, empty where there is none."""
    kind, _, token = request.headers.get("Authorization", "").partition(" ")
    return token if kind == "Bearer" else ""


def _read_body(one: Route) -> Any:
    if one.body is None:
        return None
    if request.mimetype != "application/json":
        raise DomainError(
            "not_json", f"The body is {request.mimetype or 'of no type'}; application/json is expected.", status=415
        )
    return one.body.validate_json(request.get_data())


def _context(one: Route, db: Session, engine: Engine, clock: Clock, rules: Rules) -> Context:
    secret = request.cookies.get(COOKIE, "")
    context = Context(
        db=db,
        engine=engine,
        clock=clock,
        rules=rules,
        signed_in=None,
        csrf="",
        address=request.remote_addr or "",
        secret=secret,
        link=None,
        after_commit=[],
        where=request.host_url,
    )
    if one.rule == "link":
        context.link = instrument_for_token(db, _bearer())
        return context
    if one.rule == "wearer":
        known = request.cookies.get(SCREEN_COOKIE, "")
        token = (request.view_args or {}).get("token", "")
        desk = _at(db, clock, secret, context.address, "tester")
        context.visit_id, g.screen = visit_of_address(db, clock, token, known, desk)
        return context
    found = find_session(db, clock, secret, context.address, _idle_s(one)) if secret else None
    if found is not None:
        context.signed_in, context.csrf = found.actor, found.csrf
        if found.active_at is not None:
            context.after_commit.append(partial(note_active, engine, secret, found.active_at))
    if one.rule == "public":
        return context
    if found is None and one.takes_token and (token := _bearer()):
        context.signed_in = actor_for_token(db, clock, token, to_write=one.by_token)
        if context.signed_in is None:
            raise DomainError(
                "wrong_token", "This token does not count, or counts no more. Ask for a new one.", status=401
            )
        return context
    if found is None:
        raise DomainError(
            "sign_in_needed", "You are not signed in, or the sign-in has run out. Sign in again.", status=401
        )
    if request.method not in SAFE and request.headers.get("X-Moorfog-Token") != context.csrf:
        raise DomainError(
            "token_missing", "The page's token is missing or old. Reload the page and try again.", status=403
        )
    if one.rule in RULE_ROLES:
        context.actor.require(*RULE_ROLES[one.rule])
    return context


def _idle_s(one: Route) -> float | None:
    """Return for how long nobody has pressed or touched anything at this page, as it says itself.

    Who says nothing does something now; a stream says nothing and is nobody's doing.
    """
    if one.media == "text/event-stream":
        return None
    said = request.headers.get("X-Moorfog-Idle", "0")
    return min(float(said), 86_400.0) if re.fullmatch(r"\d{1,9}(\.\d+)?", said) else None


def _serve_pages(app: Flask, web: Path | None) -> None:
    @app.get("/api/openapi.json")
    def openapi() -> Response:
        return jsonify(document())

    @app.get("/", defaults={"path": ""})
    @app.get("/<path:path>")
    def pages(path: str) -> Any:
        if path.startswith("api/"):
            return jsonify(
                code="not_found",
                message="There is nothing at this address. See /docs/ for the addresses there are.",
                detail={},
            ), 404
        if web is None:
            return Response("The front end is not built.", status=404, mimetype="text/plain")
        if path in ("docs", "docs/"):
            return send_from_directory(web, "docs.html")
        is_hidden = any(part.startswith(".") for part in path.split("/"))
        if path and not is_hidden and (web / path).is_file():
            response = send_from_directory(web, path)
            if path.startswith("assets/"):
                response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
            return response
        response = send_from_directory(web, "index.html")
        response.headers["Cache-Control"] = "no-cache"
        return response


POLICY = "; ".join(
    (
        "default-src 'self'",
        "style-src 'self' 'unsafe-inline'",
        "img-src 'self' data: blob:",
        "object-src 'none'",
        "base-uri 'none'",
        "form-action 'self'",
        "frame-ancestors 'none'",
    )
)
"""Styles in elements are let through: drawings place their marks with them."""
HEADERS = {
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
    "X-Frame-Options": "DENY",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Permissions-Policy": "camera=(), microphone=(), geolocation=(), usb=(), payment=()",
    "Content-Security-Policy": POLICY,
}
TLS_ONLY = "max-age=31536000"


def _secure(app: Flask) -> None:
    @app.before_request
    def only_by_a_name() -> None:
        """Refuse what does not say by which name it asks (RFC 9112, 3.2): the server would put one of its own there."""
        if not request.environ.get("HTTP_HOST"):
            raise BadRequest("no Host")

    @app.before_request
    def only_from_our_own_pages() -> None:
        """Refuse what a page of another site has this browser send; a link sends no origin."""
        origin = request.headers.get("Origin")
        if origin and request.method not in SAFE and urlsplit(origin).netloc != request.host:
            security.warning("refused a %s from a page of another site", request.method)
            raise DomainError("foreign_page", "This was sent by a page of another site; it is refused.", status=403)

    @app.after_request
    def headers(response: Response) -> Response:
        for name, value in HEADERS.items():
            if name != "Content-Security-Policy" or response.mimetype != "application/pdf":
                response.headers.setdefault(name, value)
        if request.path.startswith("/api/"):
            response.headers.setdefault("Cache-Control", "no-store")
        screen = g.get("screen", "")
        if screen and screen != request.cookies.get(SCREEN_COOKIE):
            set_cookie(response, SCREEN_COOKIE, screen, LASTS, "/api/wearer")
        if app.config.get("SESSION_COOKIE_SECURE"):
            response.headers.setdefault("Strict-Transport-Security", TLS_ONLY)
        return response
