"""What a counter's link says and asks. Every call carries the counter's token."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from pydantic import ConfigDict
from sqlalchemy import Engine

from moorfog.core.events.payloads import RunEnd
from moorfog.core.measuring.readings import Chunk
from moorfog.platform.log.log import keep_state
from moorfog.platform.web.fields import Label, Moment
from moorfog.platform.web.routing import READINGS, Context, route
from moorfog.rooms.bench import readings, runs
from moorfog.rooms.kit.links import report_link
from moorfog.rooms.kit.plan import RunPlan

STRICT = ConfigDict(strict=True, extra="forbid")


@dataclass(frozen=True)
class LinkStatus:
    """What the counter is doing, the ambient concentration it reads, as text, the run whose plan it has, and the
    serial number that the counter itself says, empty where it says none."""

    __pydantic_config__ = STRICT
    state: Literal["reading", "in_run", "silent", "starting"]
    ambient: str | None
    run_id: str = ""
    serial: Label = ""


@dataclass(frozen=True)
class LinkPlan:
    """The run this counter holds, if any."""

    plan: RunPlan | None
    now: str


@dataclass(frozen=True)
class Chunks:
    """Chunks of readings, in order."""

    __pydantic_config__ = STRICT
    chunks: tuple[Chunk, ...]


@dataclass(frozen=True)
class Stored:
    """How many readings were new, and whether the bench has ended the run."""

    stored: int
    stop: bool


@dataclass(frozen=True)
class CloseRun:
    """Seal a run: how it ended, how many readings there were, their SHA-256."""

    __pydantic_config__ = STRICT
    end: RunEnd
    count: int
    sha256: str
    occurred_at: Moment


@route("POST", "/api/link/status", "link", body=LinkStatus, returns=LinkPlan)
def report_status(context: Context, body: LinkStatus) -> LinkPlan:
    """Say what the counter does; hear which run it holds."""
    plan = report_link(context.db, context.clock, context.counter, body.state, body.ambient, body.run_id, body.serial)
    return LinkPlan(plan, context.clock.now(context.db).isoformat())


def _store_at_once(engine: Engine, token: str, *, body: Chunks, run_id: str) -> Stored | None:
    """Store readings that follow on what is stored, in one question; None where they do not."""
    found = readings.store_next(engine, token, run_id, body.chunks)
    return Stored(*found) if found is not None else None


@route(
    "POST", "/api/link/runs/{run_id}/chunks", "link", body=Chunks, returns=Stored, quick=_store_at_once, most=READINGS
)
def store_chunks(context: Context, run_id: str, body: Chunks) -> Stored:
    """Store readings; what was stored before is not stored twice."""
    return Stored(*readings.store_chunks(context.db, context.counter, run_id, body.chunks))


@route("POST", "/api/link/runs/{run_id}/close", "link", body=CloseRun, returns=Stored)
def close_run(context: Context, run_id: str, body: CloseRun) -> Stored:
    """Seal a run."""
    visit_id = runs.visit_of_run(context.db, run_id)
    visit = runs.close_run(
        context.db,
        context.clock,
        context.counter,
        run_id,
        readings.Sealed(body.end, body.count, body.sha256, body.occurred_at),
    )
    if visit_id:
        context.after_commit.append(lambda: keep_state(visit_id, visit))
    return Stored(0, True)
