"""Days: written YYYY-MM-DD and nothing else, so that a later one is the later text, too; and which day it is."""

from __future__ import annotations

import re
from datetime import date, datetime
from zoneinfo import ZoneInfo

WRITTEN = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}")


def day_in(zone: str, at: datetime) -> date:
    """Return the day that it is in a time zone at a moment: the day of a site is that of its own zone."""
    return at.astimezone(ZoneInfo(zone)).date()


def day_or_none(text: str) -> date | None:
    """Return a day that is written as YYYY-MM-DD, None for anything else: a week or a day of the year (ISO 8601 allows
    both) would be compared as if it were later than any day."""
    try:
        return date.fromisoformat(text) if WRITTEN.fullmatch(text) else None
    except ValueError:
        return None
