"""A person's page, their whole file, and erasing them."""

from __future__ import annotations

from flask import Response

from moorfog.platform.jobs import jobs
from moorfog.platform.web.queries import PageQuery
from moorfog.platform.web.routing import Context, plain, route
from moorfog.rooms.person import erasing, person_file
from moorfog.rooms.person import page as person


@route("GET", "/api/people/{person_id}", "read", query=PageQuery, returns=person.PersonView, seen="person")
def get_person(context: Context, person_id: str, query: PageQuery) -> person.PersonView:
    """A person: what they may wear until when, visits and tries."""
    return person.view_person(context.db, context.clock, context.actor, person_id, query.page)


@route("GET", "/api/people/{person_id}/file.zip", "manage", media="application/zip", seen="person")
def get_person_file(context: Context, person_id: str) -> Response:
    """A person's whole file: what is on file, every record and paper, and who looked at it."""
    content = person_file.person_file(context.db, context.actor, person_id)
    name = f'attachment; filename="moorfog-person-{person_id[-12:]}.zip"'
    return plain(content, "application/zip", **{"Content-Disposition": name})


@route("GET", "/api/people/{person_id}/erasure", "manage", returns=erasing.ErasureView)
def preview_erasure(context: Context, person_id: str) -> erasing.ErasureView:
    """What erasing a person would take away, and whether it can be done."""
    return erasing.preview_erasure(context.db, context.actor, person_id)


@route("POST", "/api/people/{person_id}/erasure", "manage", body=erasing.Erasure)
def erase_person(context: Context, person_id: str, body: erasing.Erasure) -> Response:
    """Erase a person's name, contact, papers and signatures; the logs keep ids and digests."""
    erasing.erase(context.db, context.clock, context.actor, person_id, body.why)
    return Response(status=204)


@route("GET", "/api/sites/{site_id}/erasures", "manage", query=PageQuery, returns=erasing.DueErasures)
def get_due_erasures(context: Context, site_id: str, query: PageQuery) -> erasing.DueErasures:
    """Who left a site longer ago than it keeps personal data."""
    return erasing.due_erasures(context.db, context.clock, context.actor, site_id, query.page)


@route("POST", "/api/sites/{site_id}/erasures", "manage", returns=jobs.JobView)
def start_erasures(context: Context, site_id: str) -> jobs.JobView:
    """Erase, as a job, everybody whom a site no longer keeps."""
    return jobs.view_of(context.db, erasing.start_erasures(context.db, context.clock, context.actor, site_id))
