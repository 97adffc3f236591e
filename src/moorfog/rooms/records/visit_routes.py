"""Exports of a visit."""

from __future__ import annotations

from flask import Response

from moorfog.platform.web.routing import Context, plain, route
from moorfog.rooms.records import exports


@route("GET", "/api/visits/{visit_id}/record.json", "health", media="application/json; charset=utf-8", seen="visit")
def export_record(context: Context, visit_id: str) -> Response:
    """The open record: events, readings, pinned rules, verdict; `moorfog recompute` computes it again."""
    return _file(exports.export_record(context.db, context.actor, visit_id), visit_id, "record.json")


@route("GET", "/api/visits/{visit_id}/readings.csv", "read", media="text/csv", seen="visit")
def export_readings(context: Context, visit_id: str) -> Response:
    """Every reading of the visit's runs."""
    return _file(exports.export_readings(context.db, context.actor, visit_id), visit_id, "readings.csv")


@route("GET", "/api/visits/{visit_id}/results.csv", "read", media="text/csv", seen="visit")
def export_results(context: Context, visit_id: str) -> Response:
    """The tries of the visit with their exercises."""
    return _file(exports.export_results(context.db, context.actor, visit_id), visit_id, "results.csv")


def _file(content: bytes | str, visit_id: str, name: str) -> Response:
    kind = "application/json" if name.endswith("json") else "text/csv"
    attachment = f'attachment; filename="moorfog-{visit_id[-12:]}-{name}"'
    return plain(content, kind, **{"Content-Disposition": attachment})
