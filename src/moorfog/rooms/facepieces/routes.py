"""The catalogue of facepieces."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Response
from pydantic import ConfigDict

from moorfog.platform.web.queries import FindQuery
from moorfog.platform.web.routing import LIST, Context, plain, route
from moorfog.rooms.facepieces import catalogue, facepieces


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
