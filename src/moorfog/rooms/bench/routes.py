"""Visits: opening, proposing, signing, reports, the open log, live updates."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

from pydantic import ConfigDict

from moorfog.core.events.chain import event_to_json
from moorfog.core.events.words import Words
from moorfog.core.visit.state import Visit
from moorfog.platform.log.log import keep_state, load_events, load_visit, words_beside
from moorfog.platform.web.actor import HEALTH_READERS, READERS
from moorfog.platform.web.fields import Id, Line
from moorfog.platform.web.queries import FindQuery
from moorfog.platform.web.routing import CLOSED_VISIT, LIST, Context, Follow, route
from moorfog.rooms.bench import choices, run_files, screens, signing, visits
from moorfog.rooms.bench.proposals import Proposal
from moorfog.rooms.bench.runs import start_run
from moorfog.rooms.bench.screen_routes import Heard, ScreenHeard, heard
from moorfog.rooms.bench.views import BenchView, view_for_screen, without_health
from moorfog.rooms.bench.visits import RUN_STARTS
from moorfog.rooms.kit import parts

STRICT = ConfigDict(strict=True, extra="forbid")


@dataclass(frozen=True)
class OpenVisit:
    """Open a visit. Ids are made by the client, so that a repeated request opens one visit."""

    __pydantic_config__ = STRICT
    visit_id: Id
    event_id: Id
    person_id: Id
    bench: str
    is_practice: bool
    speed: int


@dataclass(frozen=True)
class SignVisit:
    """Sign as wearer (typed name) or tester (password where it was given over 15 minutes ago)."""

    __pydantic_config__ = STRICT
    id: Id
    expects: int
    role: Literal["wearer", "tester"]
    typed_name: Line
    password: str | None


@dataclass(frozen=True)
class ReadingsFile:
    """The text of a file of readings, as CSV."""

    __pydantic_config__ = STRICT
    text: str


@dataclass(frozen=True)
class LogView:
    """The log of a visit as it stands, with the digest of the rules pinned to it."""

    visit_id: str
    rules_digest: str
    events: list[dict[str, Any]]
    words: tuple[Words, ...]
    """What the signs in them stand for, where that has not been erased."""


@dataclass(frozen=True)
class LiveQuery:
    """Which visit to follow."""

    visit: str


def _view(context: Context, visit_id: str) -> BenchView:
    return view_for_screen(context.db, context.clock, context.actor.scope(*READERS), visit_id)


def _keep(context: Context, done: visits.Appended) -> None:
    context.after_commit.append(lambda: keep_state(done.visit_id, done.visit))


@route("POST", "/api/visits", "test", body=OpenVisit, returns=BenchView)
def open_visit(context: Context, body: OpenVisit) -> BenchView:
    """Open a visit for a person at a bench."""
    done = visits.open_visit(
        context.db,
        context.clock,
        context.actor,
        visit_id=body.visit_id,
        event_id=body.event_id,
        person_id=body.person_id,
        bench=body.bench,
        is_practice=body.is_practice,
        speed=body.speed,
    )
    _keep(context, done)
    return _view(context, done.visit_id)


@route("GET", "/api/visits/{visit_id}", "read", returns=BenchView, seen=CLOSED_VISIT)
def get_visit(context: Context, visit_id: str) -> BenchView:
    """A visit as it stands now."""

    def keep(visit: Visit) -> None:
        context.after_commit.append(lambda: keep_state(visit_id, visit))

    shown = view_for_screen(context.db, context.clock, context.actor.scope(*READERS), visit_id, keep)
    employer = visits.find_head(context.db, context.actor.scope(*READERS), visit_id).employer_id
    return shown if context.actor.sees_health(employer) else without_health(shown)


@route("POST", "/api/visits/{visit_id}/events", "test", body=Proposal, returns=BenchView)
def propose(context: Context, visit_id: str, body: Proposal) -> BenchView:
    """Propose an entry for the log; accepted, or refused with the reason."""
    done = visits.propose(context.db, context.clock, context.actor, visit_id, body, start_run)
    if body.body.kind in RUN_STARTS:
        done = screens.name_those_present(context.db, context.clock, done)
    _keep(context, done)
    return _view(context, visit_id)


@route("POST", "/api/visits/{visit_id}/screen", "test", body=ScreenHeard, returns=Heard)
def hear_screen(context: Context, visit_id: str, body: ScreenHeard) -> Heard:
    """A bench's screen says that it is there, how many presses it holds unsent, and up to which entry it knows."""
    visits.find_head(context.db, context.actor.scope("tester"), visit_id)
    return heard(context, visit_id, "bench", body)


@route("POST", "/api/visits/{visit_id}/runs/{run_id}/file", "test", body=ReadingsFile, returns=BenchView, most=LIST)
def import_run(context: Context, visit_id: str, run_id: str, body: ReadingsFile) -> BenchView:
    """Seal a run with the readings of a file, from an instrument that gives only files."""
    visit = run_files.import_run(context.db, context.clock, context.actor, visit_id, run_id, body.text)
    context.after_commit.append(lambda: keep_state(visit_id, visit))
    return _view(context, visit_id)


@route("GET", "/api/visits/{visit_id}/log", "health", returns=LogView)
def get_log(context: Context, visit_id: str) -> LogView:
    """The log itself, entry by entry."""
    head = visits.find_head(context.db, context.actor.scope(*HEALTH_READERS), visit_id)
    events = [event_to_json(one) for one in load_events(context.db, visit_id)]
    return LogView(visit_id, head.rules_digest, events, words_beside(context.db, visit_id))


@route("GET", "/api/visits/{visit_id}/advice", "read", returns=choices.Advice)
def get_advice(context: Context, visit_id: str) -> choices.Advice:
    """Task, facepiece, size and method: what is advised for this person."""
    return choices.advice_for(context.db, context.clock, context.actor, visit_id)


@route("GET", "/api/visits/{visit_id}/choices", "read", query=FindQuery, returns=choices.ChoicesPage)
def get_choices(context: Context, visit_id: str, query: FindQuery) -> choices.ChoicesPage:
    """The facepieces to choose from, nine at a time, with advice; by words in maker, model or kind."""
    return choices.choices_for(context.db, context.clock, context.actor, visit_id, query.q, query.page)


@route("GET", "/api/visits/{visit_id}/parts", "read", returns=list[parts.PartChoice])
def get_visit_parts(context: Context, visit_id: str) -> list[parts.PartChoice]:
    """The sampling parts that may serve this visit's facepiece and method, those entered for its model first."""
    head = visits.find_head(context.db, context.actor.scope(*READERS), visit_id)
    return list(parts.parts_for(context.db, head, load_visit(context.db, head)))


@route("POST", "/api/visits/{visit_id}/signatures", "test", body=SignVisit, returns=BenchView)
def sign(context: Context, visit_id: str, body: SignVisit) -> BenchView:
    """Sign the present revision."""
    done = signing.sign(
        context.db,
        context.clock,
        context.actor,
        visit_id,
        event_id=body.id,
        expects=body.expects,
        role=body.role,
        typed_name=body.typed_name,
        password=body.password,
    )
    _keep(context, done)
    return _view(context, visit_id)


@route("GET", "/api/live", "health", query=LiveQuery, media="text/event-stream")
def live(context: Context, query: LiveQuery) -> Follow:
    """Follow a visit: `state` (whole) and `live` (numbers) as server-sent events. Others ask for it again and again."""
    visits.find_head(context.db, context.actor.scope(*HEALTH_READERS), query.visit)
    return Follow(query.visit)
