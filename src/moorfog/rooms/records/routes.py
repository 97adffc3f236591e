"""Records: found by what is known of them, and taken away as a table or whole."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, fields
from itertools import chain, islice
from typing import Any, Literal

from flask import Response
from pydantic import ConfigDict
from sqlalchemy.orm import Session

from moorfog.core.kernel.codec import encode
from moorfog.platform.keys import installation_key
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.printing.archive import archived
from moorfog.platform.printing.sheets import workbook_file
from moorfog.platform.web.actor import HEALTH_READERS, READERS
from moorfog.platform.web.fields import Id, Label, Why
from moorfog.platform.web.media import XLSX
from moorfog.platform.web.routing import Context, route
from moorfog.platform.web.streams import csv_pieces, json_pieces, sent
from moorfog.rooms.records import inspecting, recall, searching, suggesting, wearers

Kind = Literal["csv", "json", "xlsx"]
MEDIA: dict[str, str] = {"csv": "text/csv; charset=utf-8", "json": "application/json", "xlsx": XLSX}
AS_CSV, OTHERWISE = MEDIA["csv"], (MEDIA["json"], MEDIA["xlsx"])


@dataclass(frozen=True)
class RecordsQuery(searching.RecordsAsked):
    """Which tests, and where to go on from."""

    after: searching.Cursor = ""


@dataclass(frozen=True)
class TakenQuery(searching.RecordsAsked):
    """Which tests, and as what they are taken away."""

    kind: Kind = "csv"


@dataclass(frozen=True)
class WearersQuery(wearers.WearersAsked):
    """Who wears what, and where to go on from."""

    after: searching.Cursor = ""


@dataclass(frozen=True)
class WearersTaken(wearers.WearersAsked):
    """Who wears what, and as what it is taken away."""

    kind: Kind = "csv"


@dataclass(frozen=True)
class SuggestQuery:
    """The words that somebody typed."""

    q: Label = ""


@dataclass(frozen=True)
class Suggestions:
    """What may be meant by them."""

    rows: tuple[suggesting.Suggestion, ...]


@dataclass(frozen=True)
class PassWithdrawn:
    """Which try of a closed visit does not count, and why."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    run_id: Id
    why: Why


@route("POST", "/api/visits/{visit_id}/withdraw", "manage", body=PassWithdrawn)
def withdraw_pass(context: Context, visit_id: str, body: PassWithdrawn) -> Response:
    """Withdraw a pass, with the reason: nobody wears anything on its strength from now on."""
    recall.withdraw_pass(context.db, context.clock, context.actor, visit_id, body.run_id, body.why)
    return Response(status=204)


@route("GET", "/api/records", "read", query=RecordsQuery, returns=searching.RecordsPage)
def get_records(context: Context, query: RecordsQuery) -> searching.RecordsPage:
    """Tests by person, model, kit, tester, site, days and outcome, the latest first."""
    return searching.find_records(context.db, context.actor, query, query.after)


@route("GET", "/api/records/suggestions", "read", query=SuggestQuery, returns=Suggestions)
def get_suggestions(context: Context, query: SuggestQuery) -> Suggestions:
    """What a word may mean: somebody, a model, kit, a tester, a card, a day."""
    return Suggestions(suggesting.suggest(context.db, context.clock, context.actor, query.q))


@route("GET", "/api/wearers", "read", query=WearersQuery, returns=wearers.WearersPage)
def get_wearers(context: Context, query: WearersQuery) -> wearers.WearersPage:
    """Everyone in a model and size on a test that still counts, with rule and level, whose test ends first."""
    return wearers.find_wearers(context.db, context.clock, context.actor, query, query.after)


@route(
    "GET",
    "/api/records/file",
    "read",
    query=TakenQuery,
    media=AS_CSV,
    also=OTHERWISE,
    is_told=True,
)
def take_records(context: Context, query: TakenQuery) -> Response:
    """All tests that are meant as CSV, JSON or a workbook, however many there are."""
    actor, asked = context.actor, searching.RecordsAsked(**_only(query, searching.RecordsAsked))
    _tell(context, "records", asked)
    return _taken(
        context, query.kind, "records", inspecting.COLUMNS, lambda db: searching.every_record(db, actor, asked)
    )


@route(
    "GET",
    "/api/wearers/file",
    "read",
    query=WearersTaken,
    media=AS_CSV,
    also=OTHERWISE,
    is_told=True,
)
def take_wearers(context: Context, query: WearersTaken) -> Response:
    """Everyone in a model and size as CSV, JSON or a workbook."""
    actor, asked = context.actor, wearers.WearersAsked(**_only(query, wearers.WearersAsked))
    _tell(context, "wearers", asked)
    columns = tuple(one.name for one in fields(wearers.WearerRow))
    return _taken(
        context, query.kind, "wearers", columns, lambda db: wearers.every_wearer(db, context.clock, actor, asked)
    )


@route("GET", "/api/records.zip", "health", query=searching.RecordsAsked, media="application/zip", is_told=True)
def take_archive(context: Context, query: searching.RecordsAsked) -> Response:
    """The tests that are meant whole, for an inspector: records, papers, rules, an index, one digest of all."""
    actor, engine = context.actor.only_as(*HEALTH_READERS), context.engine
    installation_key()  # asked for before the first byte is sent
    _tell(context, "archive", query)

    def pieces() -> Iterator[bytes]:
        with Session(engine) as db:
            yield from archived(inspecting.inspected(db, actor, query), inspecting.sealed)

    return sent(pieces(), "application/zip", "records.zip")


def _only(query: object, kind: type[Any]) -> dict[str, Any]:
    """Return what a query asks for beside the way in which it is shown."""
    return {one.name: getattr(query, one.name) for one in fields(kind)}


def _tell(context: Context, what: str, asked: object) -> None:
    """Note in the journal what was taken away."""
    scope = context.actor.scope(*READERS)
    whose = next(iter(scope.employers)) if scope.employers is not None and len(scope.employers) == 1 else ""
    said = {key: ["", str(value)] for key, value in encode(asked).items() if value}
    note(context.db, Note(what, "", whose, said))


def _taken(
    context: Context, kind: Kind, name: str, columns: tuple[str, ...], rows: Callable[[Session], Iterator[Any]]
) -> Response:
    engine = context.engine

    def pieces() -> Iterator[bytes]:
        with Session(engine) as db:
            found = rows(db)
            begun = list(islice(found, 1))  # what is wrong with the question is said before anything is sent
            lines = chain(begun, found)
            if kind == "json":
                yield from json_pieces(lines)
            elif kind == "csv":
                yield from csv_pieces(columns, (_cells(one, columns) for one in lines))
            else:
                yield from workbook_file(name, columns, (_cells(one, columns) for one in lines))

    return sent(pieces(), MEDIA[kind], f"{name}.{kind}")


def _cells(row: Any, columns: tuple[str, ...]) -> tuple[str | int, ...]:
    out: list[str | int] = []
    for name in columns:
        value = getattr(row, name)
        if isinstance(value, bool):
            out.append("yes" if value else "no")
        elif isinstance(value, tuple):
            out.append(" ".join(one.sentence for one in value))
        else:
            out.append(value)
    return tuple(out)
