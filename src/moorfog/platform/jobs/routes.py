"""Long jobs: how far one is, asking it to end, and the file it made."""

from __future__ import annotations

from flask import Response

from moorfog.platform.jobs import jobs
from moorfog.platform.web.routing import Context, plain, route


@route("GET", "/api/jobs/{job_id}/file", "read", media="application/octet-stream")
def get_job_file(context: Context, job_id: str) -> Response:
    """What a job of one's own made, for a day."""
    file = jobs.file_of(context.db, context.actor, job_id)
    return plain(file.content, file.media, **{"Content-Disposition": f'attachment; filename="{file.name}"'})


@route("GET", "/api/jobs/{job_id}", "read", returns=jobs.JobView)
def get_job(context: Context, job_id: str) -> jobs.JobView:
    """How far a job is."""
    return jobs.view_job(context.db, context.actor, job_id)


@route("POST", "/api/jobs/{job_id}/cancel", "read", returns=jobs.JobView)
def cancel_job(context: Context, job_id: str) -> jobs.JobView:
    """Ask a job to end; it says what it has left behind."""
    return jobs.cancel_job(context.db, context.actor, job_id)
