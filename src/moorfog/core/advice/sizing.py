"""Choosing a size: advice per model, from the maker's ranges and this person's own tries. All in mm."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Literal


@dataclass(frozen=True)
class SizeRange:
    """A maker's size: face length, and width where the maker gives one. None: not stated."""

    name: str
    length: tuple[Fraction, Fraction] | None
    width: tuple[Fraction, Fraction] | None = None

    def holds(self, length: Fraction | None, width: Fraction | None) -> bool | None:
        """Tell whether a face is within the ranges that are stated and measured; None where nothing can be compared."""
        pairs = [
            (value, span) for value, span in ((length, self.length), (width, self.width)) if value is not None and span
        ]
        if not pairs:
            return None
        return all(span[0] <= value <= span[1] for value, span in pairs)


@dataclass(frozen=True)
class SizeAdvice:
    """Advice for one model. ``suggested`` best first; ``sentence`` says plainly how much is known.

    ``passed`` and ``within`` tell why a size is suggested: by a test on this face, or by the maker's range.
    """

    state: Literal["one", "overlap", "outside", "not measured", "all failed"]
    suggested: tuple[str, ...]
    failed: tuple[str, ...]
    sentence: str
    passed: tuple[str, ...] = ()
    within: tuple[str, ...] = ()


def size_advice(
    sizes: Sequence[SizeRange],
    length: Fraction | None,
    width: Fraction | None,
    passed: Sequence[str],
    failed: Sequence[str],
) -> SizeAdvice:
    """Return which sizes of a model to try, from the maker's ranges and the person's own tries in this configuration.

    What failed is never suggested; what passed comes first. A face outside every range, an overlap and a face that was
    not measured are each said plainly.
    """
    gone = tuple(one.name for one in sizes if one.name in failed)
    left = [one for one in sizes if one.name not in failed]
    if not left:
        return SizeAdvice("all failed", (), gone, "Every size of this model has failed on this face: another model.")
    within = sorted((one for one in left if one.holds(length, width)), key=lambda one: _off_middle(one, length))
    mine = tuple(one.name for one in left if one.name in passed)
    inside = tuple(one.name for one in within)
    state, sentence = _by_range(sizes, inside, length, width)
    if mine:
        sentence = f"Passed on this face before: {' and '.join(mine)}. {sentence}"
    return SizeAdvice(
        state=state,
        suggested=(*mine, *(one for one in inside if one not in mine)),
        failed=gone,
        sentence=sentence,
        passed=mine,
        within=inside,
    )


def _by_range(
    sizes: Sequence[SizeRange], inside: tuple[str, ...], length: Fraction | None, width: Fraction | None
) -> tuple[Literal["one", "overlap", "outside", "not measured"], str]:
    """Return what the maker's ranges say of a face within those of ``inside``, the nearest first."""
    if all(one.holds(length, width) is None for one in sizes):
        if length is None:
            return "not measured", "Not measured: hold the sizes to the face."
        return "not measured", "The maker states no range: hold them to the face."
    if not inside:
        return "outside", "This face is outside every range left of this model: another model may sit better."
    if len(inside) == 1:
        return "one", f"The maker's range points to {inside[0]}."
    return "overlap", f"The ranges of {' and '.join(inside)} overlap here: try both, the nearer first."


def _off_middle(one: SizeRange, length: Fraction | None) -> Fraction:
    if length is None or one.length is None:
        return Fraction(0)
    return abs((one.length[0] + one.length[1]) / 2 - length)
