"""Measuring a face: two readings and a third, what is odd about them, and the panel it falls in. All in mm."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from itertools import combinations
from typing import Any

from moorfog.core.kernel.arithmetic import cut, whole_or_cut
from moorfog.core.kernel.codec import DataError, decode
from moorfog.core.rules.protocols import Standing


@dataclass(frozen=True)
class MeasureRule:
    """A measure of the face and the span in which most faces lie, as decimal text."""

    name: str
    usual: tuple[str, str]


@dataclass(frozen=True)
class Cell:
    """A cell of the panel: spans of length and width as decimal text, lower edge in, upper edge out; the panel's outer
    edges are closed."""

    number: int
    length: tuple[str, str]
    width: tuple[str, str]


@dataclass(frozen=True)
class Panel:
    """A panel of faces, with its source."""

    source: str
    standing: Standing
    cell: tuple[Cell, ...]


@dataclass(frozen=True)
class FaceRules:
    """How faces are measured: see ``data/faces.toml``."""

    apart: str
    changed: str
    source: str
    standing: Standing
    measure: tuple[MeasureRule, ...]
    panel: Panel


@dataclass(frozen=True)
class Measured:
    """A measure out of its readings. ``needs_third`` while two readings lie too far apart."""

    value: Fraction | None
    needs_third: bool
    question: str = ""


def read_face_rules(data: Mapping[str, Any], where: str) -> FaceRules:
    """Read the rules from parsed TOML. Raises :class:`DataError` naming file and key."""
    rules = decode(FaceRules, data, where)
    if not rules.source.strip() or not rules.panel.source.strip():
        raise DataError(f"{where}.source", "how faces are measured needs a source, and so does the panel")
    return rules


def _span(texts: tuple[str, str]) -> tuple[Fraction, Fraction]:
    return Fraction(texts[0]), Fraction(texts[1])


def panel_cell(rules: FaceRules, length: Fraction, width: Fraction) -> int | None:
    """Return the number of the panel cell a face falls in, or None outside it: a hint, nothing more."""
    cells = [(one.number, _span(one.length), _span(one.width)) for one in rules.panel.cell]
    longest, widest = max(one[1][1] for one in cells), max(one[2][1] for one in cells)

    def inside(value: Fraction, span: tuple[Fraction, Fraction], outer: Fraction) -> bool:
        return span[0] <= value < span[1] or value == span[1] == outer

    found = (number for number, long, wide in cells if inside(length, long, longest) and inside(width, wide, widest))
    return next(found, None)


def measured(rules: FaceRules, name: str, readings: Sequence[Fraction]) -> Measured:
    """Return the measure of ``readings``: the mean of two, or of the two closest of three. Common practice.

    Two readings too far apart need a third. An unusual value is questioned, never refused.
    """
    if len(readings) < 2:
        return Measured(readings[0] if readings else None, False, _question(rules, name, readings))
    if len(readings) == 2:
        if abs(readings[0] - readings[1]) > Fraction(rules.apart):
            return Measured(None, True, f"The two readings are more than {rules.apart} mm apart: take a third.")
        used: Sequence[Fraction] = readings
    else:
        used = min(combinations(readings[:3], 2), key=lambda pair: abs(pair[0] - pair[1]))
    return Measured(sum(used, Fraction(0)) / len(used), False, _question(rules, name, used))


def _question(rules: FaceRules, name: str, readings: Sequence[Fraction]) -> str:
    rule = next((one for one in rules.measure if one.name == name), None)
    low, high = _span(rule.usual) if rule is not None else (Fraction(0), Fraction(10_000))
    if any(not low <= one <= high for one in readings):
        span = f"{whole_or_cut(low)} and {whole_or_cut(high)}"
        return f"Unusual: most faces are between {span} mm here. Measured from the right points?"
    return ""


def change_words(rules: FaceRules, before: Fraction | None, now: Fraction | None) -> str:
    """Return what to say of a change against an earlier measurement, or nothing."""
    if before is None or now is None or abs(now - before) <= Fraction(rules.changed):
        return ""
    way = "more" if now > before else "less"
    return f"{cut(abs(now - before), 1)} mm {way} than last time: has the face changed?"
