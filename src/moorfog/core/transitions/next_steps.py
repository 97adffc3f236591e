"""What may come next after a try that did not pass: one rule for every kind of fit test.

Order: cause sought; reseat and readjust; same model, other size; other model; other kind; other method where the
person, not the seal, failed. At most so many tries a facepiece. What failed in the same configuration is never
suggested again. Source: common practice; after a taste or an odour another facepiece, 29 CFR 1910.134 App. A Part I.B
(recalled).
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable
from dataclasses import dataclass

from moorfog.core.events.payloads import Facepiece
from moorfog.core.visit.judgement import needs_decision
from moorfog.core.visit.outcomes import awaits_readings, outcome
from moorfog.core.visit.state import Try, Visit

AFTER_FAIL = "qlft.after_fail"


@dataclass(frozen=True)
class Offer:
    """Something that may be done next after a try that did not pass."""

    next: str
    label: str
    detail: str


def failed_configurations(visit: Visit) -> frozenset[str]:
    """Return the configurations that failed in this visit."""
    return frozenset(one.facepiece.configuration for one in visit.tries if outcome(visit, one)[0] == "fail")


def _not_known(_: Facepiece) -> bool | None:
    return None


def suggested(
    pieces: Iterable[Facepiece],
    after: Facepiece,
    failed: Collection[str],
    holds: Callable[[Facepiece], bool | None] = _not_known,
) -> tuple[Facepiece, ...]:
    """Return what to try after ``after``, best first: same model in another size, same kind, then other kinds.

    Nothing in ``failed`` (configuration digests) is among them, nor ``after`` itself. ``holds`` says whether the
    maker's range of a size holds this face (None: not known). The face decides first: a size whose range does not
    hold it comes last, so a long face that failed in L is sent to another model's L, never to the same model's S.
    Of sizes of which nothing is known, the one next to what failed comes before the far end of the range.
    """
    shelf = list(pieces)
    left = [one for one in shelf if one.configuration not in failed and one.configuration != after.configuration]
    sizes = list(dict.fromkeys(one.size for one in shelf if one.model_id == after.model_id))
    place = {size: number for number, size in enumerate(sizes)}

    def rank(one: Facepiece) -> tuple[bool, int, int]:
        outside = holds(one) is False
        if one.model_id == after.model_id:
            return outside, 0, abs(place[one.size] - place.get(after.size, place[one.size]))
        return outside, 1 if one.kind == after.kind else 2 if one.family == after.family else 3, 0

    return tuple(sorted(left, key=rank))


def spent(visit: Visit, piece: Facepiece) -> str:
    """Return why this very set-up is not tried any more today, or nothing: its tries are used up, or it failed by
    taste or smell and the rule asks for another facepiece."""
    same = [one for one in visit.tries if one.facepiece.configuration == piece.configuration]
    failed = [one for one in same if outcome(visit, one)[0] == "fail"]
    if failed and len(same) >= visit.rules.book.number("tries.per_facepiece"):
        return "This very set-up has used up its tries today."
    if any(_asks_for_another(visit, one) for one in failed):
        return "This very set-up let the agent through today: another one is tried."
    return ""


def _asks_for_another(visit: Visit, one: Try) -> bool:
    by_sense = one.sensed is not None and one.sensed.agent != "smoke"
    return by_sense and visit.rules.book.text(AFTER_FAIL) != "refit allowed"


def may_refit(visit: Visit, current: Try) -> bool:
    """Tell whether the same facepiece may be refitted and tested again after ``current``."""
    result, reasons = outcome(visit, current)
    if visit.tries_with(current.facepiece) >= visit.rules.book.number("tries.per_facepiece"):
        return False
    if any(reason.code == "after_comfort" for reason in reasons):
        return False
    return not (result == "fail" and _asks_for_another(visit, current))


def cause(visit: Visit, current: Try) -> str:
    """Return where to look for the cause, by the exercise that let most in, or nothing where it is not known."""
    protocol = visit.rules.protocol(current.started.protocol_id)
    if protocol is None:
        return ""
    if current.detection is not None:
        bends = current.sensed.bends if current.sensed is not None else True
        index = current.detection.exercise
        return f"Look at {protocol.exercises(bends)[index].look_at}." if index >= 0 else "Look at the whole edge."
    rows = current.numbers.exercises
    if not rows or outcome(visit, current)[0] != "fail":
        return ""
    worst = min(rows, key=lambda row: row.factor)
    return f"Look at {protocol.exercises()[worst.exercise].look_at}."


def offers(visit: Visit) -> tuple[Offer, ...]:
    """Return what may be done next, best first; nothing where none is due or readings are awaited."""
    current = visit.current_try
    if current is None or not needs_decision(visit):
        return ()
    if visit.distress:
        return (Offer("end", "End here", "Distress: the clinician decides."),)
    if awaits_readings(visit, current):
        return ()
    out: list[Offer] = []
    if may_refit(visit, current):
        limit = visit.rules.book.number("tries.per_facepiece")
        made = visit.tries_with(current.facepiece)
        words = (
            "Screen again, then the same once more" if current.sensed is not None else "Refit the same and run again"
        )
        out.append(Offer("same_again", words, f"try {made + 1} of at most {limit} on this facepiece"))
    again = "same model; screening again first" if current.sensed is not None else "same model"
    out.append(Offer("other_size", "Another size", again))
    out.append(Offer("other_facepiece", "Another facepiece", "another model or kind"))
    if current.sensed is not None and outcome(visit, current)[0] != "fail":
        out.append(Offer("other_method", "Another method", "where the person, not the seal, was the trouble"))
    out.append(Offer("end", "End without a pass", "put back, sign, release"))
    return tuple(out)
