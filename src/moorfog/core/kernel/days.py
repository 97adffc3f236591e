"""Days as they are kept: YYYY-MM-DD and nothing else, so that a later one is also the later text."""

from __future__ import annotations

import re
from datetime import date

WRITTEN = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}")


def day_or_none(text: str) -> date | None:
    """Return a day that is written as YYYY-MM-DD, None for anything else: a week or a day of the year (ISO 8601 allows
    both) would be compared as if it were later than any day."""
    try:
        return date.fromisoformat(text) if WRITTEN.fullmatch(text) else None
    except ValueError:
        return None
