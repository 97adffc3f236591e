"""One OpenAPI document, out of the routes."""

from __future__ import annotations

import re
from functools import cache
from typing import Any

from pydantic import TypeAdapter
from pydantic.dataclasses import dataclass

from moorfog import __version__
from moorfog.platform.web.routing import MESSAGES, ROUTES, SAFE, Route

REF = "#/components/schemas/{model}"
RULE_WORDS = {
    "public": "open to everybody",
    "signed_in": "any signed-in account",
    "read": "tester, administrator or supervisor",
    "health": "tester or administrator",
    "test": "tester",
    "kit": "tester or administrator",
    "manage": "administrator",
    "supervise": "supervisor or administrator",
    "link": "a counter's link, by bearer token",
    "wearer": "whoever has the wearer's address",
}
SECURITY = {
    "session": {
        "type": "apiKey",
        "in": "cookie",
        "name": "moorfog_session",
        "description": "Of POST /api/session; it ends by itself.",
    },
    "page": {
        "type": "apiKey",
        "in": "header",
        "name": "X-Moorfog-Token",
        "description": "The session's `token`, with every change: another site's page does not have it.",
    },
    "token": {
        "type": "http",
        "scheme": "bearer",
        "description": "Made on the administrator's page; reads what a supervisor of its employer may read, "
        "and enters people and their papers where it was made to.",
    },
    "link": {"type": "http", "scheme": "bearer", "description": "The token of an instrument's link."},
}
"""What lets somebody in."""


@dataclass
class ErrorBody:
    """The one shape of every error."""

    code: str
    message: str
    detail: dict[str, Any]


@cache
def document() -> dict[str, Any]:
    """Return the OpenAPI 3.1 document of all routes."""
    adapters: list[tuple[str, Any, TypeAdapter[Any]]] = [("error", "serialization", TypeAdapter(ErrorBody))]
    for one in ROUTES:
        if one.body:
            adapters.append((f"{one.name}:in", "validation", one.body))
        if one.returns:
            adapters.append((f"{one.name}:out", "serialization", one.returns))
    adapters += [(f"message:{one.__name__}", "serialization", TypeAdapter(one)) for one in MESSAGES]
    schemas, definitions = TypeAdapter.json_schemas(adapters, ref_template=REF)
    paths: dict[str, dict[str, Any]] = {}
    error = {"description": "error", "content": {"application/json": {"schema": schemas[("error", "serialization")]}}}
    for one in sorted(ROUTES, key=lambda r: (r.path, r.method)):
        operation: dict[str, Any] = {
            "operationId": one.name,
            "tags": [one.group],
            "summary": one.summary,
            "description": f"{(one.handler.__doc__ or '').strip()}\n\nFor: {RULE_WORDS[one.rule]}.",
            "parameters": [
                {"name": name, "in": "path", "required": True, "schema": {"type": "string"}}
                for name in re.findall(r"\{(?:\w+:)?(\w+)\}", one.path)
            ],
            "responses": {
                "200" if one.returns or one.media != "application/json" else "204": {"description": "done"},
                "default": error,
            },
        }
        if one.query:
            schema = one.query.json_schema()
            for name, inner in schema["properties"].items():
                operation["parameters"].append(
                    {"name": name, "in": "query", "required": name in schema.get("required", []), "schema": inner}
                )
        if one.body:
            operation["requestBody"] = {
                "required": True,
                "content": {"application/json": {"schema": schemas[(f"{one.name}:in", "validation")]}},
            }
        if one.returns:
            operation["responses"]["200"]["content"] = {
                "application/json": {"schema": schemas[(f"{one.name}:out", "serialization")]}
            }
        elif one.media != "application/json":
            operation["responses"]["200"]["content"] = {
                media: {"schema": {} if "json" in media else {"type": "string"}} for media in (one.media, *one.also)
            }
        operation["security"] = _security(one)
        paths.setdefault(one.path, {})[one.method.lower()] = operation
    return {
        "openapi": "3.1.0",
        "info": {
            "title": "Moorfog",
            "version": __version__,
            "description": "Respiratory fit testing. Every error has the shape {code, message, detail}.",
        },
        "paths": paths,
        "components": {"schemas": definitions.get("$defs", {}), "securitySchemes": SECURITY},
    }


def _security(one: Route) -> list[dict[str, list[str]]]:
    """Return what lets somebody use a route: any of these, and each whole."""
    if one.rule in ("public", "wearer"):
        return [{}]
    if one.rule == "link":
        return [{"link": []}]
    signed_in: dict[str, list[str]] = {"session": []}
    if one.method not in SAFE:
        signed_in["page"] = []
    return [signed_in, {"token": []}] if one.takes_token else [signed_in]
