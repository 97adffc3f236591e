"""What somebody who may not wear a set-up is short of, the shortest way out first (common practice; no source).

Training is given on the spot, a fit test takes an hour at the bench, a word of the office a day, a clinician longest.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

from moorfog.core.permission.may_wear import Who

WayId = Literal["training", "fit_test", "office", "clearance"]


@dataclass(frozen=True)
class Way:
    """A way out: what is lacking, in words, and who gives it."""

    id: WayId
    words: str
    by: Who


WAYS = (
    Way("training", "training", "administrator"),
    Way("fit_test", "a fit test", "tester"),
    Way("office", "a word from the office", "administrator"),
    Way("clearance", "a clearance", "clinician"),
)
"""The shortest first."""
_PLACES = {one.id: place for place, one in enumerate(WAYS)}
_BY_SETTLER: dict[str, WayId] = {"tester": "fit_test", "clinician": "clearance"}


def way_of(code: str, settled_by: str) -> WayId:
    """Return the way out of one reason: its code, and who settles it."""
    return "training" if code == "training" else _BY_SETTLER.get(settled_by, "office")


def ways_out(reasons: Iterable[tuple[str, str]]) -> tuple[Way, ...]:
    """Return everything that is lacking, each once, the shortest way first. A reason is its code and who settles it."""
    found = {way_of(*one) for one in reasons}
    return tuple(one for one in WAYS if one.id in found)


def length(ways: tuple[Way, ...]) -> tuple[int, int]:
    """Return what to sort by: the longest way decides, then how many there are. Nothing lacking comes first."""
    return max((_PLACES[one.id] for one in ways), default=-1), len(ways)
