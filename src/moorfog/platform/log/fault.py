"""What a check of the stored finds."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Fault:
    """Something stored that is not what was stored: of which kind, where it is, and what is wrong with it."""

    kind: str
    where: str
    problem: str
