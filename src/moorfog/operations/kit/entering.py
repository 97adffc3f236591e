"""Entering an instrument: every figure it needs, and everything that is missing named at once."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy.orm import Session

from moorfog.core.kernel.arithmetic import NotANumber, parse_decimal
from moorfog.core.kernel.codec import DataError
from moorfog.core.rules.instruments import limits_of
from moorfog.data import instrument_kinds
from moorfog.operations.accounts.sessions import digest_of
from moorfog.operations.errors import DomainError
from moorfog.store.base import new_id
from moorfog.store.models import InstrumentRow


def create_instrument(
    db: Session, *, name: str, employer_id: str | None, content: dict[str, str], is_simulated: bool, token: str
) -> str:
    """Enter an instrument; ``token`` is what its link signs in with. Returns its id.

    Raises :class:`DomainError` naming every figure that is missing or cannot be read.
    """
    problems = figure_problems(content)
    if problems:
        raise DomainError("figures", f"{name} was not entered: {'; '.join(problems)}.", {"problems": list(problems)})
    row = InstrumentRow(
        id=new_id(),
        employer_id=employer_id,
        name=name,
        content=content,
        is_simulated=is_simulated,
        link_token_digest=digest_of(token),
        seen_at=None,
        live=None,
    )
    db.add(row)
    db.flush()
    return row.id


def figure_problems(content: Mapping[str, Any]) -> tuple[str, ...]:
    """Return everything that is missing or wrong about the figures of an instrument, in words; empty where nothing."""
    kinds = instrument_kinds()
    rule = kinds.get(str(content.get("kind", "counter")))
    if rule is None:
        return (f"kind {content.get('kind')!r} is not known; known are {', '.join(kinds)}",)
    out = []
    for name in ("serial_number", "zone", "calibrated_until", *rule.figures):
        text = content.get(name)
        if not isinstance(text, str) or not text.strip():
            out.append(f"{name} is missing")
        elif name in rule.figures:
            out += _bad_figure(name, text)
    for check in rule.check:
        limit = content.get(f"limit_{check.name}")
        if limit is not None:
            try:
                limits_of(str(limit), check.sense, f"limit_{check.name}")
            except DataError as error:
                out.append(str(error))
    out += _bad_places(content)
    return tuple(out)


def _bad_figure(name: str, text: str) -> list[str]:
    try:
        return [] if parse_decimal(text, name) > 0 else [f"{name} is {text}; above zero is expected"]
    except NotANumber as error:
        return [str(error)]


def _bad_places(content: Mapping[str, Any]) -> list[str]:
    out = []
    zone, until = content.get("zone"), content.get("calibrated_until")
    if isinstance(zone, str) and zone.strip():
        try:
            ZoneInfo(zone)
        except (KeyError, ValueError, OSError):
            out.append(f"zone {zone!r} is none; write one such as Europe/London")
    if isinstance(until, str) and until.strip():
        try:
            date.fromisoformat(until)
        except ValueError:
            out.append(f"calibrated_until {until!r} is not a date as 2026-01-31")
    return out
