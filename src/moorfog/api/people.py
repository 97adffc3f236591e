"""People, sites, facepieces and pass results."""

from __future__ import annotations

from dataclasses import dataclass

from moorfog.api.routing import Context, route
from moorfog.operations import lists


@dataclass(frozen=True)
class PeopleQuery:
    """Beginning of a name word or number, and the page."""

    q: str = ""
    page: int = 1


@dataclass(frozen=True)
class PageQuery:
    """Which page."""

    page: int = 1


@dataclass(frozen=True)
class ResultsQuery:
    """Which page, of which site; all sites where empty."""

    page: int = 1
    site: str = ""


@route("GET", "/api/people", "read", query=PeopleQuery, returns=lists.PeoplePage)
def find_people(context: Context, query: PeopleQuery) -> lists.PeoplePage:
    """Find people by the beginning of any name word or of their number."""
    return lists.find_people(context.db, context.actor, query.q, query.page)


@route("GET", "/api/people/{person_id}", "read", query=PageQuery, returns=lists.PersonView)
def get_person(context: Context, person_id: str, query: PageQuery) -> lists.PersonView:
    """A person: what they may wear until when, visits and tries."""
    return lists.view_person(context.db, context.clock, context.actor, person_id, query.page)


@route("GET", "/api/sites", "read", returns=tuple[lists.SiteView, ...])
def get_sites(context: Context) -> tuple[lists.SiteView, ...]:
    """The sites within your grants, with their benches."""
    return lists.list_sites(context.db, context.actor)


@route("GET", "/api/facepieces", "read", returns=tuple[lists.FacepieceOption, ...])
def get_facepieces(context: Context) -> tuple[lists.FacepieceOption, ...]:
    """The facepieces that may be chosen, latest versions."""
    return lists.list_facepieces(context.db, context.actor)


@route("GET", "/api/results", "read", query=ResultsQuery, returns=lists.ResultsPage)
def get_results(context: Context, query: ResultsQuery) -> lists.ResultsPage:
    """Pass results by mask model and size."""
    return lists.pass_results(context.db, context.actor, query.page, query.site or None)
