"""What the second judge reads: a record's rules, its log, and the few words and numbers in them."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import date, datetime
from fractions import Fraction
from typing import Any

Json = dict[str, Any]


ORDER = {
    "voided": "void",
    "gate": "void",
    "low": "fail",
    "refused": "fail",
    "spoilt": "void",
    "denied": "void",
    "open": "unfinished",
}
"""What a finding makes of a run, the first in this order first: docs/formats/record.md, The outcome of a try."""


@dataclass
class Judged:
    """What a run came to: what was found against a pass, by what it makes of the run, and the numbers it has."""

    run_id: str
    is_counted: bool = False
    found: list[tuple[str, str]] = field(default_factory=list)
    overall: Fraction | None = None
    factors: list[Fraction] = field(default_factory=list)
    bounds: list[float] = field(default_factory=list)
    bound: float | None = None
    is_marginal: bool = False
    is_stopped: bool = False

    def add(self, makes: str, *words: str) -> None:
        """Note what was found, and what it makes of the run: a key of :data:`ORDER`."""
        self.found += [(makes, one) for one in words]

    @property
    def outcome(self) -> str:
        """What the findings make of the run. Numbers of a run that was spoilt say nothing; what was sensed does."""
        kinds = {makes for makes, _ in self.found}
        if self.is_counted and "spoilt" in kinds:
            kinds -= {"low"}
        return next((outcome for makes, outcome in ORDER.items() if makes in kinds), "pass")


def number(text: Any) -> Fraction | None:
    """A decimal as exact fraction, None where it is none or below zero."""
    try:
        value = Fraction(str(text))
    except (ValueError, ZeroDivisionError):
        return None
    return value if value >= 0 and "/" not in str(text) and "e" not in str(text).lower() else None


def moment(text: str) -> datetime:
    return datetime.fromisoformat(text)


def later(day: date, months: int) -> date:
    """The same day so many months later, or the last one before it that there is."""
    total = day.month - 1 + months
    for back in range(4):
        try:
            return date(day.year + total // 12, total % 12 + 1, day.day - back)
        except ValueError:
            continue
    raise ValueError(day)


def exercises(protocol: Json) -> list[Json]:
    """The exercises of a protocol that are done, without those that stand in for one."""
    return [one for one in protocol["exercise"] if not one.get("stands_for")]


class Log:
    """One record, its rules and its entries, read for itself."""

    def __init__(self, record: Json) -> None:
        self.record = record
        self.book: Json = record["rules"]["book"]
        self.items: list[Json] = record["rules"]["procedure"]["item"]
        self.protocols: dict[str, Json] = {one["id"]: one for one in record["rules"]["protocols"]}
        self.events: list[Json] = record["events"]
        self.opened: Json = self.events[0]["payload"]
        self.speed = self.opened["speed"] if self.opened["is_practice"] else 1

    # ---- rules

    def value(self, key: str) -> Any:
        found = self.book["values"].get(key)
        if found is None or (found.get("off") and not (found.get("checked") or found.get("changed"))):
            return None
        return found["value"]

    def figure(self, key: str) -> Fraction | None:
        found = self.value(key)
        return (
            Fraction(found) if isinstance(found, (str, int)) and not isinstance(found, bool) and found != "" else None
        )

    # ---- the log

    def chain_holds(self) -> bool:
        """Each entry is bound to all before it: SHA-256 over canonical JSON, see docs/formats/log.md."""
        previous = ""
        for one in self.events:
            link = {
                "previous": previous,
                "id": one["id"],
                "seq": one["seq"],
                "version": one["version"],
                "occurred_at": one["occurred_at"],
                "actor": one["actor"],
                "payload": one["payload"],
            }
            text = json.dumps(link, sort_keys=True, separators=(",", ":"), ensure_ascii=False)
            if hashlib.sha256(text.encode()).hexdigest() != one["chain"]:
                return False
            previous = one["chain"]
        return True

    def of(self, *kinds: str) -> list[Json]:
        return [one for one in self.events if one["payload"]["kind"] in kinds]

    def about(self, kind: str, run_id: str) -> Iterator[Json]:
        """The entries of a kind about a run, in order."""
        return (one for one in self.of(kind) if one["payload"]["run_id"] == run_id)

    def first_of(self, kind: str, run_id: str) -> Json | None:
        return next((one["payload"] for one in self.about(kind, run_id)), None)

    def moment_of(self, kind: str, run_id: str) -> datetime | None:
        """When the first entry of a kind about a run happened."""
        return next((moment(one["occurred_at"]) for one in self.about(kind, run_id)), None)

    def last_before(self, seq: int, *kinds: str) -> Json | None:
        found = [one for one in self.of(*kinds) if one["seq"] < seq]
        return found[-1] if found else None
