"""People, sites, facepieces and pass results."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from flask import Response
from pydantic import ConfigDict

from moorfog.api.paging import FindQuery, PageQuery
from moorfog.api.routing import FILE, LIST, Context, plain, route
from moorfog.operations import jobs
from moorfog.operations.bench import filing
from moorfog.operations.fields import Id, Why
from moorfog.operations.kit import catalogue, facepieces
from moorfog.operations.people import changing, finding, people, permissions, reporting, roster, roster_file
from moorfog.operations.records import erasing, person, person_file
from moorfog.operations.sites import sites


@dataclass(frozen=True)
class Made:
    """The id of what was made."""

    id: str


@dataclass(frozen=True)
class CatalogueFile:
    """A file of facepieces: JSON or CSV by its name."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    file_name: str
    content: str


@dataclass(frozen=True)
class WithdrawModel:
    """What is wrong with its approval."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    reason: str


@dataclass(frozen=True)
class PreviewQuery(PageQuery):
    """Which rows of a roster are looked at: of which kind, and which page of them."""

    kind: Literal["new", "changed", "moved", "back", "missing", "same"] = "new"


@dataclass(frozen=True)
class LeftOn:
    """The day somebody left (YYYY-MM-DD)."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    left_on: str


@dataclass(frozen=True)
class Merging:
    """The entry that is the same person, and how that is known."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    other_id: Id
    why: Why


@dataclass(frozen=True)
class PermissionsQuery:
    """On which day (YYYY-MM-DD, empty: today) and at which task of the site (empty: the usual one)."""

    day: str = ""
    task: str = ""


@route("GET", "/api/people", "read", query=FindQuery, returns=finding.PeoplePage)
def find_people(context: Context, query: FindQuery) -> finding.PeoplePage:
    """Find people by the beginning of any name word or of their number."""
    return finding.find_people(context.db, context.clock, context.actor, query.q, query.page)


@route("GET", "/api/people/{person_id}", "read", query=PageQuery, returns=person.PersonView, seen="person")
def get_person(context: Context, person_id: str, query: PageQuery) -> person.PersonView:
    """A person: what they may wear until when, visits and tries."""
    return person.view_person(context.db, context.clock, context.actor, person_id, query.page)


@route("GET", "/api/sites", "read", returns=tuple[sites.SiteView, ...])
def get_sites(context: Context) -> tuple[sites.SiteView, ...]:
    """The sites within your grants, with their benches."""
    return sites.list_sites(context.db, context.actor)


@route("GET", "/api/facepieces", "read", query=FindQuery, returns=facepieces.FacepiecesPage)
def get_facepieces(context: Context, query: FindQuery) -> facepieces.FacepiecesPage:
    """The facepieces that may be chosen, latest versions, by words in maker, model or kind."""
    return facepieces.list_facepieces(context.db, context.actor, query.q, query.page)


@route("GET", "/api/facepieces/forms", "manage", returns=tuple[catalogue.FacepieceForm, ...])
def get_facepiece_forms(context: Context) -> tuple[catalogue.FacepieceForm, ...]:
    """What the form for a new facepiece of each kind begins with."""
    return catalogue.facepiece_forms()


@route("POST", "/api/facepieces", "manage", body=catalogue.Model, returns=catalogue.Saved)
def save_facepiece(context: Context, body: catalogue.Model) -> catalogue.Saved:
    """Enter a facepiece, or a new version of one."""
    return catalogue.save_model(context.db, context.actor, body)


@route("GET", "/api/facepieces/{version_id}/form", "read", returns=catalogue.Model)
def get_facepiece_model(context: Context, version_id: str) -> catalogue.Model:
    """A version as its form has it, to be changed or duplicated."""
    return catalogue.find_model(context.db, context.actor, version_id)


@route("GET", "/api/facepieces/{version_id}", "read", returns=facepieces.FacepieceOption)
def get_facepiece(context: Context, version_id: str) -> facepieces.FacepieceOption:
    """One version of a facepiece, as a record may have it."""
    return facepieces.view_facepiece(context.db, context.actor, version_id)


@route("POST", "/api/facepieces/{version_id}/withdraw", "manage", body=WithdrawModel)
def withdraw_facepiece(context: Context, version_id: str, body: WithdrawModel) -> Response:
    """Withdraw a model whose approval no longer stands: nobody chooses it; who passed in it is recalled."""
    catalogue.withdraw_approval(context.db, context.clock, context.actor, version_id, body.reason)
    return Response(status=204)


@route("GET", "/api/people/{person_id}/permissions", "read", query=PermissionsQuery, returns=permissions.Permissions)
def get_permissions(context: Context, person_id: str, query: PermissionsQuery) -> permissions.Permissions:
    """What a person may wear on a day at a task, and every reason why not."""
    return permissions.permissions_of(context.db, context.clock, context.actor, person_id, query.day, query.task)


@route("POST", "/api/people", "kit", body=people.PersonEntry, returns=Made, by_token=True)
def add_person(context: Context, body: people.PersonEntry) -> Made:
    """Enter a person."""
    return Made(people.add_person(context.db, context.clock, context.actor, body))


@route("PUT", "/api/people/{person_id}", "kit", body=changing.PersonChange, by_token=True)
def change_person(context: Context, person_id: str, body: changing.PersonChange) -> Response:
    """Correct a person's entry, or move them to another site of their employer."""
    changing.change_person(context.db, context.actor, person_id, body)
    return Response(status=204)


@route("POST", "/api/people/{person_id}/left", "kit", body=LeftOn, by_token=True)
def person_left(context: Context, person_id: str, body: LeftOn) -> Response:
    """Note that a person has left; everything of them stays."""
    changing.leave(context.db, context.clock, context.actor, person_id, body.left_on)
    return Response(status=204)


@route("POST", "/api/people/{person_id}/back", "kit", by_token=True)
def person_back(context: Context, person_id: str) -> Response:
    """Note that a person is here again."""
    changing.come_back(context.db, context.actor, person_id)
    return Response(status=204)


@route("GET", "/api/people/{person_id}/file.zip", "manage", media="application/zip", seen="person")
def get_person_file(context: Context, person_id: str) -> Response:
    """A person's whole file: what is on file, every record and paper, and who looked at it."""
    content = person_file.person_file(context.db, context.actor, person_id)
    name = f'attachment; filename="moorfog-person-{person_id[-12:]}.zip"'
    return plain(content, "application/zip", **{"Content-Disposition": name})


@dataclass(frozen=True)
class Withdrawal:
    """Why something is withdrawn; it stands beside it."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    why: Why


@route("POST", "/api/people/{person_id}/trainings/{training_id}/withdraw", "manage", body=Withdrawal)
def withdraw_training(context: Context, person_id: str, training_id: str, body: Withdrawal) -> Response:
    """Take a training off a person's file that was not theirs; it stays written down with the reason."""
    people.withdraw_training(context.db, context.clock, context.actor, person_id, training_id, body.why)
    return Response(status=204)


@route("GET", "/api/people/{person_id}/twins", "manage", returns=tuple[changing.Twin, ...])
def get_twins(context: Context, person_id: str) -> tuple[changing.Twin, ...]:
    """Other entries that may be the same person."""
    return changing.twins_of(context.db, context.actor, person_id)


@route("POST", "/api/people/{person_id}/merge", "manage", body=Merging)
def merge_people(context: Context, person_id: str, body: Merging) -> Response:
    """Make another entry part of this one: one person, both histories."""
    changing.merge(context.db, context.actor, person_id, body.other_id, body.why)
    return Response(status=204)


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
    return jobs.start_retention(context.db, context.clock, context.actor, site_id)


@route("POST", "/api/people/{person_id}/reports", "read", body=reporting.ReportEntry, returns=Made, is_told=True)
def report_change(context: Context, person_id: str, body: reporting.ReportEntry) -> Made:
    """Say that a face, health, a facepiece or the work has changed, or that it fits no more."""
    return Made(filing.file_report(context.db, context.clock, context.actor, person_id, body))


@route("POST", "/api/reports/{report_id}/withdrawal", "manage", body=reporting.Withdrawal)
def withdraw_report(context: Context, report_id: str, body: reporting.Withdrawal) -> Response:
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


@route("POST", "/api/people/{person_id}/measurements", "kit", body=people.MeasureEntry, returns=people.MeasureResult)
def record_measurement(context: Context, person_id: str, body: people.MeasureEntry) -> people.MeasureResult:
    """Record caliper readings; a third is asked for where two lie more than 3 mm apart."""
    return people.record_measurement(context.db, context.clock, context.actor, person_id, body)


@route(
    "POST",
    "/api/imports/preview",
    "manage",
    body=roster_file.RosterFile,
    query=PreviewQuery,
    returns=roster.Preview,
    most=FILE,
    is_told=False,
)
def preview_import(context: Context, body: roster_file.RosterFile, query: PreviewQuery) -> roster.Preview:
    """What a roster would import, and what is wrong with it by row and column; nothing is stored."""
    return roster.check_roster(context.db, context.clock, context.actor, body, roster.Asked(query.kind, query.page))[0]


@route("POST", "/api/imports", "manage", body=roster_file.RosterFile, returns=jobs.JobView, most=FILE)
def start_import(context: Context, body: roster_file.RosterFile) -> jobs.JobView:
    """Import a roster as a job: all or nothing."""
    return jobs.start_import(context.db, context.clock, context.actor, body)


@route("GET", "/api/jobs/{job_id}", "read", returns=jobs.JobView)
def get_job(context: Context, job_id: str) -> jobs.JobView:
    """How far a job is."""
    return jobs.view_job(context.db, context.actor, job_id)


@route("POST", "/api/jobs/{job_id}/cancel", "read", returns=jobs.JobView)
def cancel_job(context: Context, job_id: str) -> jobs.JobView:
    """Ask a job to end; it says what it has left behind."""
    return jobs.cancel_job(context.db, context.actor, job_id)


@route("GET", "/api/catalogue.json", "read", media="application/json; charset=utf-8")
def export_catalogue_json(context: Context) -> Response:
    """The facepiece catalogue as JSON."""
    return plain(catalogue.export_json(context.db, context.actor), "application/json")


@route("GET", "/api/catalogue.csv", "read", media="text/csv")
def export_catalogue_csv(context: Context) -> Response:
    """The facepiece catalogue as CSV."""
    attachment = {"Content-Disposition": 'attachment; filename="facepieces.csv"'}
    return plain(catalogue.export_csv(context.db, context.actor), "text/csv", **attachment)


@route("POST", "/api/catalogue", "manage", body=CatalogueFile, returns=catalogue.Imported, most=LIST)
def import_catalogue(context: Context, body: CatalogueFile) -> catalogue.Imported:
    """Import facepieces from JSON or CSV; a changed model becomes a new version, all or nothing."""
    return catalogue.import_models(context.db, context.actor, body.file_name, body.content)
