"""What a simulated wearer or its kit may hide, to learn on and to test with."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence

WEARER_FAULTS: dict[str, tuple[str, ...]] = {
    "twisted strap": ("side",),
    "stubble": ("talk", "jog", "shake"),
    "wrong size": ("bend",),
    "missing valve": ("deep", "jog", "talk", "shake"),
    "over-tight gap": ("updown", "shake"),
    "temple bars": ("side", "bend"),
}
"""What a wearer may hide, and the exercise in which it leaks most: the first of these that the protocol has."""

HEPA_LEFT_ON = "HEPA filter left on"
KIT_FAULTS = ("low alcohol", "wet hose", "blocked hose", "stuck valve", HEPA_LEFT_ON, "burner lit nearby")
"""What the kit may hide. None of them may ever lead to a pass."""


def named_exercise(fault: str, exercises: Sequence[str]) -> int | None:
    """Return the place of the exercise a wearer's fault shows most in, None where the protocol has none of them."""
    return next((exercises.index(one) for one in WEARER_FAULTS.get(fault, ()) if one in exercises), None)


GOOD_SEAL = "good seal"
TIGHT_SEAL = "seal too good to be read"
PRACTICE = (GOOD_SEAL, TIGHT_SEAL, *WEARER_FAULTS, *KIT_FAULTS)
"""What a practice run may be set to: a seal that is good for sure, one so good that it is held, or a fault."""

DRAWN = "drawn by chance"
"""A practice run that is set to something the learner is not told before the visit is closed."""


def drawn(run_id: str) -> str:
    """Return what a practice run hides when it is drawn by chance: the same for the same run."""
    return PRACTICE[int.from_bytes(hashlib.sha256(run_id.encode()).digest()[:4], "big") % len(PRACTICE)]
