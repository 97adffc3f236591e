"""Which values of the rule book a record rests on: exactly those behind what it says."""

from __future__ import annotations

from collections.abc import Iterator

from moorfog.core.rules.validity import INTERVAL
from moorfog.core.views.terms import good_until
from moorfog.core.visit.blocks import MEDICAL, TRAINING
from moorfog.core.visit.outcomes import outcome
from moorfog.core.visit.state import Try, Visit

SEAL = ("seal_check.policy", "seal_check.hold")


def rests_on(visit: Visit) -> tuple[str, ...]:
    """Return the keys behind everything a report says, each once, in the order in which it says it.

    Until when a pass is valid; of every try its level, mode, seal check and reasons; what is on file; what was asked
    and how long it was waited for; what the task needs.
    """
    return tuple(dict.fromkeys(_keys(visit)))


def _keys(visit: Visit) -> Iterator[str]:
    if good_until(visit) is not None:
        yield INTERVAL
    for one in visit.tries:
        yield from _of_try(visit, one)
    yield from (*MEDICAL, *TRAINING)
    for item in visit.rules.procedure.item:
        if not item.act and item.id in visit.answers:
            yield from item.keys
    if visit.task is not None and visit.facepiece is not None:
        piece = visit.facepiece
        yield from (piece.traits.apf, f"{piece.traits.apf}.{piece.filter_class}", "filters.order")


def _of_try(visit: Visit, one: Try) -> Iterator[str]:
    if one.counted is not None:
        yield one.facepiece.level_key
        yield f"mode.{one.counted.mode}.filters"
    if any(result.donning == one.donning for result in visit.asked_seals):
        yield from SEAL
    for reason in outcome(visit, one)[1]:
        yield from reason.keys
