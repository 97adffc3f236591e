"""What ends a try and a visit: the decision, the signatures, the release, and corrections of a closed record."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from moorfog.core.events import payloads as ev
from moorfog.core.kernel.replacing import replace
from moorfog.core.rules.reason import Reason
from moorfog.core.visit.blocks import file_blocks
from moorfog.core.visit.outcomes import outcome
from moorfog.core.visit.state import Ended, File, Signature, Try, Visit
from moorfog.core.visit.steps import is_signed
from moorfog.core.visit.tries import (
    break_run,
    find_try,
    put_try,
    withheld_reason,
    worsen,
)


def _decided(visit: Visit, event: ev.Event, payload: ev.Decided) -> Visit:
    current = visit.current_try
    if current is None or current.is_running:
        return visit
    if payload.next == "end":
        return replace(visit, ending=True)
    visit = put_try(visit, replace(current, final=outcome(visit, current)))
    visit = replace(
        visit, attempt=visit.attempt + 1, worn_since=None, unaided=False, adjustment=visit.adjustment + 1, ending=False
    )
    if payload.next == "other_method":
        visit = replace(visit, method="")
    if payload.next in ("other_size", "other_facepiece"):
        visit = replace(visit, facepiece=None, seals=())
    return visit


def _withheld(visit: Visit, event: ev.Event, payload: ev.Withheld) -> Visit:
    one = find_try(visit, payload.run_id)
    if one is None:
        return visit
    words = payload.reason or "no reason given"
    return put_try(visit, worsen(replace(one, withheld=words), "fail", withheld_reason(words)))


def _signed(visit: Visit, event: ev.Event, payload: ev.Signed) -> Visit:
    signature = Signature(
        role=payload.role,
        digest=payload.digest,
        at=event.occurred_at,
        actor=event.actor,
        revision=visit.revision,
        covers_seq=payload.covers_seq,
    )
    others = tuple(one for one in visit.signatures if not (one.role == payload.role and one.revision == visit.revision))
    return replace(visit, signatures=(*others, signature))


def _turned_away(visit: Visit, event: ev.Event, payload: ev.TurnedAway) -> Visit:
    visit = break_run(visit, event.occurred_at, "turned_away", "The visit was ended during the run.")
    is_untouched = not visit.alterations and visit.worn_since is None and not visit.tries
    closed = visit.closed or ("turned_away" if is_untouched else "")
    return replace(
        visit, turned_away=payload.reason or "no reason given", come_back_on=payload.come_back_on, closed=closed
    )


def _released(visit: Visit, event: ev.Event, payload: ev.Released) -> Visit:
    if visit.alterations or visit.running is not None or visit.wrong_person:
        return visit
    if is_signed(visit):
        passed = (replace(one, has_passed=outcome(visit, one)[0] == "pass") for one in visit.tries)
        visit = replace(visit, tries=tuple(passed))
    return replace(visit, closed=visit.closed or ("turned_away" if visit.turned_away else "released"))


def _corrected(visit: Visit, event: ev.Event, payload: ev.Corrected) -> Visit:
    """Open a new revision. Every outcome is frozen first, so that no correction makes a pass of what was none."""
    frozen = tuple(
        one if one.final or one.is_running else replace(one, final=outcome(visit, one)) for one in visit.tries
    )
    revision = visit.revision + 1
    moved = tuple(
        Ended(
            no=one.no,
            person_id=visit.person_id,
            configuration=one.facepiece.configuration,
            at=one.started_at,
            revision=revision,
        )
        for one in frozen
        if one.has_failed and (payload.person_id or (payload.size and one.chosen_seq == payload.target))
    )
    if payload.size is not None:
        frozen = _moved_to_size(frozen, payload.target, payload.size)
    person = visit.person_id if payload.person_id is None else payload.person_id
    if payload.failed_before:
        frozen = tuple(worsen(one, "unfinished", FAILED_THERE) for one in frozen)
    visit = replace(
        visit,
        tries=frozen,
        revision=revision,
        corrections=(*visit.corrections, payload.reason),
        person_id=person,
        ended=(*visit.ended, *moved),
    )
    if payload.person_id is not None:
        visit = _for_the_right_person(visit, payload)
    one = find_try(visit, payload.void_run) if payload.void_run is not None else None
    return put_try(visit, replace(one, voided=payload.reason or "Voided by correction.")) if one is not None else visit


FAILED_THERE = Reason(
    code="failed_there",
    sentence="Moved to where this person has failed: that is no pass without another test.",
    rule="a correction never makes a pass of a non-pass",
    gravity="stop",
    remedy="Test again.",
)


def _moved_to_size(tries: tuple[Try, ...], chosen: int, size: str) -> tuple[Try, ...]:
    """Move the tries of one choice of a facepiece to another size; where that one has failed they are no pass."""
    out = tuple(
        replace(one, facepiece=replace(one.facepiece, size=size)) if one.chosen_seq == chosen else one for one in tries
    )
    failed = {one.facepiece.configuration for one in out if one.has_failed and one.chosen_seq != chosen}
    return tuple(
        worsen(one, "unfinished", FAILED_THERE)
        if one.chosen_seq == chosen and one.facepiece.configuration in failed
        else one
        for one in out
    )


def _for_the_right_person(visit: Visit, payload: ev.Corrected) -> Visit:
    """Judge the tries by the file of the person they are moved to: the first one's clearance does not go along."""
    file = payload.file
    visit = replace(
        visit,
        file=File(file.clearance, file.trained_on, file.on) if file is not None else File(None, "", ""),
        is_moved=True,
    )
    tries = []
    for one in visit.tries:
        for block in file_blocks(replace(visit, facepiece=one.facepiece)):
            why = Reason(
                code=block.code,
                sentence=f"{block.sentence}.",
                rule="the right person's own file",
                gravity="stop",
                remedy=block.detail,
                keys=block.keys,
            )
            one = worsen(one, "unfinished", why)
        tries.append(one)
    return replace(visit, tries=tuple(tries))


CLOSING_HANDLERS: dict[type, Callable[[Visit, ev.Event, Any], Visit]] = {
    ev.Decided: _decided,
    ev.Withheld: _withheld,
    ev.Signed: _signed,
    ev.TurnedAway: _turned_away,
    ev.Released: _released,
    ev.Corrected: _corrected,
}
