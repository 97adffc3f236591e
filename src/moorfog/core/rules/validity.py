"""Until when something counts: the one place that turns a day and an interval into a last valid day."""

from __future__ import annotations

from datetime import date

INTERVAL = "interval"
"""Where a rule book says for how many months a test counts."""


def valid_until(tested_on: date, months: int) -> date:
    """Return the last valid day: the anniversary in the site's time zone, 29 February → 28 February."""
    total = tested_on.month - 1 + months
    year, month = tested_on.year + total // 12, total % 12 + 1
    day = tested_on.day
    while True:
        try:
            return date(year, month, day)
        except ValueError:
            day -= 1
