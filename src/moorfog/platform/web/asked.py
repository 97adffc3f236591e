"""Every request has a number of its own: whoever is told that something went wrong can name it, and the log has it.

A line is logged of what changed something, went wrong or took long; never what was asked for or answered.
"""

from __future__ import annotations

import logging
import secrets
import time

from flask import Flask, Response, g, request
from structlog.contextvars import bind_contextvars, clear_contextvars

SLOW_MS = 1000
QUIET = ("GET", "HEAD", "OPTIONS")
OFTEN = "/api/link/"
"""Links send readings many times a second; only what goes wrong there is worth a line."""
HEADER = "X-Request-Id"
log = logging.getLogger("moorfog.asked")


def request_number() -> str:
    """Return the number of the request that is answered."""
    return str(g.get("number", ""))


def watch_requests(app: Flask) -> None:
    """Number the requests of an application, and log what is worth it."""

    @app.before_request
    def begin() -> None:
        g.number, g.asked_at = secrets.token_hex(5), time.perf_counter()
        clear_contextvars()
        bind_contextvars(request=g.number)

    @app.after_request
    def end(response: Response) -> Response:
        if "asked_at" not in g:
            return response  # refused before it was begun
        response.headers[HEADER] = g.number
        ms = round((time.perf_counter() - g.asked_at) * 1000)
        is_change = request.method not in QUIET and not request.path.startswith(OFTEN)
        if is_change or response.status_code >= 500 or ms > SLOW_MS:
            route = request.url_rule.rule if request.url_rule is not None else ""
            said = {"method": request.method, "route": route, "status": response.status_code, "ms": ms}
            log.log(logging.ERROR if response.status_code >= 500 else logging.INFO, "answered", extra=said)
        return response
