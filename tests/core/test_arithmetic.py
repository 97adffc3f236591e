"""Fit factors against hand-computed cases, the standard library and laws that must hold."""

from __future__ import annotations

import statistics
import tomllib
from fractions import Fraction
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from moorfog.core.kernel.arithmetic import (
    NotANumber,
    concentration,
    cut,
    drift,
    leak_budget,
    mean_outside,
    overall,
    parse_decimal,
    whole_or_none,
    worst_drift_factor,
)

CASES = tomllib.loads((Path(__file__).parents[1] / "data" / "fit-factors.toml").read_text())["case"]
factors = st.lists(st.fractions(min_value=1, max_value=100_000, max_denominator=1000), min_size=1, max_size=9)


@pytest.mark.parametrize("case", CASES, ids=lambda case: case["overall"])
def test_overall_is_the_hand_computed_one(case: dict) -> None:
    values = [Fraction(one) for one in case["factors"]]
    total = overall(values, len(values))
    assert cut(total) == case["overall"]
    assert (total >= 100) is case["reaches_100"]
    assert all(one >= 100 for one in values) is case["every_100"]
    if "reaches_500" in case:
        assert (total >= 500) is case["reaches_500"]


@given(factors)
def test_overall_is_the_harmonic_mean_of_statistics_and_scipy(values: list[Fraction]) -> None:
    mine = float(overall(values, len(values)))
    assert mine == pytest.approx(statistics.harmonic_mean([float(one) for one in values]), rel=1e-12)
    assert mine == pytest.approx(float(stats.hmean([float(one) for one in values])), rel=1e-12)


@given(factors, st.randoms())
def test_order_never_matters_and_one_worse_exercise_never_helps(values: list[Fraction], random) -> None:
    shuffled = list(values)
    random.shuffle(shuffled)
    assert overall(values, len(values)) == overall(shuffled, len(values))
    worse = [values[0] / 2, *values[1:]]
    assert overall(worse, len(values)) < overall(values, len(values))


def test_a_missing_exercise_is_no_smaller_n() -> None:
    with pytest.raises(ValueError, match="4 exercises are in the sum, 3 were given"):
        overall([Fraction(100)] * 3, 4)


@pytest.mark.parametrize(
    ("value", "text"),
    [
        (Fraction(99856, 1000), "99.8"),
        (Fraction(99999, 1000), "99.9"),
        (Fraction(500), "500.0"),
        (Fraction(40650), "40650"),
        (Fraction(19999, 10), "1999"),
        (Fraction(-3, 100), "0.0"),
        (Fraction(-25, 10), "-2.5"),
    ],
)
def test_display_cuts_and_never_rounds_up(value: Fraction, text: str) -> None:
    assert cut(value) == text


@given(st.fractions(min_value=0, max_value=10**6))
def test_what_is_shown_is_never_more_than_what_was_measured(value: Fraction) -> None:
    assert Fraction(cut(value)) <= value


@pytest.mark.parametrize(
    "text", ["nan", "NaN", "inf", "-inf", "1e5", "", " ", "12,5", "0x10", "١٢", "1.2.3", "+5", "9" * 20]
)
def test_what_is_no_plain_decimal_is_refused_by_name(text: str) -> None:
    with pytest.raises(NotANumber, match="Bend over, outside"):
        parse_decimal(text, "Bend over, outside")


@given(st.integers(-(10**15) + 1, 10**15 - 1), st.text(max_size=20))
def test_a_whole_number_is_read_from_plain_digits_and_from_nothing_else(value: int, text: str) -> None:
    assert whole_or_none(str(value)) == value
    if not (text.isascii() and text.removeprefix("-").isdigit()):
        assert whole_or_none(text) is None
    for none in ("²", "٣", "--5", "+5", "5\n", "", "9" * 5000):
        assert whole_or_none(none) is None, none


def test_outside_weighs_both_means_alike_and_drift_is_relative_to_their_mean() -> None:
    assert mean_outside(Fraction(5000), Fraction(6000)) == 5500
    assert drift(Fraction(900), Fraction(1100)) == Fraction(1, 5)
    assert concentration(5300, 1_000_000) == 5300


def test_drift_of_twenty_per_cent_lets_the_mean_grow_by_a_ninth() -> None:
    assert worst_drift_factor(Fraction(1, 5)) == Fraction(10, 9)  # 1.111, computed


def test_the_budget_is_lost_only_beyond_what_the_drift_rule_still_allows() -> None:
    level, n, allowed = Fraction(100), 4, Fraction(1, 5)
    just_over = [Fraction(41, 1000)]  # budget is 4 / 100 = 0.040
    open_end = leak_budget(just_over, n, level, allowed, [False] * len(just_over))
    assert open_end.is_unlikely and not open_end.is_lost
    assert leak_budget(just_over, n, level, allowed, [True] * len(just_over)).is_lost
    assert leak_budget([Fraction(45, 1000)], n, level, allowed, [False]).is_lost


@given(
    st.lists(st.fractions(min_value=0, max_value=1, max_denominator=10_000), min_size=4, max_size=4),
    st.fractions(min_value=Fraction(9, 10), max_value=Fraction(10, 9)),
)
def test_a_run_called_lost_can_indeed_not_pass_any_more(shares: list[Fraction], growth: Fraction) -> None:
    budget = leak_budget(shares, 4, Fraction(100), Fraction(1, 5), [False] * len(shares))
    if budget.is_lost:
        assert sum(one / growth for one in shares) > Fraction(4, 100)
