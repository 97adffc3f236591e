"""Answers given together: what is looked at on one card is settled by one press, each question on its own."""

from __future__ import annotations

from collections.abc import Sequence

from moorfog.core.visit.refusal import Refusal
from moorfog.core.visit.state import Visit


def not_together(visit: Visit, questions: Sequence[str]) -> Refusal | None:
    """Return why ``questions`` cannot be answered with one press, or None: only those of one look can, each once.

    What stops the test, and what is done rather than asked, belongs to no look.
    """
    if len(set(questions)) != len(questions):
        return Refusal("asked_twice", "The same question is answered twice.", "Answer each once.")
    looks = {item.look if item is not None else "" for item in map(visit.rules.procedure.find, questions)}
    if len(looks) != 1 or "" in looks:
        return Refusal("not_together", "These are not looked at together.", "Answer each on its own card.")
    return None
