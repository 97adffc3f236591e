"""Answers that many routes give."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Made:
    """The id of what was made."""

    id: str
