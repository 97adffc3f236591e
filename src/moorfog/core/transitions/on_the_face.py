"""What happens to a facepiece on the face: donned, adjusted, touched, taken off, and checked by hand."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from fractions import Fraction
from typing import Any

from moorfog.core.events import payloads as ev
from moorfog.core.kernel.replacing import replace
from moorfog.core.rules.reason import Reason
from moorfog.core.visit.seals import seal_rule
from moorfog.core.visit.state import SealHold, SealResult, Try, Visit
from moorfog.core.visit.tries import (
    break_run,
    is_redonning,
    put_try,
    spoil,
    try_at,
)

REDONNED = Reason(
    "redonned",
    "Taken off, put on again or adjusted where the protocol asks for it.",
    "protocol: only in its re-donning",
    "note",
)


def _donned(visit: Visit, event: ev.Event, payload: ev.Donned) -> Visit:
    if visit.facepiece is None:
        return visit
    visit = break_run(visit, event.occurred_at, "donned_again", "It was donned again during the run.")
    helped = visit.worn_since is not None and not visit.unaided  # it is still on: nobody has donned it anew
    return replace(
        visit,
        donning=visit.donning + 1,
        unaided=payload.unaided and not helped,
        worn_since=event.occurred_at,
        adjustment=visit.adjustment + 1,
    )


def _since_donned(one: Try) -> datetime | None:
    return one.worn_since


def _since_sealed(one: Try) -> datetime | None:
    return one.sealed_at


def _changed_on_the_face(visit: Visit, one: Try, at: datetime, code: str, sentence: str) -> Visit:
    """Void a try in which the facepiece was moved or taken off, unless its protocol asks for just that then."""
    if is_redonning(visit, one, at):
        return put_try(visit, replace(one, remarks=(*one.remarks, REDONNED)))
    return spoil(visit, one, at, code, sentence)


def _doffed(visit: Visit, event: ev.Event, payload: ev.Doffed) -> Visit:
    at = event.occurred_at
    one = try_at(visit, at, _since_donned)
    if one is not None:
        visit = _changed_on_the_face(visit, one, at, "lifted", "It was taken off or lifted before the run was over.")
        if visit.tries[one.no - 1].is_running:
            return visit  # in a re-donning that the protocol asks for
    if visit.worn_since is None or at < visit.worn_since:
        return visit
    return replace(visit, worn_since=None, unaided=False)


def _adjusted(visit: Visit, event: ev.Event, payload: ev.Adjusted) -> Visit:
    at = event.occurred_at
    one = try_at(visit, at, _since_sealed)
    if one is not None:
        visit = _changed_on_the_face(visit, one, at, "adjusted", "It was adjusted before the run was over.")
        if visit.tries[one.no - 1].is_running:
            return visit
    return replace(visit, adjustment=visit.adjustment + 1)


def _seal_hold_begun(visit: Visit, event: ev.Event, payload: ev.SealHoldBegun) -> Visit:
    if visit.worn_since is None:
        return visit
    return replace(visit, seal_hold=SealHold(payload.check, event.occurred_at, visit.donning, visit.adjustment))


def hold_of(visit: Visit, check: str) -> SealHold | None:
    """Return the hold that was begun for a seal check as the facepiece sits now, None where none was."""
    hold, here = visit.seal_hold, (check, visit.donning, visit.adjustment)
    return hold if hold is not None and (hold.check, hold.donning, hold.adjustment) == here else None


def held_s(visit: Visit, check: str, at: datetime) -> float | None:
    """Return how many seconds of protocol time a seal check has been held at ``at``, None where no hold was begun."""
    hold = hold_of(visit, check)
    return (at - hold.at).total_seconds() * visit.speed if hold is not None else None


def must_be_held_s(visit: Visit, check: str) -> Fraction:
    """Return for how many seconds a seal check of this facepiece is held, 0 where it is not."""
    rule = seal_rule(visit)
    if rule is None or check not in rule.held:
        return Fraction(0)
    return visit.rules.book.ratio("seal_check.hold") or Fraction(0)


def _seal_checked(visit: Visit, event: ev.Event, payload: ev.SealChecked) -> Visit:
    if visit.worn_since is None or visit.facepiece is None:
        return visit
    wanted, held = must_be_held_s(visit, payload.check), held_s(visit, payload.check, event.occurred_at)
    made = SealResult(
        check=payload,
        at=event.occurred_at,
        donning=visit.donning,
        adjustment=visit.adjustment,
        configuration=visit.facepiece.configuration,
        is_long_enough=not wanted or (held is not None and held >= wanted),
    )
    return replace(visit, seals=(*visit.seals, made), asked_seals=(*visit.asked_seals, made), seal_hold=None)


def _touched(visit: Visit, event: ev.Event, payload: ev.Touched) -> Visit:
    at = event.occurred_at
    one = try_at(visit, at, _since_sealed if payload.moved else None)
    if one is None:
        moved = payload.moved and visit.worn_since is not None and visit.current_try is None
        return replace(visit, adjustment=visit.adjustment + 1) if moved else visit
    if payload.moved:
        return _changed_on_the_face(visit, one, at, "moved", "The wearer touched it and it moved.")
    note = Reason("touched", "The wearer touched it; nothing moved.", "recorded, the tester decides", "note")
    return put_try(visit, replace(one, remarks=(*one.remarks, note)))


ON_THE_FACE_HANDLERS: dict[type, Callable[[Visit, ev.Event, Any], Visit]] = {
    ev.SealHoldBegun: _seal_hold_begun,
    ev.Donned: _donned,
    ev.Doffed: _doffed,
    ev.Adjusted: _adjusted,
    ev.SealChecked: _seal_checked,
    ev.Touched: _touched,
}
