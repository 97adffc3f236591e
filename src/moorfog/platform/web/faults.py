"""Errors as answers: one shape for whatever went wrong, in words, with a code."""

from __future__ import annotations

import errno
import logging
import re

from flask import Response, jsonify, request
from pydantic import ValidationError
from sqlalchemy.exc import DBAPIError
from werkzeug.exceptions import HTTPException, MethodNotAllowed

from moorfog.platform.db.base import RETRY_CODES, error_code
from moorfog.platform.web.asked import request_number
from moorfog.platform.web.errors import DomainError

log = logging.getLogger("moorfog")
TOO_LONG = 1406
NO_ROOM = frozenset({3, 20, 1021, 1026, 1114})
"""The disk is full, or the table cannot grow."""
NO_WRITING = frozenset({1036, 1290, 1792, 1836})
"""The server only reads."""
BAD_VALUES = frozenset({TOO_LONG, 1264, 1292, 1366, 1367, 1411, 1690, 3140})
"""What the database says of a value it cannot store: too long, out of range, no date, no text, no JSON."""


def answer_error(error: Exception) -> tuple[Response, int]:
    """Return the answer to an error, whatever it is, and its status; what nobody expected is in the log."""
    if isinstance(error, DomainError):
        return jsonify(code=error.code, message=error.message, detail=error.detail), error.status
    if isinstance(error, ValidationError):
        return _answer_validation(error)
    if isinstance(error, HTTPException):
        return _answer_http(error)
    if isinstance(error, RecursionError):
        return _problem("too_deep", "This is nested too deep to be read. Send it flat.", 422)
    if isinstance(error, UnicodeError):
        return _problem("not_text", "There are signs in this that are no text. Take them out and send it again.", 422)
    if isinstance(error, DBAPIError) and error_code(error) in RETRY_CODES:
        log.exception("database")
        return _problem(
            "database_away", "The database does not answer. What you pressed is kept in this page and sent again.", 503
        )
    if isinstance(error, DBAPIError) and error_code(error) in NO_ROOM | NO_WRITING:
        log.error("the database takes nothing in: %s", error.orig)
        why = "has no room left on its disk" if error_code(error) in NO_ROOM else "takes nothing in: it only reads"
        return _problem(
            "database_full",
            f"The database {why}. What you pressed is kept in this page and sent again. "
            "Tell whoever looks after the program.",
            503,
        )
    if isinstance(error, DBAPIError) and error_code(error) in BAD_VALUES:
        return _answer_bad_value(error)
    if isinstance(error, MemoryError) or (isinstance(error, OSError) and error.errno == errno.ENOMEM):
        log.error("no memory for %s %s", request.method, request.path)
        words = "There is not enough memory for this here; nothing was stored. Try again when less goes on"
        return _problem("no_memory", f"{words}, or with less at once.", 503)
    log.exception("unexpected")
    words = "Something went wrong here; nothing was stored. Try again; if it stays, look into the server's log"
    return _problem("unexpected", f"{words} for {request_number()}.", 500)


def _problem(code: str, message: str, status: int) -> tuple[Response, int]:
    return jsonify(code=code, message=message, detail={}), status


def _answer_http(error: HTTPException) -> tuple[Response, int]:
    most = request.max_content_length or 0
    words = {
        404: "There is nothing at this address. Check it, or go back to Today.",
        405: "This address cannot be used that way.",
        413: f"The body is larger than {most // 1024} kB, the most that is taken here. Send less at once.",
    }
    code = (error.name or "error").lower().replace(" ", "_")
    response, status = _problem(code, words.get(error.code or 0, error.description or ""), error.code or 500)
    if isinstance(error, MethodNotAllowed) and error.valid_methods:
        response.headers["Allow"] = ", ".join(sorted(error.valid_methods))
    return response, status


def _answer_bad_value(error: DBAPIError) -> tuple[Response, int]:
    """Say of what the database could not store where it is; the columns are named as the fields are."""
    found = re.search(r"column '(?:[^']*\.)?([^'.]+)'", str(error.orig))
    where = found[1].replace("_", " ").replace("`", "") if found else "something"
    problem = "longer than can be stored" if error_code(error) == TOO_LONG else "no value that can be stored"
    return _problem("bad_value", f"{where}: {problem}. Nothing was stored; correct it and send again.", 422)


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
