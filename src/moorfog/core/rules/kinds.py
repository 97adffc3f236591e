"""Kinds of facepiece as dated data: family, air, pass level, assigned protection factor."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

from moorfog.core.events.facts import Kind, Outline, Pressure
from moorfog.core.kernel.codec import DataError, decode
from moorfog.core.rules.protocols import Standing


@dataclass(frozen=True)
class KindEntry:
    """A kind of facepiece as its file has it, with where that was taken from; see :class:`Kind` for what is in it."""

    id: str
    title: str
    family: Literal["disposable", "half", "full", "powered"]
    air: Literal["purifying", "supplied", "self-contained"]
    level: str
    apf: str
    pressure: Pressure
    weight: Literal["light", "heavy"]
    source: str
    standing: Standing

    def kind(self, limits: Iterable[LimitEntry]) -> Kind:
        """Return the kind by value, with the limits of a clearance that rule it out."""
        plain = Kind(
            id=self.id,
            title=self.title,
            family=self.family,
            air=self.air,
            level=self.level,
            apf=self.apf,
            ruled_out_by=(),
            pressure=self.pressure,
            weight=self.weight,
        )
        return replace(plain, ruled_out_by=tuple(one.id for one in limits if one.rules_out(plain)))


@dataclass(frozen=True)
class LimitEntry:
    """A limit of a clearance: it rules out every kind that has one of these properties."""

    id: str
    source: str
    standing: Standing
    outline: tuple[Outline, ...] = ()
    air: tuple[Literal["purifying", "supplied", "self-contained"], ...] = ()
    pressure: tuple[Pressure, ...] = ()
    weight: tuple[Literal["light", "heavy"], ...] = ()

    def rules_out(self, kind: Kind) -> bool:
        """Return whether a kind has a property that this limit names."""
        has_it = (kind.air in self.air, kind.pressure in self.pressure, kind.weight in self.weight)
        return kind.outline in self.outline or any(has_it)


@dataclass(frozen=True)
class _File:
    limit: tuple[LimitEntry, ...]
    kind: tuple[KindEntry, ...]


def read_facepiece_kinds(data: Mapping[str, Any], where: str) -> dict[str, Kind]:
    """Read kinds of facepiece from parsed TOML, by id. Raises :class:`DataError` naming file and key."""
    found: dict[str, Kind] = {}
    file = decode(_File, data, where)
    _check_entries([(one.id, one.source) for one in file.kind], f"{where}.kind")
    _check_entries([(one.id, one.source) for one in file.limit], f"{where}.limit")
    for index, limit in enumerate(file.limit):
        if not any(limit.rules_out(one.kind(())) for one in file.kind):
            raise DataError(f"{where}.limit[{index}]", f"{limit.id!r} rules nothing out")
    for one in file.kind:
        found[one.id] = one.kind(file.limit)
    return found


def _check_entries(entries: Sequence[tuple[str, str]], where: str) -> None:
    for index, (name, source) in enumerate(entries):
        if name in [other for other, _ in entries[:index]]:
            raise DataError(f"{where}[{index}].id", f"{name!r} is there twice")
        if not source.strip():
            raise DataError(f"{where}[{index}].source", "it needs a source")


def clearance_limits(kinds: Mapping[str, Kind]) -> tuple[str, ...]:
    """Return every limit that a clearance may carry: those that rule out at least one kind."""
    return tuple(dict.fromkeys(limit for one in kinds.values() for limit in one.ruled_out_by))
