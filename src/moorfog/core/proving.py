"""The proof after a held verdict: a measurement, on the same donning, soon after the end. A tick proves nothing.

Source: common practice; the figures stand in the rule book.
"""

from __future__ import annotations

from datetime import datetime
from fractions import Fraction

from moorfog.core.arithmetic import cut, decimal_or_none, whole_or_cut
from moorfog.core.visit import Try, Visit

WITHIN, RISE = "proof.within", "proof.rise"


def inside_of(one: Try) -> Fraction | None:
    """Return the highest mean inside figure of a run's exercises, None where it has none."""
    found = [row.inside for row in one.numbers.exercises if row.inside is not None]
    return max(found) if found else None


def least_risen(visit: Visit, one: Try) -> Fraction | None:
    """Return what the inside must rise to, in the unit of the display; None where the book asks for no figure.

    So many times what was read inside; where nothing was, so many times half a step of the display.
    """
    times, counted = visit.rules.book.ratio(RISE), one.counted
    if times is None or counted is None:
        return None
    step = decimal_or_none(one.typed.resolution if one.typed is not None else counted.instrument.resolution)
    return times * max(inside_of(one) or Fraction(0), (step or Fraction(1)) / 2)


def too_late(visit: Visit, one: Try, at: datetime, on_face: bool) -> str:
    """Return why a proof at ``at`` shows nothing of this run any more, or nothing.

    ``on_face``: it must be the same donning still, as where the seal is broken on purpose.
    """
    within = visit.rules.book.ratio(WITHIN)
    if within is None:
        return ""
    if on_face and (visit.worn_since is None or visit.donning != one.donning or visit.worn_since != one.worn_since):
        return "It was taken off since: the proof belongs to another donning."
    if one.ended_at is None or at > visit.after(one.ended_at, float(within)):
        return f"The proof came later than {whole_or_cut(within)} s after the end of the run."
    return ""


def judge_proof(visit: Visit, one: Try, at: datetime, rose: bool, seen: str) -> tuple[bool, str]:
    """Return whether a seal-break proof holds, and why not."""
    if not rose:
        return False, ""
    late, least = too_late(visit, one, at, on_face=True), least_risen(visit, one)
    if late or least is None:
        return not late, late
    figure = decimal_or_none(seen)
    if figure is None:
        return False, "What the display showed was not read."
    if figure < least:
        return False, f"It rose to {cut(figure, 3)} only; {cut(least, 3)} is needed."
    return True, ""
