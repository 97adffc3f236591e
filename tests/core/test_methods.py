"""Method advice against a truth table typed by hand from the texts (recalled)."""

from __future__ import annotations

import tomllib
from fractions import Fraction
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from moorfog.core.advice.methods import METHODS, QUALITATIVE, Kit, Wearer, advise, counter_mode
from moorfog.core.rules.overlay import Overlay
from moorfog.data import lay_over, rules_for, shipped_books, shipped_rules
from tests.core.bench import facepiece

CELLS: list[dict[str, Any]] = tomllib.loads((Path(__file__).parents[1] / "data" / "methods.toml").read_text())["cell"]
ALL = Kit(frozenset(METHODS))
NAMES = [f"{one['book'][:2]}-{one['piece']['kind']}-{one['piece']['filter_class']}-{one['required']}" for one in CELLS]


@pytest.mark.parametrize("cell", CELLS, ids=NAMES)
def test_the_table_of_methods(cell: dict[str, Any]) -> None:
    required = Fraction(cell["required"]) if cell["required"] else None
    advice = advise(facepiece(**cell["piece"]), shipped_rules(cell["book"]), required, ALL, Wearer())
    found = {one.method: "may" if one.verdict == "may" else "no" for one in advice}
    wanted = {method: cell[method] for method in METHODS if method in cell}
    assert {method: found[method] for method in wanted} == wanted  # type: ignore[index]
    assert all(one.reasons for one in advice), "every method says why or why not"
    assert sum(one.is_best for one in advice) == (1 if "may" in found.values() else 0)


def test_a_full_facepiece_by_taste_carries_its_limit_and_a_powered_one_does_not() -> None:
    rules = shipped_rules()
    full = advise(facepiece(kind="full"), rules, Fraction(10), ALL, Wearer())
    powered = advise(facepiece(kind="powered_full"), rules, Fraction(1000), ALL, Wearer())
    assert [one.limits for one in full if one.method == "sweet"] == [("up to 10 times the limit only",)]
    assert [one.limits for one in powered if one.method == "sweet"] == [()]


def test_confirming_a_protocol_and_filling_a_blank_opens_counting() -> None:
    piece = facepiece(kind="full")
    book = shipped_books()["ca-csa-z944"]
    level = Overlay("level.full", "1000", "", "2018, page 40", "2026-11-24", "Hollis Grey")
    protocol = Overlay("protocols.fast-count-elastomeric", True, "", "2018, page 41", "2026-11-24", "Hollis Grey")
    for overlays, verdict in (([], "not permitted"), ([level], "not permitted"), ([level, protocol], "may")):
        advice = advise(piece, rules_for(lay_over(book, overlays)), Fraction(10), ALL, Wearer())
        assert [one.verdict for one in advice if one.method == "ambient_count"] == [verdict]


@given(st.sampled_from(CELLS), st.frozensets(st.sampled_from(METHODS)), st.frozensets(st.sampled_from(METHODS)))
def test_less_kit_or_a_person_who_cannot_never_permits_more(
    cell: dict[str, Any], kit: frozenset, out: frozenset
) -> None:
    piece, rules = facepiece(**cell["piece"]), shipped_rules(cell["book"])
    most = {one.method for one in advise(piece, rules, Fraction(10), ALL, Wearer()) if one.verdict == "may"}
    less = {one.method for one in advise(piece, rules, Fraction(10), Kit(kit), Wearer(out)) if one.verdict == "may"}
    assert less == most & kit - out


@pytest.mark.parametrize(
    ("filter_class", "mode"), [("95-type", "classified"), ("99-type", "ordinary"), ("100-type", "ordinary"), ("", "")]
)
def test_the_counters_mode_follows_the_filter_class(filter_class: str, mode: str) -> None:
    assert counter_mode(shipped_books()["us-29cfr1910-134"], filter_class) == mode


def test_qualitative_methods_are_four() -> None:
    assert len(QUALITATIVE) == 4 and set(METHODS) > QUALITATIVE
