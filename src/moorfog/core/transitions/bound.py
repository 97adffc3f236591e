"""A press belongs to one visit: it names the visit, the person, and what was on the screen when it was made."""

from __future__ import annotations

from dataclasses import dataclass

from moorfog.core.kernel.canonical import digest
from moorfog.core.visit.refusal import Refusal
from moorfog.core.visit.state import Visit


@dataclass(frozen=True)
class PressedOn:
    """What a press was made on: ids of visit and person, and the mark of what the screen showed, see :func:`mark_of`.

    ``mark`` None: an observation, which is taken whatever the screen showed.
    """

    visit_id: str
    person_id: str
    mark: str | None


def mark_of(visit_id: str, visit: Visit) -> str:
    """Return the mark of what a screen shows of a visit: another visit, person or entry decided on is another mark."""
    return digest([visit_id, visit.person_id, visit.moved])[:16]


def not_of_this(visit_id: str, visit: Visit, pressed: PressedOn) -> Refusal | None:
    """Return why a press is not one of this visit, or None.

    A correction may have moved the record to another person since an observation was made: it may name either.
    """
    if pressed.visit_id != visit_id:
        return Refusal("other_visit", "This was pressed in another visit.", "Open that visit; nothing is entered here.")
    at_first = visit.opened.person_id if visit.opened is not None else ""
    known = {visit.person_id} if pressed.mark is not None else {visit.person_id, at_first}
    if pressed.person_id not in known:
        return Refusal("other_person", "This was pressed for another person.", "Look who is here, then press again.")
    if pressed.mark is not None and pressed.mark != mark_of(visit_id, visit):
        return Refusal("other_card", "The screen showed something else when this was pressed.", "Look, press again.")
    return None
