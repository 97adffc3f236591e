"""Faces and sizes: the panel against scipy's normal distribution, readings, and advice as properties."""

from __future__ import annotations

from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import multivariate_normal

from moorfog.core.advice.faces import change_words, measured, panel_cell
from moorfog.core.advice.sizing import SizeRange, size_advice
from moorfog.data import face_rules

RULES = face_rules()
PANEL = [(one.number, tuple(map(Fraction, one.length)), tuple(map(Fraction, one.width))) for one in RULES.panel.cell]

SURVEY = {"m": ((122.7, 7.0), (143.5, 6.9)), "f": ((113.4, 6.1), (135.1, 6.5))}
"""Length and width, mean and SD, mm: 2003 survey (recalled)."""


def share(length: tuple[float, float], width: tuple[float, float]) -> float:
    """Share of faces in a rectangle, r = 0.3, sexes equal: scipy.stats.multivariate_normal."""
    total = 0.0
    for (lm, ls), (wm, ws) in SURVEY.values():
        normal = multivariate_normal([lm, wm], [[ls**2, 0.3 * ls * ws], [0.3 * ls * ws, ws**2]])
        total += 0.5 * normal.cdf([length[1], width[1]], lower_limit=[length[0], width[0]])
    return total


def test_the_panel_covers_what_was_computed_for_it() -> None:
    """96.8 % in the ten cells, 97.7 % in the outer rectangle (computed)."""
    cells = sum(share(tuple(map(float, length)), tuple(map(float, width))) for _, length, width in PANEL)
    assert 100 * cells == pytest.approx(96.8, abs=0.05)
    assert 100 * share((98.5, 138.5), (120.5, 158.5)) == pytest.approx(97.7, abs=0.05)


@pytest.mark.parametrize(
    ("length", "width", "cell"),
    [
        ("98.5", "120.5", 1),
        ("108.5", "120.5", 3),
        ("108.4", "132.5", 2),
        ("118.5", "134.4", 6),
        ("118.5", "134.5", 7),
        ("128.4", "158.5", 8),
        ("138.5", "158.5", 10),
        ("138.5", "140", 9),
        ("98.4", "130", None),
        ("100", "150", None),
        ("130", "125", None),
        ("120", "158.6", None),
    ],
)
def test_cells_hold_their_lower_edge_and_the_outer_edges_are_closed(length: str, width: str, cell: int | None) -> None:
    """Zhuang, Bradtmiller and Shaffer 2007 (recalled)."""
    assert panel_cell(RULES, Fraction(length), Fraction(width)) == cell


@given(st.integers(980, 1390), st.integers(1200, 1590))
def test_no_face_is_in_two_cells(length: int, width: int) -> None:
    one, other = Fraction(length, 10), Fraction(width, 10)
    holding = [
        number for number, length, width in PANEL if length[0] <= one < length[1] and width[0] <= other < width[1]
    ]
    assert len(holding) <= 1
    if holding:
        assert panel_cell(RULES, one, other) == holding[0]


def test_two_readings_then_a_third_when_they_are_apart() -> None:
    """More than 3 mm apart: a third, then the mean of the two closest. Common practice."""
    f = Fraction
    assert measured(RULES, "length", [f(118), f(121)]).value == f(239, 2)
    apart = measured(RULES, "length", [f(118), f("121.1")])
    assert apart.value is None and apart.needs_third and "third" in apart.question
    assert measured(RULES, "length", [f(118), f(124), f(123)]).value == f(247, 2)
    assert measured(RULES, "length", []).value is None and measured(RULES, "length", [f(120)]).value == 120
    assert "Unusual" in measured(RULES, "length", [f(60), f(61)]).question


def test_a_changed_face_is_asked_about() -> None:
    assert change_words(RULES, Fraction(118), Fraction(121)) == "" and change_words(RULES, None, Fraction(100)) == ""
    assert change_words(RULES, Fraction(118), Fraction("121.5")).startswith("3.5 mm more")


spans = st.tuples(st.integers(90, 140), st.integers(5, 30)).map(
    lambda one: (Fraction(one[0]), Fraction(one[0] + one[1]))
)
models = st.lists(spans, min_size=1, max_size=5).map(
    lambda all_: [SizeRange(f"s{i}", one) for i, one in enumerate(all_)]
)
names = st.sets(st.sampled_from([f"s{i}" for i in range(5)]))


@given(models, st.integers(900, 1500), names, names)
def test_size_advice_as_properties(sizes: list[SizeRange], tenths: int, passed: set[str], failed: set[str]) -> None:
    length = Fraction(tenths, 10)
    advice = size_advice(sizes, length, None, sorted(passed), sorted(failed))
    inside = [
        one.name for one in sizes if one.length and one.length[0] <= length <= one.length[1] and one.name not in failed
    ]
    assert not set(advice.suggested) & failed, "what failed in the same configuration is never suggested"
    assert set(inside) <= set(advice.suggested) and advice.sentence
    assert set(advice.suggested) <= set(inside) | passed
    if advice.state != "all failed":
        assert set(advice.within) == set(inside), "only what holds this face is said to hold it"
        assert set(advice.passed) == {one.name for one in sizes} & passed - failed
        assert advice.suggested[: len(advice.passed)] == advice.passed, "what passed on this face comes first"
        assert all(one in advice.sentence for one in advice.passed)
    if len(inside) == 1 and not passed:
        assert advice.suggested == tuple(inside) and advice.state == "one"
    if not inside:
        assert advice.state in ("outside", "all failed")
    if len(inside) > 1:
        assert advice.state == "overlap"


def test_a_face_that_was_not_measured_is_said_so() -> None:
    sizes = [SizeRange("S", (Fraction(100), Fraction(115)))]
    assert size_advice(sizes, None, None, [], []).state == "not measured"
    assert size_advice([SizeRange("one size", None)], Fraction(120), None, [], []).sentence.startswith(
        "The maker states no range"
    )
    assert size_advice(sizes, Fraction(110), None, [], ["S"]).state == "all failed"


def test_a_size_that_passed_outside_its_range_is_offered_and_not_said_to_be_within() -> None:
    sizes = [SizeRange("S", (Fraction(100), Fraction(115))), SizeRange("L", (Fraction(118), Fraction(134)))]
    advice = size_advice(sizes, Fraction("121.4"), None, ["S"], [])
    assert advice.suggested == ("S", "L") and advice.within == ("L",)
    assert advice.sentence == "Passed on this face before: S. The maker's range points to L."
