"""Kinds of instrument as dated data: their checks of the day as values against limits, and what else is done to them.

A check is never ticked: the value read is recorded, and whether it passes is computed here.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Any, Literal

from moorfog.core.events.facts import InstrumentKind
from moorfog.core.kernel.arithmetic import NotANumber, parse_decimal
from moorfog.core.kernel.codec import DataError, decode
from moorfog.core.rules.protocols import Standing

Sense = Literal["at_least", "at_most", "within"]


@dataclass(frozen=True)
class CheckRule:
    """A check of the day: what is read, in which unit, against which limit, and how it is done, step by step.

    ``limit`` is decimal text, or two of them as "0.285 to 0.315" where the value must lie within. ``reads``: what the
    link reads all the time and the check is the value of, nothing where the tester must set something up for it.
    """

    name: str
    title: str
    what: str
    sense: Sense
    limit: str
    steps: tuple[str, ...]
    reads: Literal["", "outside"] = ""


@dataclass(frozen=True)
class ActRule:
    """Something done to an instrument, and when; ``closes_day`` puts it on the list of the end of the day."""

    name: str
    title: str
    when: str
    closes_day: bool = False


@dataclass(frozen=True)
class KindRule:
    """A kind of instrument. ``charge_h``: hours that a charge of alcohol lasts, 0 where it needs none.

    ``figures``: what must be known of it, as decimal text above zero, before it is entered.
    """

    id: InstrumentKind
    title: str
    unit: str
    charge_h: int
    source: str
    standing: Standing
    figures: tuple[str, ...]
    check: tuple[CheckRule, ...]
    act: tuple[ActRule, ...]
    bounds: dict[str, tuple[str, ...]] = field(default_factory=dict)
    """The least and the most that a figure is on such an instrument; what is outside is a slip."""

    def find(self, name: str) -> CheckRule | None:
        """Return the check called ``name``, or None."""
        return next((one for one in self.check if one.name == name), None)

    @property
    def required(self) -> tuple[str, ...]:
        """Names of the checks without which no run is made on a day."""
        return tuple(one.name for one in self.check)


@dataclass(frozen=True)
class _File:
    kind: tuple[KindRule, ...]


def read_kinds(data: Mapping[str, Any], where: str) -> dict[str, KindRule]:
    """Read kinds of instrument from parsed TOML, by id. Raises :class:`DataError` naming file and key."""
    found = decode(_File, data, where).kind
    for index, one in enumerate(found):
        for number, check in enumerate(one.check):
            limits_of(check.limit, check.sense, f"{where}.kind[{index}].check[{number}].limit")
    return {one.id: one for one in found}


def limits_of(limit: str, sense: Sense, where: str) -> tuple[Fraction, ...]:
    """Return the one limit, or the two of a range. Raises :class:`DataError` where they are not as many numbers."""
    parts = limit.split(" to ")
    try:
        found = tuple(parse_decimal(one, where) for one in parts)
    except NotANumber as error:
        raise DataError(where, str(error)) from error
    if len(found) != (2 if sense == "within" else 1) or (sense == "within" and found[0] > found[1]):
        raise DataError(where, f'{limit!r}: write one number, or for a range two as "0.285 to 0.315"')
    return found


def strictest_limit(rule: CheckRule, own: str | None) -> str:
    """Return the limit of a check that an instrument is held to: its own where that is stricter, never a looser one.

    Raises :class:`DataError` where its own is no limit of that sense.
    """
    if own is None:
        return rule.limit
    ours, theirs = limits_of(rule.limit, rule.sense, "limit"), limits_of(own, rule.sense, f"limit_{rule.name}")
    is_stricter = {
        "at_least": theirs[0] >= ours[0],
        "at_most": theirs[0] <= ours[0],
        "within": theirs[0] >= ours[0] and theirs[-1] <= ours[-1],
    }[rule.sense]
    return own if is_stricter else rule.limit


def check_passes(value: Fraction, limit: str, sense: Sense) -> bool:
    """Tell whether a value read passes its limit; a value on the limit does."""
    found = limits_of(limit, sense, "limit")
    if sense == "within":
        return found[0] <= value <= found[1]
    return value >= found[0] if sense == "at_least" else value <= found[0]
