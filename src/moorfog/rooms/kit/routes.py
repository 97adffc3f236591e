"""Instruments: daily checks, what is done to them, trends, and the ledger of kit found wrong."""

from __future__ import annotations

from dataclasses import dataclass

from pydantic import ConfigDict

from moorfog.platform.web.queries import PageQuery
from moorfog.platform.web.routing import Context, route
from moorfog.rooms.kit import checks, instruments, lending, parts


@dataclass(frozen=True)
class CheckValue:
    """The value read in a daily check, as text."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    name: str
    value: str


@dataclass(frozen=True)
class ActDone:
    """What was done to an instrument."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    name: str


@dataclass(frozen=True)
class PartDone:
    """What was done to a sampling part."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    name: parts.PartDeed


@dataclass(frozen=True)
class CountersQuery(PageQuery):
    """Which page, from 1; of which kind and by which name, all where empty."""

    kind: str = ""
    name: str = ""


@route("GET", "/api/counters", "read", query=CountersQuery, returns=instruments.CounterPage)
def get_counters(context: Context, query: CountersQuery) -> instruments.CounterPage:
    """The instruments, their links, today's checks and what stands against using them."""
    return instruments.list_counters(context.db, context.clock, context.actor, query.page, query.kind, query.name)


@route("POST", "/api/counters/{instrument_id}/checks", "kit", body=CheckValue, returns=instruments.CounterView)
def record_check(context: Context, instrument_id: str, body: CheckValue) -> instruments.CounterView:
    """Record a daily check as the value read; whether it passes is computed."""
    checks.record_check(context.db, context.clock, context.actor, instrument_id, body.name, body.value)
    row = instruments.find_instrument(context.db, context.actor.scope("tester", "administrator"), instrument_id)
    return instruments.view_counter(context.db, row, context.clock.now(context.db))


@route("POST", "/api/counters/{instrument_id}/acts", "kit", body=ActDone, returns=instruments.CounterView)
def record_act(context: Context, instrument_id: str, body: ActDone) -> instruments.CounterView:
    """Note that something was done to an instrument: alcohol charged, hoses dried, the end of the day."""
    checks.record_act(context.db, context.clock, context.actor, instrument_id, body.name)
    row = instruments.find_instrument(context.db, context.actor.scope("tester", "administrator"), instrument_id)
    return instruments.view_counter(context.db, row, context.clock.now(context.db))


@route("GET", "/api/counters/{instrument_id}/trend/{name}", "read", returns=checks.Trend)
def get_trend(context: Context, instrument_id: str, name: str) -> checks.Trend:
    """The values of one check over the last ninety days."""
    return checks.trend_of(context.db, context.clock, context.actor, instrument_id, name)


@route("GET", "/api/parts", "read", query=PageQuery, returns=parts.PartPage)
def get_parts(context: Context, query: PageQuery) -> parts.PartPage:
    """Probes, adapters, probed cartridges and manifolds: what they fit, when they were used and cleaned."""
    return parts.list_parts(context.db, context.actor, query.page)


@route("POST", "/api/parts", "kit", body=parts.PartEntry, returns=parts.PartView)
def add_part(context: Context, body: parts.PartEntry) -> parts.PartView:
    """Enter a sampling part."""
    return parts.add_part(context.db, context.actor, body)


@route("POST", "/api/parts/{part_id}/acts", "kit", body=PartDone, returns=parts.PartView)
def note_part(context: Context, part_id: str, body: PartDone) -> parts.PartView:
    """Note that a sampling part was used, cleaned, or put away for good."""
    return parts.note_deed(context.db, context.clock, context.actor, part_id, body.name)


@route("GET", "/api/kit/{kit_id}/lending", "read", returns=lending.LendingView)
def get_lending(context: Context, kit_id: str) -> lending.LendingView:
    """Whose an instrument, lot, nebuliser or sampling part is, and to whom it is lent."""
    return lending.lending_of(context.db, context.actor, kit_id)


@route("PUT", "/api/kit/{kit_id}/lending", "manage", body=lending.LentTo, returns=lending.LendingView)
def put_lending(context: Context, kit_id: str, body: lending.LentTo) -> lending.LendingView:
    """Lend kit to employers by name; those left out may not use it any more."""
    return lending.lend(context.db, context.clock, context.actor, kit_id, body)
