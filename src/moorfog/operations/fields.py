"""Kinds of values that several rooms take in."""

from __future__ import annotations

from datetime import UTC, date, datetime
from typing import Annotated, TypeAlias

from pydantic import AfterValidator, AwareDatetime, Field

from moorfog.operations.errors import DomainError

FIRST_DAY, LAST_DAY = date(1950, 1, 1), date(2999, 12, 31)
"""Days outside these are a slip of the keyboard, whatever they are of."""


def _within_sense(moment: datetime) -> datetime:
    if not FIRST_DAY <= moment.astimezone(UTC).date() <= LAST_DAY:
        raise ValueError(f"a moment between {FIRST_DAY} and {LAST_DAY} is expected")
    return moment


Moment: TypeAlias = Annotated[AwareDatetime, AfterValidator(_within_sense)]
"""A moment with its time zone, within sense."""


def day_of(text: str, what: str) -> date:
    """Read a day as YYYY-MM-DD. Raises :class:`DomainError` naming the field for none, or one out of all sense."""
    try:
        day = date.fromisoformat(text)
    except ValueError:
        raise DomainError("not_a_date", f"{what}: {text!r} is not a date; write it as 2026-01-31.") from None
    if len(text) != 10 or not FIRST_DAY <= day <= LAST_DAY:
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

LINE, NUMBER = 190, 40
"""Signs of a line, and of a person's own number, as they are stored."""
Line: TypeAlias = Annotated[str, Field(max_length=LINE)]
"""What somebody types into a field: a name, a job, by whom."""
Number: TypeAlias = Annotated[str, Field(max_length=NUMBER)]
"""A person's own number, as the employer writes it."""
Label: TypeAlias = Annotated[str, Field(max_length=60)]
"""What is written on a bottle, a part or an instrument, and keys of rules."""
Why: TypeAlias = Annotated[str, Field(max_length=400)]
"""A reason, in a sentence or two."""
Page: TypeAlias = Annotated[int, Field(ge=1, le=1_000_000)]
"""A page of a list, from 1; further on there is nothing that anybody would turn to."""
