"""Putting something on a person's file."""

from __future__ import annotations

from flask import Response

from moorfog.platform.web.answers import Made
from moorfog.platform.web.fields import Withdrawal
from moorfog.platform.web.routing import Context, route
from moorfog.rooms.bench import filing
from moorfog.rooms.people import people
from moorfog.rooms.wear import reporting


@route("POST", "/api/people/{person_id}/reports", "read", body=reporting.ReportEntry, returns=Made, is_told=True)
def report_change(context: Context, person_id: str, body: reporting.ReportEntry) -> Made:
    """Say that a face, health, a facepiece or the work has changed, or that it fits no more."""
    return Made(filing.file_report(context.db, context.clock, context.actor, person_id, body))


@route("POST", "/api/reports/{report_id}/withdrawal", "manage", body=Withdrawal)
def withdraw_report(context: Context, report_id: str, body: Withdrawal) -> Response:
    """Take back a report of change that was wrong, with the reason."""
    filing.take_back_report(context.db, context.clock, context.actor, report_id, body.why)
    return Response(status=204)


@route("POST", "/api/people/{person_id}/clearance", "kit", body=people.ClearanceEntry, by_token=True)
def record_clearance(context: Context, person_id: str, body: people.ClearanceEntry) -> Response:
    """Put a medical clearance on file: status, limits, dates, by whom; never a diagnosis."""
    filing.file_clearance(context.db, context.clock, context.actor, person_id, body)
    return Response(status=204)


@route("POST", "/api/people/{person_id}/training", "kit", body=people.TrainingEntry, by_token=True)
def record_training(context: Context, person_id: str, body: people.TrainingEntry) -> Response:
    """Put a training on file."""
    filing.file_training(context.db, context.clock, context.actor, person_id, body)
    return Response(status=204)
