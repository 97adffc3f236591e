"""Where an instrument is plugged into this very machine: a choice of what is there, made by whoever keeps all of it."""

from __future__ import annotations

import os
from dataclasses import dataclass

from moorfog.instruments.ports import serial_ports
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.errors import DomainError
from moorfog.plugged import NoPlace, allowed_hosts, allowed_place, home_of


@dataclass(frozen=True)
class PlugChoice:
    """One place of this machine: how it is written, and what it says of itself."""

    line: str
    title: str


@dataclass(frozen=True)
class PlugChoices:
    """The places an instrument may be plugged into here; ``may_choose``: whether this administrator says so."""

    rows: tuple[PlugChoice, ...]
    may_choose: bool


def plug_choices(actor: Actor) -> PlugChoices:
    """Return the serial devices that are there now, and the hosts that the operator allows."""
    if not actor.keeps_all():
        return PlugChoices((), may_choose=False)
    devices = [PlugChoice(one.device, one.description) for one in serial_ports()]
    hosts = [PlugChoice(f"socket://{one}", one) for one in sorted(allowed_hosts(home_of(os.environ)))]
    return PlugChoices((*devices, *hosts), may_choose=True)


def chosen_line(actor: Actor, text: str, before: str) -> str:
    """Return where an instrument is plugged in, as it is kept. What stands there already may stay.

    Raises :class:`DomainError` for a place that is none, that is not allowed, or that is not this administrator's to
    choose.
    """
    line = text.strip()
    if line == before:
        return before
    if not actor.keeps_all():
        words = "Where an instrument is plugged in here is said by an administrator of the whole installation."
        raise DomainError("not_yours", words, status=403)
    try:
        return str(allowed_place(line, home_of(os.environ))) if line else ""
    except NoPlace as error:
        raise DomainError("no_place", f"Not entered: {error}.") from error
