"""People, sites, facepieces and pass results."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Response
from pydantic import ConfigDict

from moorfog.platform.web.answers import Made
from moorfog.platform.web.fields import Id, Why, Withdrawal
from moorfog.platform.web.queries import FindQuery
from moorfog.platform.web.routing import Context, route
from moorfog.rooms.people import changing, finding, people


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


@route("GET", "/api/people", "read", query=FindQuery, returns=finding.PeoplePage)
def find_people(context: Context, query: FindQuery) -> finding.PeoplePage:
    """Find people by the beginning of any name word or of their number."""
    return finding.find_people(context.db, context.clock, context.actor, query.q, query.page)


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


@route("POST", "/api/people/{person_id}/measurements", "kit", body=people.MeasureEntry, returns=people.MeasureResult)
def record_measurement(context: Context, person_id: str, body: people.MeasureEntry) -> people.MeasureResult:
    """Record caliper readings; a third is asked for where two lie more than 3 mm apart."""
    return people.record_measurement(context.db, context.clock, context.actor, person_id, body)
