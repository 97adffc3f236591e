"""Fit factors, exactly. Verdicts are made of fractions: seven times exactly 100 is 100, and passes 100.

Display cuts and never rounds up, so that no number on a screen or a page promises more than was measured.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

NL_PER_CM3 = 1_000_000
_DECIMAL = re.compile(r"-?[0-9]{1,12}(\.[0-9]{1,12})?\Z")


class NotANumber(ValueError):
    """A figure that cannot be used: not finite, not a decimal, or outside what is possible."""


def parse_decimal(text: str, what: str) -> Fraction:
    """Read a decimal as typed ("6850", "0.5") exactly.

    Raises :class:`NotANumber` naming ``what``: "nan", "inf", exponents, signs other than a leading minus and
    anything else that is not plain digits are refused (NaN would pass every "not less than").
    """
    if not _DECIMAL.match(text.strip()):
        raise NotANumber(
            f"{what}: {text!r} is not a plain number; write digits with at most one point, like 6850 or 0.5"
        )
    return Fraction(text.strip())


def decimal_or_none(text: str) -> Fraction | None:
    """Read a decimal above or equal to zero, or return None where it is none."""
    try:
        value = parse_decimal(text, "value")
    except NotANumber:
        return None
    return value if value >= 0 else None


def whole_or_none(text: str) -> int | None:
    """Return a whole number written in up to fifteen digits 0 to 9, with a minus before them or not; None for else.

    The digits of other scripts, a raised two among them, are text: ``str.isdigit`` takes them and ``int`` does not.
    """
    return int(text) if re.fullmatch(r"-?[0-9]{1,15}", text) else None


def concentration(counts: int, volume_nl: int) -> Fraction:
    """Return particles per cm³ from raw counts and the sampled volume in nanolitres (> 0), exactly."""
    if volume_nl <= 0:
        raise NotANumber(f"a sampled volume of {volume_nl} nl gives no concentration")
    return Fraction(counts * NL_PER_CM3, volume_nl)


def mean_outside(first: Fraction, last: Fraction) -> Fraction:
    """Return the outside figure of a fast protocol: the two means weigh the same, whatever their length.

    Source: 29 CFR 1910.134 App. A Part I.C.4 and C.5 (recalled).
    """
    return (first + last) / 2


def drift(first: Fraction, last: Fraction) -> Fraction:
    """Return |a − b| ÷ mean of the two ambient samples."""
    total = first + last
    if total <= 0:
        raise NotANumber("drift needs an ambient concentration above zero")
    return abs(first - last) * 2 / total


def overall(factors: Sequence[Fraction], n: int) -> Fraction:
    """Return the overall fit factor N ÷ Σ(1/FFᵢ), the harmonic mean over exactly ``n`` exercises.

    Raises ``ValueError`` unless exactly ``n`` factors above zero are given: a missing exercise means no verdict,
    never a smaller N. Source: 29 CFR 1910.134 App. A Part I.C.3 (recalled).
    """
    if len(factors) != n or n < 1:
        raise ValueError(f"{n} exercises are in the sum, {len(factors)} were given; a missing one means no verdict")
    if any(one <= 0 for one in factors):
        raise ValueError("every fit factor must be above zero")
    return Fraction(n) / sum((1 / one for one in factors), Fraction(0))


def exact_text(value: Fraction) -> str:
    """Write a number that came from decimal text as decimal text again, exactly (201/2 → "100.5").

    Raises ``ValueError`` for one that no decimal text can hold, such as 1/3.
    """
    for places in range(40):
        scaled = value * 10**places
        if scaled.denominator == 1:
            digits = f"{abs(scaled.numerator):0{places + 1}d}"
            sign = "-" if value < 0 else ""
            return sign + (f"{digits[:-places]}.{digits[-places:]}" if places else digits)
    raise ValueError(f"{value} cannot be written as a decimal")


def cut(value: Fraction, decimals: int = 1) -> str:
    """Write ``value`` with at most ``decimals`` places, cut towards zero, never rounded up (99.856 → "99.8").

    From 1,000 on whole numbers are shown.
    """
    if abs(value) >= 1000:
        decimals = 0
    scale = 10**decimals
    whole = abs(value.numerator) * scale // value.denominator
    sign = "-" if value < 0 and whole else ""
    if decimals == 0:
        return f"{sign}{whole}"
    return f"{sign}{whole // scale}.{whole % scale:0{decimals}d}"


def whole_or_cut(value: Fraction, decimals: int = 1) -> str:
    """Write a level or limit: without places where it is whole, else cut as :func:`cut` does."""
    return str(value.numerator) if value.denominator == 1 else cut(value, decimals)


@dataclass(frozen=True)
class Budget:
    """How much of the leak budget N ÷ level is spent. Shares are of the whole budget (1 = all of it)."""

    shares: tuple[Fraction, ...]
    spent: Fraction
    is_unlikely: bool
    is_lost: bool


def worst_drift_factor(maximum: Fraction) -> Fraction:
    """Return by how much the outside mean may still grow over the first sample within the drift rule.

    With |b − a| ÷ ((a + b) ÷ 2) ≤ d, b ≤ a (2 + d) ÷ (2 − d), so mean ÷ a ≤ 2 ÷ (2 − d): 1.111 for d = 20 %.
    """
    return Fraction(2) / (2 - maximum)


def leak_budget(
    inside_share: Sequence[Fraction], n: int, level: Fraction, drift_maximum: Fraction, is_final: Sequence[bool]
) -> Budget:
    """Return the spent leak budget: Σ(1/FFᵢ) against N ÷ level.

    ``inside_share`` holds one inside ÷ outside per exercise begun, a running one with its counts so far over its
    full planned volume, so that it only grows. ``is_final`` says for each whether its outside figure is settled:
    until then it may still grow by the most the drift rule allows, and the run is lost only when not even that
    would bring the sum within the budget.
    """
    budget = Fraction(n) / level
    shares = tuple(one / budget for one in inside_share)
    spent = sum(shares, Fraction(0))
    hope = worst_drift_factor(drift_maximum)
    at_best = sum((one if final else one / hope for one, final in zip(shares, is_final, strict=True)), Fraction(0))
    return Budget(shares, spent, is_unlikely=spent > 1, is_lost=at_best > 1)
