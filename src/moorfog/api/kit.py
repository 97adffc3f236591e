"""Counters and their daily checks."""

from __future__ import annotations

from dataclasses import dataclass

from pydantic import ConfigDict

from moorfog.api.routing import Context, route
from moorfog.operations import kit


@dataclass(frozen=True)
class CheckValue:
    """The value read in a daily check, as text."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    name: kit.CheckName
    value: str


@route("GET", "/api/counters", "read", returns=list[kit.CounterView])
def get_counters(context: Context) -> list[kit.CounterView]:
    """The counters, their links, today's checks and what stands against using them."""
    return kit.list_counters(context.db, context.clock, context.actor)


@route("POST", "/api/counters/{instrument_id}/checks", "kit", body=CheckValue, returns=kit.CounterView)
def record_check(context: Context, instrument_id: str, body: CheckValue) -> kit.CounterView:
    """Record a daily check as the value read; whether it passes is computed."""
    kit.record_check(context.db, context.clock, context.actor, instrument_id, body.name, body.value)
    row = kit.find_instrument(context.db, context.actor.scope("tester", "administrator"), instrument_id)
    return kit.view_counter(context.db, row, context.clock.now(context.db))
