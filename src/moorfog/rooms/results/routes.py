"""Pass results by mask model and size: counted, with whom they count, and as a workbook."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Response

from moorfog.core.advice.shares import Share
from moorfog.platform.printing.sheets import workbook
from moorfog.platform.web.fields import Id, Label, Page
from moorfog.platform.web.media import XLSX
from moorfog.platform.web.routing import Context, plain, route
from moorfog.rooms.results import results

COLUMNS = ("model", "size", "tested", "passed", "from %", "to %", "first time", "from %", "to %", "by the senses")


@dataclass(frozen=True)
class ResultsQuery(results.ResultsAsked):
    """Which results, and which page of them."""

    page: Page = 1


@dataclass(frozen=True, kw_only=True)
class CountedQuery(results.ResultsAsked):
    """Whom a figure counts: of which model in which size, and which of its figures."""

    model_id: Id
    size: Label
    whole: results.Whole = "tested"
    page: Page = 1


@route("GET", "/api/results", "read", query=ResultsQuery, returns=results.ResultsPage)
def get_results(context: Context, query: ResultsQuery) -> results.ResultsPage:
    """Pass results by mask model and size, with 95 % intervals."""
    return results.pass_results(context.db, context.actor, query.page, query)


@route("GET", "/api/results/people", "read", query=CountedQuery, returns=results.CountedPage)
def get_counted(context: Context, query: CountedQuery) -> results.CountedPage:
    """Whom a figure of the pass results counts."""
    return results.counted_people(
        context.db,
        context.actor,
        query,
        model_id=query.model_id,
        size=query.size,
        whole=query.whole,
        page=query.page,
    )


@dataclass(frozen=True, kw_only=True)
class PartsQuery(results.ResultsAsked):
    """Of which model in which size, and by what."""

    model_id: Id
    size: Label
    by: results.By


@route("GET", "/api/results/parts", "read", query=PartsQuery, returns=results.ResultParts)
def get_result_parts(context: Context, query: PartsQuery) -> results.ResultParts:
    """The people of a model in a size by face cell, task or tester."""
    return results.counted_by(context.db, context.actor, query, model_id=query.model_id, size=query.size, by=query.by)


@route("GET", "/api/results.xlsx", "read", query=ResultsQuery, media=XLSX)
def get_results_sheet(context: Context, query: ResultsQuery) -> Response:
    """The same as a workbook, all of it."""
    rows = [
        (
            one.model,
            one.size,
            one.tested,
            one.passed,
            *_ends(one.passed_share),
            one.passed_first,
            *_ends(one.first_share),
            one.sensed,
        )
        for one in results.every_result(context.db, context.actor, query)
    ]
    headers = {"Content-Disposition": 'attachment; filename="pass-results.xlsx"'}
    return plain(workbook("pass results", COLUMNS, rows), XLSX, **headers)


def _ends(one: Share | None) -> tuple[int | str, int | str]:
    return (one.low, one.high) if one is not None else ("too few to tell", "")
