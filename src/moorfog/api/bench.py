"""Visits: opening, proposing, signing, reports, the open log, live updates."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

from flask import Response
from pydantic import ConfigDict

from moorfog.api.paging import FindQuery
from moorfog.api.routing import CLOSED_VISIT, LIST, Context, Follow, FollowDay, plain, route
from moorfog.api.screens import Heard, ScreenHeard, heard
from moorfog.core.events.chain import event_to_json
from moorfog.core.events.words import Words
from moorfog.core.kernel.arithmetic import whole_or_none
from moorfog.core.visit.state import Visit
from moorfog.documents.replaced import marked_replaced
from moorfog.operations.accounts.sessions import HEALTH_READERS, READERS
from moorfog.operations.bench import choices, run_files, screens, signing, visits
from moorfog.operations.bench.proposals import Proposal
from moorfog.operations.bench.runs import start_run
from moorfog.operations.bench.views import BenchView, view_for_screen, without_health
from moorfog.operations.bench.visits import RUN_STARTS
from moorfog.operations.fields import Id, Line
from moorfog.operations.kit import parts
from moorfog.operations.records import exports, papers, today
from moorfog.operations.records.reports import find_report, replaced_words
from moorfog.store.log import keep_state, load_events, load_visit, words_beside

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
class IssueReport:
    """Which paper, and in which size a page is; a card is as large as a card."""

    __pydantic_config__ = STRICT
    page_size: Literal["A4", "Letter"]
    paper: papers.Paper = "report"


@dataclass(frozen=True)
class Issued:
    """An issued report: where its bytes are, and their digest."""

    url: str
    sha256: str


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


@route("GET", "/api/today", "read", query=today.TodayPages, returns=today.Today)
def get_today(context: Context, query: today.TodayPages) -> today.Today:
    """Who is here, what was left unfinished, what was done today, each list by its page."""
    return today.today(context.db, context.clock, context.actor, query)


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


@route("POST", "/api/visits/{visit_id}/seal-notice", "supervise")
def acknowledge_seal(context: Context, visit_id: str) -> Response:
    """Acknowledge the failed seal checks of a visit."""
    today.acknowledge_seal(context.db, context.clock, context.actor, visit_id)
    return Response(status=204)


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


@route("POST", "/api/visits/{visit_id}/reports", "read", body=IssueReport, returns=Issued)
def issue(context: Context, visit_id: str, body: IssueReport) -> Issued:
    """Issue the report, the card or the worker's letter; the same revision gives the same bytes ever after."""
    wanted = papers.Printed(body.paper, body.page_size, context.where)
    row = papers.issue_to_print(context.db, context.clock, context.actor, visit_id, wanted)
    return Issued(f"/api/visits/{visit_id}/reports/{row.page_size}/{row.revision}", row.sha256)


@dataclass(frozen=True)
class PaperQuery:
    """``as_issued``: the very bytes that were stored, without a mark that they count no more."""

    as_issued: bool = False


@route(
    "GET",
    "/api/visits/{visit_id}/reports/{page_size}/{revision}",
    "read",
    query=PaperQuery,
    media="application/pdf",
    seen="visit",
)
def get_report(context: Context, visit_id: str, page_size: str, revision: str, query: PaperQuery) -> Response:
    """The stored PDF; one that a correction replaced, or whose pass does not hold today, is marked so on every page."""
    row = find_report(context.db, context.actor, visit_id, page_size, whole_or_none(revision) or 0)
    words = "" if query.as_issued else replaced_words(context.db, row)
    content = marked_replaced(row.content, words) if words else row.content
    over = "" if words or query.as_issued else papers.not_held_words(context.db, context.clock, visit_id)
    if over:
        content = marked_replaced(content, over, "NOT VALID")
    name = f"moorfog-{visit_id[-12:]}{'-replaced' if words else '-not-valid' if over else ''}.pdf"
    return plain(content, "application/pdf", **{"Content-Disposition": f'inline; filename="{name}"'})


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


@route("GET", "/api/today/live", "read", media="text/event-stream")
def live_day(context: Context) -> FollowDay:
    """Hear that something has changed on the day: a page asks anew then, and not before."""
    return FollowDay(context.actor.require(*READERS))


@route("GET", "/api/live", "health", query=LiveQuery, media="text/event-stream")
def live(context: Context, query: LiveQuery) -> Follow:
    """Follow a visit: `state` (whole) and `live` (numbers) as server-sent events. Others ask for it again and again."""
    visits.find_head(context.db, context.actor.scope(*HEALTH_READERS), query.visit)
    return Follow(query.visit)
