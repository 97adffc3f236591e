"""Next to nothing inside: a good seal, a HEPA filter left on the line, or a blocked one. Each exercise is looked at."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction

from moorfog.core.kernel.arithmetic import cut, whole_or_cut
from moorfog.core.measuring.results import ExerciseResult, RunNumbers, void
from moorfog.core.rules.book import Book

DROP = "near_zero.drop"
"""The book's times by which two exercises of one run may not differ where one is near zero; without it, as before,
only the whole run is looked at."""


def is_each_looked_at(book: Book) -> bool:
    """Tell whether a book has every exercise looked at, and not the run as a whole alone."""
    return book.ratio(DROP) is not None


def any_near_zero(book: Book, results: Sequence[ExerciseResult], least: Fraction) -> bool:
    """Tell whether an exercise read no more than ``least`` inside, in the unit of its figures, or nothing at all."""
    return is_each_looked_at(book) and any(_is_near(one, least) for one in results)


def _is_near(one: ExerciseResult, least: Fraction) -> bool:
    return one.inside is not None and (one.inside <= least or one.inside <= 0)


def dropped(book: Book, results: Sequence[ExerciseResult], least: Fraction, names: Sequence[str]) -> RunNumbers | None:
    """Return the void of a run whose inside fell from a leak to next to nothing: no seal does that; None where it did
    not. ``names``: of the exercises, in the order of ``results``."""
    times = book.ratio(DROP)
    if times is None or least <= 0:
        return None
    known = [(one.inside, name) for one, name in zip(results, names, strict=True) if one.inside is not None]
    low = [name for inside, name in known if inside <= least]
    high = max(known, default=None)
    if not low or high is None or high[0] is None or high[0] < times * least:
        return None
    return void(
        "unexplained_drop",
        f"{high[1]} read {cut(high[0], 2)} inside, {low[0]} next to nothing: no seal closes so far in between.",
        f"a difference of {whole_or_cut(times)} times next to nothing, choice of this product",
        "Line, probe and hoses: look for what is blocked, then repeat.",
        results,
        (DROP, "near_zero.concentration", "near_zero.clean_air"),
    )
