"""How sure a share of people is: Wilson's interval at 95 %, and nothing at all where they are too few.

Wilson, E. B. (1927), Probable inference, the law of succession, and statistical inference; recalled.
"""

from __future__ import annotations

from dataclasses import dataclass
from math import ceil, floor, sqrt

from scipy.special import ndtri

FEW = 5
"""Under so many people nothing is said of a share: common practice."""
TWO_SIDED = 0.95


@dataclass(frozen=True)
class Share:
    """Between which whole per cents a share lies, as sure as 95 %: the lower cut, the upper raised."""

    low: int
    high: int


def wilson(passed: int, tested: int) -> tuple[float, float]:
    """Return Wilson's interval of a share as fractions of one. Raises ``ValueError`` for counts without sense."""
    if not 0 <= passed <= tested or tested == 0:
        raise ValueError(f"{passed} of {tested} is no share")
    z = float(ndtri(1 - (1 - TWO_SIDED) / 2))
    share, more = passed / tested, z * z / tested
    middle = (share + more / 2) / (1 + more)
    half = z * sqrt(share * (1 - share) / tested + more / (4 * tested)) / (1 + more)
    low = 0.0 if passed == 0 else max(0.0, middle - half)
    return low, 1.0 if passed == tested else min(1.0, middle + half)


def share(passed: int, tested: int) -> Share | None:
    """Return between which per cents a share lies, None where the people are too few to tell."""
    if tested < FEW:
        return None
    low, high = wilson(passed, tested)
    return Share(floor(100 * low), ceil(100 * high))
