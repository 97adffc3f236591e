"""User seal checks of a visit: which are done, whether they hold, and how often it leaked."""

from __future__ import annotations

from moorfog.core.events.payloads import (
    Facepiece,
)
from moorfog.core.rules.book import SealRule
from moorfog.core.visit.circumstances import applies, circumstances
from moorfog.core.visit.state import Visit


def seal_rule(visit: Visit) -> SealRule | None:
    """Return which user seal checks the facepiece allows; None when there is none or no rule covers it."""
    if visit.facepiece is None:
        return None
    here = circumstances(visit)
    return next((one for one in visit.rules.procedure.seal_check if applies(one.when, here)), None)


def seal_holds(visit: Visit) -> bool:
    """True if the checks the site's policy asks for hold on this donning after the last adjustment, and none leaked.

    Policies: all that can be done (default, and for a policy nobody knows) · either · the filter decides (the first).
    """
    rule = seal_rule(visit)
    if rule is None:
        return False
    made = [one for one in visit.seals if one.donning == visit.donning and one.adjustment == visit.adjustment]
    if any(one.leaks for one in made):
        return False  # after a leak it is refitted; the same fit asked again is no other fit
    found = {one.check.check for one in made if one.holds}
    policy = visit.rules.book.text("seal_check.policy")
    if policy == "either":
        return any(name in found for name in rule.checks)
    wanted = rule.checks[:1] if policy == "the filter decides" else rule.checks
    return all(name in found for name in wanted)


def has_leaked(visit: Visit) -> bool:
    """True if a seal check leaked on this donning since the last adjustment: a refit comes before the next check."""
    return any(one.leaks and one.donning == visit.donning and one.adjustment == visit.adjustment for one in visit.seals)


def repeated_leak(visit: Visit) -> str:
    """Return the place that leaked in the last two failed checks of the chosen facepiece alike, or nothing."""
    places = [one.check.place for one in visit.seals if one.leaks]
    return places[-1] if len(places) > 1 and places[-1] and places[-1] == places[-2] else ""


def seal_fails(visit: Visit, piece: Facepiece | None = None) -> int:
    """Return how many seal checks leaked in this visit on the very set-up of ``piece``, or of the one chosen."""
    piece = piece or visit.facepiece
    if piece is None:
        return 0
    return sum(1 for one in visit.asked_seals if one.leaks and one.configuration == piece.configuration)


def seals_allowed(visit: Visit) -> int:
    """Return how many seal checks may leak on a facepiece before another one is taken."""
    return int(visit.rules.book.number("seal_check.repeats")) + 1
