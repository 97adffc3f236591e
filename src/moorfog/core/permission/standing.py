"""How somebody stands in all of their set-ups together: until when, whether in one alone, and when to look again."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from moorfog.core.permission.may_wear import Permission, PersonFacts
from moorfog.core.rules.in_force import Books


@dataclass(frozen=True)
class StandingOf:
    """Until which day something can be worn (empty: nothing now), whether that is one set-up alone, and the first day
    on which the answer may be another though nothing is entered (empty: never)."""

    until: str
    is_only: bool
    look_again: str


def standing_of(found: Sequence[Permission], person: PersonFacts, books: Books, day: str) -> StandingOf:
    """Return how somebody stands by what was answered for each of their passes on ``day``.

    What ends does so on a day that is known, and what begins later, a fact or a rule, is on file already: nothing else
    changes by itself.
    """
    good = [one.until for one in found if one.may]
    begins = [*(one.valid_from for one in person.clearances), *(one.valid_from for one in person.passes)]
    begins += books.changes
    ahead = [one for one in (*begins, *person.trained) if one > day]
    ahead += [(date.fromisoformat(one) + timedelta(days=1)).isoformat() for one in good]
    return StandingOf(until=max(good, default=""), is_only=len(good) == 1, look_again=min(ahead, default=""))
