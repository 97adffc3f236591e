"""Instruments as they are entered."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Response
from pydantic import ConfigDict

from moorfog.platform.web.answers import no_content
from moorfog.platform.web.queries import PageQuery
from moorfog.platform.web.routing import Context, route
from moorfog.rooms.kit import entering, plugging


@dataclass(frozen=True)
class Retired:
    """Whether something is out of use."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    retired: bool


@route("GET", "/api/instruments/forms", "manage", returns=tuple[entering.InstrumentForm, ...])
def get_instrument_forms(context: Context) -> tuple[entering.InstrumentForm, ...]:
    """What is asked of an instrument of each kind."""
    return entering.instrument_forms()


@route("GET", "/api/instruments/places", "manage", returns=plugging.PlugChoices)
def get_plug_choices(context: Context) -> plugging.PlugChoices:
    """Where an instrument may be plugged into this machine."""
    return plugging.plug_choices(context.actor)


@route("GET", "/api/instruments", "manage", query=PageQuery, returns=entering.InstrumentFiles)
def get_instrument_files(context: Context, query: PageQuery) -> entering.InstrumentFiles:
    """The instruments you look after, those in use first."""
    return entering.list_files(context.db, context.actor, query.page)


@route("POST", "/api/instruments", "manage", body=entering.InstrumentEntry, returns=entering.Linkage)
def enter_instrument(context: Context, body: entering.InstrumentEntry) -> entering.Linkage:
    """Enter an instrument; the token of its link is shown only now."""
    return entering.enter_instrument(context.db, context.actor, body)


@route("GET", "/api/instruments/{instrument_id}", "manage", returns=entering.InstrumentFile)
def get_instrument_file(context: Context, instrument_id: str) -> entering.InstrumentFile:
    """What is on file about an instrument."""
    return entering.instrument_file(context.db, context.actor, instrument_id)


@route("PUT", "/api/instruments/{instrument_id}", "manage", body=entering.InstrumentEntry)
def change_instrument(context: Context, instrument_id: str, body: entering.InstrumentEntry) -> Response:
    """Change an instrument's name, figures or where it is plugged in."""
    entering.change_instrument(context.db, context.actor, instrument_id, body)
    return no_content()


@route("POST", "/api/instruments/{instrument_id}/calibrations", "manage", body=entering.CalibrationEntry)
def enter_calibration(context: Context, instrument_id: str, body: entering.CalibrationEntry) -> Response:
    """Put a calibration on file as its certificate has it."""
    entering.enter_calibration(context.db, context.clock, context.actor, instrument_id, body)
    return no_content()


@route("PUT", "/api/instruments/{instrument_id}/retired", "manage", body=Retired)
def retire_instrument(context: Context, instrument_id: str, body: Retired) -> Response:
    """Take an instrument out of use, or into use again."""
    entering.retire_instrument(context.db, context.clock, context.actor, instrument_id, retired=body.retired)
    return no_content()


@route("POST", "/api/instruments/{instrument_id}/token", "manage", returns=entering.Linkage)
def renew_instrument_token(context: Context, instrument_id: str) -> entering.Linkage:
    """Make a new token for an instrument's link; the old one ends at once."""
    return entering.renew_token(context.db, context.actor, instrument_id)
