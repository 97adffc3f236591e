"""Kinds of values that several rooms take in."""

from __future__ import annotations

import unicodedata
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, date, datetime
from typing import Annotated, Any, ClassVar, TypeAlias

from pydantic import AfterValidator, AwareDatetime, Field

from moorfog.core.events.facts import STRICT
from moorfog.core.kernel.days import day_or_none
from moorfog.platform.web.errors import DomainError

TURNING = frozenset({"LRE", "RLE", "LRO", "RLO", "PDF", "LRI", "RLI", "FSI", "PDI"})
FIRST_DAY, LAST_DAY = date(1950, 1, 1), date(2999, 12, 31)
"""Days outside these are a slip of the keyboard, whatever they are of."""


def _within_sense(moment: datetime) -> datetime:
    # by its own day first: at the ends of the calendar there is no such moment in another zone
    if FIRST_DAY < moment.date() < LAST_DAY and FIRST_DAY <= moment.astimezone(UTC).date() <= LAST_DAY:
        return moment
    raise ValueError(f"a moment between {FIRST_DAY} and {LAST_DAY} is expected")


Moment: TypeAlias = Annotated[AwareDatetime, AfterValidator(_within_sense)]
"""A moment with its time zone, within sense."""


def day_of(text: str, what: str) -> date:
    """Read a day as YYYY-MM-DD. Raises :class:`DomainError` naming the field for none, or one out of all sense."""
    day = day_or_none(text)
    if day is None:
        raise DomainError("not_a_date", f"{what}: {text!r} is not a date; write it as 2026-01-31.")
    if not FIRST_DAY <= day <= LAST_DAY:
        raise DomainError(
            "not_a_date", f"{what}: {text!r} is not a date between {FIRST_DAY} and {LAST_DAY}; write it as 2026-01-31."
        )
    return day


def is_address(text: str) -> bool:
    """Tell whether an e-mail can be written to what stands as somebody's contact."""
    name, _, host = text.strip().partition("@")
    return bool(name) and "." in host and not any(one.isspace() or one in ",;<>" for one in text.strip())


Id: TypeAlias = Annotated[str, Field(pattern=r"^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$", description="a UUID")]

MaybeId: TypeAlias = Annotated[
    str, Field(pattern=r"^([0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12})?$", description="a UUID, or empty")
]

BREAKS = "\n\t"
"""What a sentence may have and a line may not."""


def hidden_sign(text: str, allowed: str = "") -> str:
    """Return the first sign of a text that is not to be seen on a page or paper, as U+XXXX; nothing where all are.

    Control signs, halves of signs, what turns the direction of writing, and what is no sign at all: none of them can
    be written to every kind of file (XML 1.0, section 2.2, recalled), and some make a name look like another.
    """
    for one in text:
        is_turning = unicodedata.bidirectional(one) in TURNING or one in "\u200e\u200f\u061c"
        is_none = ord(one) & 0xFFFE == 0xFFFE or 0xFDD0 <= ord(one) <= 0xFDEF
        if one not in allowed and (unicodedata.category(one) in ("Cc", "Cs") or is_turning or is_none):
            return f"U+{ord(one):04X}"
    return ""


def _to_be_seen(allowed: str) -> Callable[[str], str]:
    def check(text: str) -> str:
        sign = hidden_sign(text, allowed)
        if sign:
            raise ValueError(f"there is a sign in it that nobody sees ({sign}); type it anew")
        return unicodedata.normalize("NFC", text)

    return check


LINE, NUMBER = 190, 40
"""Signs of a line, and of a person's own number, as they are stored."""
Line: TypeAlias = Annotated[str, Field(max_length=LINE), AfterValidator(_to_be_seen(""))]
"""What somebody types into a field: a name, a job, by whom."""
Number: TypeAlias = Annotated[str, Field(max_length=NUMBER), AfterValidator(_to_be_seen(""))]
"""A person's own number, as the employer writes it."""
Label: TypeAlias = Annotated[str, Field(max_length=60), AfterValidator(_to_be_seen(""))]
"""What is written on a bottle, a part or an instrument, and keys of rules."""
Why: TypeAlias = Annotated[str, Field(max_length=400), AfterValidator(_to_be_seen(BREAKS))]
"""A reason, in a sentence or two."""
Page: TypeAlias = Annotated[int, Field(ge=1, le=1_000_000)]
"""A page of a list, from 1; further on there is nothing that anybody would turn to."""


@dataclass(frozen=True)
class Withdrawal:
    """Why something is withdrawn; it stands beside it."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    why: Why
