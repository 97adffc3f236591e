"""Why something is as it is, in words, with the rules it rests on."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal


@dataclass(frozen=True)
class Reason:
    """Why something is as it is: a stable code, a sentence a tester could say, the rule, what to do.

    ``keys``: the values of the rule book that the sentence rests on, such as ``drift.maximum``; papers print them with
    source and standing.
    """

    code: str
    sentence: str
    rule: str
    gravity: Literal["stop", "put_right", "note"]
    remedy: str = ""
    keys: tuple[str, ...] = ()
