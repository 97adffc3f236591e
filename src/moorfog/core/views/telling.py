"""What a result means, in one sentence to say to the wearer; and in fewer words for the wearer's own screen."""

from __future__ import annotations

from collections.abc import Sequence

from moorfog.core.rules.reason import Reason
from moorfog.core.visit.state import Outcome

MEANS_TO_THE_WEARER: dict[str, str] = {
    "pass": "It fits.",
    "fail": "This one does not fit well enough. We look for another.",
    "void": "This one does not count. We do it again.",
}
"""For the wearer's own screen: no numbers there."""
SAID = "Thank you. That helps you. We look for another."
"""To whoever pressed that they noticed it."""


def tell(result: Outcome, reasons: Sequence[Reason], *, overall: str, level: str, is_sensed: bool) -> str:
    """Return what to say of a try that is over, nothing where there is nothing to say yet.

    ``overall`` and ``level`` are fit factors as they are shown; a test by the senses has neither.
    """
    overall = overall.replace("≥", "at least")
    if result == "pass":
        if is_sensed:
            return "It fits: you noticed nothing from start to end."
        return f"It fits: {overall} times cleaner inside than outside, and {level} is enough."
    if result == "fail" and is_sensed:
        return "It leaks, so not this one. Good that it was said."
    if result == "fail" and overall:
        return f"Not this one: {overall} times cleaner inside, and it must be {level}."
    if result == "void":
        return "This run does not count, and says nothing about the mask. We do it again."
    return next((one.sentence for one in reasons if one.gravity != "note"), "")
