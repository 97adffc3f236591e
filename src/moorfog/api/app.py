"""The Flask application: turns routes into views, errors into one shape, and serves the built front end."""

from __future__ import annotations

import logging
from pathlib import Path
from typing import Any

from flask import Flask, Response, jsonify, request, send_from_directory
from pydantic import ValidationError
from sqlalchemy import Engine
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session
from werkzeug.exceptions import HTTPException

from moorfog.api import bench, kit, link, people, session, sites, solutions, system, wearer  # noqa: F401  (routes)
from moorfog.api.live import Hub, stream_response
from moorfog.api.openapi import document
from moorfog.api.routing import ROUTES, RULE_ROLES, Context, Follow, Route
from moorfog.core.rules.book import Rules
from moorfog.operations.accounts.sessions import find_session
from moorfog.operations.bench.wearer import visit_of_address
from moorfog.operations.errors import DomainError
from moorfog.operations.kit.links import instrument_for_token
from moorfog.store.base import RETRY_CODES, Clock, DatabaseClock, error_code, run_in_transaction

COOKIE = "moorfog_session"
MAX_BODY = 12 * 1024 * 1024
log = logging.getLogger("moorfog")


def create_app(engine: Engine, rules: Rules, web: Path | None = None, clock: Clock | None = None) -> Flask:
    """Return the application on a database. ``web`` is the folder of the built front end, if it is served here."""
    app = Flask("moorfog", static_folder=None)
    app.config["MAX_CONTENT_LENGTH"] = MAX_BODY
    moment = clock or DatabaseClock()
    hub = Hub(engine, moment)
    app.extensions["moorfog_hub"] = hub
    for one in ROUTES:
        rule = one.path.replace("{", "<").replace("}", ">")
        app.add_url_rule(rule, one.name, _view(one, engine, moment, rules, hub), methods=[one.method])
    app.register_error_handler(Exception, _answer_error)
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


def _view(one: Route, engine: Engine, clock: Clock, rules: Rules, hub: Hub) -> Any:
    known = list(one.query.json_schema()["properties"]) if one.query else []

    def view(**path: str) -> Response:
        body = _read_body(one)
        query = _read_query(one, known)
        hooks: list[Any] = []
        if one.quick is not None:
            found = one.quick(engine, _bearer(), body=body, **path)
            if found is not None:
                hub.nudge()
                return _json(one, found)

        def work(db: Session) -> Any:
            hooks.clear()
            context = _context(one, db, engine, clock, rules)
            context.after_commit = hooks
            given: dict[str, Any] = {**path}
            if one.body:
                given["body"] = body
            if one.query:
                given["query"] = query
            return one.handler(context, **given)

        result = run_in_transaction(engine, work)
        for hook in hooks:
            hook()
        if isinstance(result, Follow):
            return stream_response(hub, result)
        if isinstance(result, Response):
            return result
        if isinstance(result, DomainError):
            raise result
        if one.returns is None:
            return Response(status=204)
        return _json(one, result)

    return view


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
    )
    if one.rule == "link":
        context.link = instrument_for_token(db, _bearer())
        return context
    if one.rule == "wearer":
        context.visit_id = visit_of_address(db, clock, (request.view_args or {}).get("token", ""))
        return context
    found = find_session(db, clock, secret) if secret else None
    if found is not None:
        context.signed_in, context.csrf = found
    if one.rule == "public":
        return context
    if found is None:
        raise DomainError(
            "sign_in_needed", "You are not signed in, or the sign-in has run out. Sign in again.", status=401
        )
    if request.method not in ("GET", "HEAD") and request.headers.get("X-Moorfog-Token") != context.csrf:
        raise DomainError(
            "token_missing", "The page's token is missing or old. Reload the page and try again.", status=403
        )
    if one.rule in RULE_ROLES:
        context.actor.require(*RULE_ROLES[one.rule])
    return context


def _answer_error(error: Exception) -> tuple[Response, int]:
    if isinstance(error, DomainError):
        return jsonify(code=error.code, message=error.message, detail=error.detail), error.status
    if isinstance(error, ValidationError):
        return _answer_validation(error)
    if isinstance(error, HTTPException):
        words = {
            404: "There is nothing at this address. Check it, or go back to Today.",
            405: "This address cannot be used that way.",
            413: "The body is larger than 12 MB. Send less at once.",
        }
        return jsonify(
            code=(error.name or "error").lower().replace(" ", "_"),
            message=words.get(error.code or 0, error.description or ""),
            detail={},
        ), error.code or 500
    if isinstance(error, DBAPIError) and error_code(error) in RETRY_CODES:
        log.exception("database")
        return jsonify(
            code="database_away",
            message="The database does not answer. What you pressed is kept in this page and sent again.",
            detail={},
        ), 503
    log.exception("unexpected")
    return jsonify(
        code="unexpected",
        message="Something went wrong here; nothing was stored. Try again; if it stays, look into the server's log.",
        detail={},
    ), 500


def _answer_validation(error: ValidationError) -> tuple[Response, int]:
    first = error.errors(include_url=False, include_context=False)[0]
    if first["type"] == "json_invalid":
        return jsonify(
            code="not_json", message=f"The body is not JSON: {first['msg']}. Send one JSON object.", detail={}
        ), 400
    spots = [
        {"where": ".".join(map(str, one["loc"])), "problem": one["msg"]}
        for one in error.errors(include_url=False, include_context=False, include_input=False)[:10]
    ]
    message = f"{spots[0]['where'] or 'body'}: {spots[0]['problem']}. Nothing was stored; correct it and send again."
    return jsonify(code="bad_body", message=message, detail={"errors": spots}), 422


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
        if path and (web / path).is_file():
            response = send_from_directory(web, path)
            if path.startswith("assets/"):
                response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
            return response
        response = send_from_directory(web, "index.html")
        response.headers["Cache-Control"] = "no-cache"
        return response


def _secure(app: Flask) -> None:
    @app.after_request
    def headers(response: Response) -> Response:
        response.headers.setdefault("X-Content-Type-Options", "nosniff")
        response.headers.setdefault("Referrer-Policy", "same-origin")
        response.headers.setdefault("X-Frame-Options", "DENY")
        response.headers.setdefault(
            "Content-Security-Policy",
            "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; frame-ancestors 'none'",
        )
        return response
