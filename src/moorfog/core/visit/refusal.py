"""Why a proposal is not accepted."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Refusal:
    """Why a proposal was not accepted: a stable code, what is wrong, what to do."""

    code: str
    sentence: str
    remedy: str
