"""Measuring a face and choosing a size: two readings and a third, the ten-cell panel, advice per model. All in mm."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from itertools import combinations
from typing import Literal

APART_MM = 3
CHANGED_MM = 3
USUAL: dict[str, tuple[int, int]] = {"length": (90, 150), "width": (110, 175), "lip": (35, 70)}
"""Outside these a value is questioned, never refused. Common practice."""


@dataclass(frozen=True)
class Cell:
    """A cell of the panel: length and width in mm, lower edge in, upper edge out (outer edges closed)."""

    number: int
    length: tuple[Fraction, Fraction]
    width: tuple[Fraction, Fraction]


def _cell(number: int, length: tuple[str, str], width: tuple[str, str]) -> Cell:
    return Cell(number, (Fraction(length[0]), Fraction(length[1])), (Fraction(width[0]), Fraction(width[1])))


PANEL = (
    _cell(1, ("98.5", "108.5"), ("120.5", "132.5")),
    _cell(2, ("98.5", "108.5"), ("132.5", "144.5")),
    _cell(3, ("108.5", "118.5"), ("120.5", "132.5")),
    _cell(4, ("108.5", "118.5"), ("132.5", "144.5")),
    _cell(5, ("108.5", "118.5"), ("144.5", "158.5")),
    _cell(6, ("118.5", "128.5"), ("120.5", "134.5")),
    _cell(7, ("118.5", "128.5"), ("134.5", "146.5")),
    _cell(8, ("118.5", "128.5"), ("146.5", "158.5")),
    _cell(9, ("128.5", "138.5"), ("134.5", "146.5")),
    _cell(10, ("128.5", "138.5"), ("146.5", "158.5")),
)
"""Zhuang, Bradtmiller and Shaffer 2007 (recalled; the widths of cells 6 to 10 with low confidence)."""


def panel_cell(length: Fraction, width: Fraction) -> int | None:
    """Return the number of the panel cell a face falls in, or None outside it: a hint, nothing more."""

    longest, widest = max(one.length[1] for one in PANEL), max(one.width[1] for one in PANEL)

    def inside(value: Fraction, span: tuple[Fraction, Fraction], outer: Fraction) -> bool:
        return span[0] <= value < span[1] or value == span[1] == outer

    found = (one.number for one in PANEL if inside(length, one.length, longest) and inside(width, one.width, widest))
    return next(found, None)


@dataclass(frozen=True)
class Measured:
    """A measure out of its readings. ``needs_third`` while two readings lie too far apart."""

    value: Fraction | None
    needs_third: bool
    question: str = ""


def measured(name: str, readings: Sequence[Fraction]) -> Measured:
    """Return the measure of ``readings``: the mean of two, or of the two closest of three. Common practice.

    Two readings more than 3 mm apart need a third. An unusual value is questioned, never refused.
    """
    if len(readings) < 2:
        return Measured(readings[0] if readings else None, False, _question(name, readings))
    if len(readings) == 2:
        if abs(readings[0] - readings[1]) > APART_MM:
            return Measured(None, True, "The two readings are more than 3 mm apart: take a third.")
        used: Sequence[Fraction] = readings
    else:
        used = min(combinations(readings[:3], 2), key=lambda pair: abs(pair[0] - pair[1]))
    return Measured(sum(used, Fraction(0)) / len(used), False, _question(name, used))


def _question(name: str, readings: Sequence[Fraction]) -> str:
    low, high = USUAL.get(name, (0, 10_000))
    if any(not low <= one <= high for one in readings):
        return f"Unusual: most faces are between {low} and {high} mm here. Measured from the right points?"
    return ""


def change_words(before: Fraction | None, now: Fraction | None) -> str:
    """Return what to say of a change against an earlier measurement, or nothing."""
    if before is None or now is None or abs(now - before) <= CHANGED_MM:
        return ""
    return (
        f"{float(abs(now - before)):.1f} mm {'more' if now > before else 'less'} than last time: has the face changed?"
    )


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
    return SizeAdvice(state, (*mine, *(one for one in inside if one not in mine)), gone, sentence, mine, inside)


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
