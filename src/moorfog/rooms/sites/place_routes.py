"""Employers and sites as their administrator keeps them, and the instruments that are entered."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Response
from pydantic import ConfigDict

from moorfog.platform.web.answers import no_content
from moorfog.platform.web.queries import PageQuery
from moorfog.platform.web.routing import Context, route
from moorfog.rooms.sites import places, words


@dataclass(frozen=True)
class Entered:
    """The id of what was entered."""

    id: str


@dataclass(frozen=True)
class Archived:
    """Whether something is put away."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    archived: bool


@route("GET", "/api/places", "manage", query=PageQuery, returns=places.PlacesPage)
def get_places(context: Context, query: PageQuery) -> places.PlacesPage:
    """Your employers with their sites, put away ones last."""
    return places.list_places(context.db, context.actor, query.page)


@route("POST", "/api/employers", "manage", body=places.EmployerEntry, returns=Entered)
def add_employer(context: Context, body: places.EmployerEntry) -> Entered:
    """Enter an employer."""
    return Entered(places.add_employer(context.db, context.actor, body))


@route("PUT", "/api/employers/{employer_id}", "manage", body=places.EmployerEntry)
def rename_employer(context: Context, employer_id: str, body: places.EmployerEntry) -> Response:
    """Give an employer another name."""
    places.rename_employer(context.db, context.actor, employer_id, body)
    return no_content()


@route("PUT", "/api/employers/{employer_id}/archived", "manage", body=Archived)
def archive_employer(context: Context, employer_id: str, body: Archived) -> Response:
    """Put an employer away, or take it out again."""
    places.archive_employer(context.db, context.clock, context.actor, employer_id, archived=body.archived)
    return no_content()


@route("POST", "/api/employers/{employer_id}/sites", "manage", body=places.SiteEntry, returns=Entered)
def add_site(context: Context, employer_id: str, body: places.SiteEntry) -> Entered:
    """Enter a site of an employer, with its benches."""
    return Entered(places.add_site(context.db, context.actor, employer_id, body))


@route("PUT", "/api/sites/{site_id}", "manage", body=places.SiteEntry)
def change_site(context: Context, site_id: str, body: places.SiteEntry) -> Response:
    """Change a site: its name, time zone, rule book or benches."""
    places.change_site(context.db, context.actor, site_id, body)
    return no_content()


@route("GET", "/api/sites/{site_id}/words", "manage", returns=words.SiteWordsView)
def get_site_words(context: Context, site_id: str) -> words.SiteWordsView:
    """A site's own terms and periods, and what holds without them."""
    return words.site_words(context.db, context.actor, site_id)


@route("PUT", "/api/sites/{site_id}/words", "manage", body=words.SiteWords)
def change_site_words(context: Context, site_id: str, body: words.SiteWords) -> Response:
    """Write a site's own terms, its notice, and how long personal data are kept after somebody has left."""
    words.change_site_words(context.db, context.clock, context.actor, site_id, body)
    return no_content()


@route("PUT", "/api/sites/{site_id}/archived", "manage", body=Archived)
def archive_site(context: Context, site_id: str, body: Archived) -> Response:
    """Put a site away, or take it out again."""
    places.archive_site(context.db, context.clock, context.actor, site_id, archived=body.archived)
    return no_content()
