"""Kit found wrong, and what rests on it."""

from __future__ import annotations

from dataclasses import dataclass

from pydantic import ConfigDict

from moorfog.platform.jobs import jobs
from moorfog.platform.web.fields import Page
from moorfog.platform.web.queries import PageQuery
from moorfog.platform.web.routing import Context, route
from moorfog.rooms.kit import solutions
from moorfog.rooms.records import recall


@dataclass(frozen=True)
class RecallsQuery:
    """Which page of the ledger, and whether only what is open."""

    page: Page = 1
    only_open: bool = False


@route("GET", "/api/recalls", "read", query=RecallsQuery, returns=recall.LedgerPage)
def get_recalls(context: Context, query: RecallsQuery) -> recall.LedgerPage:
    """Kit found wrong: what is open first."""
    return recall.list_recalls(context.db, context.actor, query.page, query.only_open)


@route("GET", "/api/recalls/{recall_id}/tests", "read", query=PageQuery, returns=recall.RecallPage)
def get_recall_tests(context: Context, recall_id: str, query: PageQuery) -> recall.RecallPage:
    """Who must come back: the tests that rest on kit found wrong."""
    return recall.tests_of(context.db, context.actor, recall_id, query.page)


@route("POST", "/api/recalls/{recall_id}/settle", "kit", body=recall.Settle, returns=recall.RecallView)
def settle_recall(context: Context, recall_id: str, body: recall.Settle) -> recall.RecallView:
    """Confirm kit found wrong, which voids what rests on it as a job, or clear it; with a reason."""
    return recall.settle(context.db, context.clock, context.actor, recall_id, body)


@dataclass(frozen=True)
class Withdraw:
    """What is wrong with it."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    reason: str


@route("POST", "/api/nebulisers/{nebuliser_id}/clogged", "kit", returns=jobs.JobView)
def mark_clogged(context: Context, nebuliser_id: str) -> jobs.JobView:
    """Mark a nebuliser as clogged: every test with it since its last good check is voided, as a job."""
    return jobs.view_of(context.db, recall.mark_clogged(context.db, context.clock, context.actor, nebuliser_id))


@route("POST", "/api/lots/{lot_id}/withdraw", "kit", body=Withdraw, returns=solutions.LotView)
def withdraw_lot(context: Context, lot_id: str, body: Withdraw) -> solutions.LotView:
    """Withdraw a lot: it is used no more, and what was tested with it is suspended."""
    row = solutions.withdraw_lot(context.db, context.clock, context.actor, lot_id, body.reason)
    return solutions.lot_view(row, context.clock.now(context.db))
