"""Kinds of facepiece as dated data: family, air, pass level, assigned protection factor."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, fields
from typing import Any

from moorfog.core.events.facts import Kind
from moorfog.core.kernel.codec import DataError, decode
from moorfog.core.rules.protocols import Standing


@dataclass(frozen=True)
class KindEntry(Kind):
    """A kind of facepiece as its file has it, with where that was taken from; :attr:`kind` is what events carry."""

    source: str
    standing: Standing

    @property
    def kind(self) -> Kind:
        """Return the kind by value."""
        return Kind(**{one.name: getattr(self, one.name) for one in fields(Kind)})


@dataclass(frozen=True)
class _File:
    kind: tuple[KindEntry, ...]


def read_facepiece_kinds(data: Mapping[str, Any], where: str) -> dict[str, Kind]:
    """Read kinds of facepiece from parsed TOML, by id. Raises :class:`DataError` naming file and key."""
    found: dict[str, Kind] = {}
    for index, one in enumerate(decode(_File, data, where).kind):
        if one.id in found:
            raise DataError(f"{where}.kind[{index}].id", f"{one.id!r} is there twice")
        if not one.source.strip():
            raise DataError(f"{where}.kind[{index}].source", "every kind needs a source")
        found[one.id] = one.kind
    return found


def clearance_limits(kinds: Mapping[str, Kind]) -> tuple[str, ...]:
    """Return every limit that a clearance may carry: those that rule out at least one kind."""
    return tuple(dict.fromkeys(limit for one in kinds.values() for limit in one.ruled_out_by))
