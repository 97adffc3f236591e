"""What the numbers of a run say: reached, below, held, void, and why."""

from __future__ import annotations

from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from moorfog.core.events.payloads import MeasuredWindow, TypedExercise
from moorfog.core.measuring.ambient import measure_windows
from moorfog.core.measuring.results import ExerciseResult, RunNumbers, conclude
from moorfog.core.measuring.typed import measure_typed
from moorfog.core.rules.book import Rules
from moorfog.data import shipped_rules

RULES = shipped_rules()
HALF = next(one for one in RULES.protocols if one.id == "fast-count-elastomeric")
V = 50_000_000


def windows(inside: tuple[int, ...], first: int = 265_000, last: int = 265_000) -> list[MeasuredWindow]:
    """Windows of a run with counts in 50 cm³; first and last ambient likewise."""
    return [
        MeasuredWindow(0, "outside", first, V, 5000),
        *(MeasuredWindow(i, "inside", n, V, 30_000) for i, n in enumerate(inside)),
        MeasuredWindow(3, "outside", last, V, 5000),
    ]


def judge(
    inside: tuple[int, ...], level: int = 100, minimum: int = 1000, cap: Fraction | None = None, **more: int
) -> RunNumbers:
    return measure_windows(HALF, RULES.book, Fraction(level), windows(inside, **more), Fraction(minimum), cap)


def typed(*rows: tuple[str, str], level: int = 100, resolution: str = "1") -> RunNumbers:
    return measure_typed(
        HALF, RULES.book, Fraction(level), [TypedExercise(o, i) for o, i in rows], resolution, Fraction(1000), None
    )


def test_exactly_the_level_is_reached() -> None:
    """Outside 5,300, inside 53 in every exercise: 100 exactly, and 100 passes 100."""
    found = judge((2650,) * 4)
    assert found.overall == 100 and found.state == "reached" and found.is_marginal


def test_one_count_more_is_below_and_names_where_it_leaked() -> None:
    found = judge((2650, 2651, 2650, 2650))
    assert found.state == "below" and "jog on the spot" in found.reasons[0].sentence.lower()


def test_no_last_ambient_is_no_verdict() -> None:
    found = measure_windows(HALF, RULES.book, Fraction(100), windows((10,) * 4)[:-1], Fraction(1000), None)
    assert (found.state, found.reasons[0].code) == ("void", "no_last_ambient")


def test_a_missing_exercise_is_no_verdict() -> None:
    found = measure_windows(
        HALF, RULES.book, Fraction(100), [w for w in windows((10,) * 4) if w.exercise != 2], Fraction(1000), None
    )
    assert (found.state, found.reasons[0].code) == ("void", "exercise_missing")


@pytest.mark.parametrize(
    ("first", "last", "state", "code"),
    [
        (265_000, 325_000, "void", "drift"),
        (265_000, 320_000, "reached", "level_reached"),
        (40_000, 40_000, "void", "ambient_low"),
        (0, 0, "void", "ambient_low"),
    ],
)
def test_the_outside_must_be_high_and_steady(first: int, last: int, state: str, code: str) -> None:
    found = judge((20,) * 4, first=first, last=last)
    assert (found.state, found.reasons[-1].code) == (state, code)


def test_zero_ambient_is_void_even_where_no_minimum_is_set() -> None:
    assert judge((0,) * 4, minimum=0, first=0, last=0).state == "void"


def test_inside_as_high_as_outside_looks_to_the_hoses_first() -> None:
    found = judge((265_000, 100, 100, 100))
    assert (found.state, found.reasons[0].code) == ("void", "hoses_first")


def test_almost_nothing_inside_holds_the_verdict() -> None:
    found = judge((0,) * 4)
    assert found.state == "held" and found.at_least and found.bound is not None


def test_a_capped_value_counts_as_its_cap_and_cannot_show_500() -> None:
    found = judge((10,) * 4, level=500, cap=Fraction(200))
    assert found.overall == 200 and found.at_least and found.state == "below"


def test_a_displayed_zero_stands_for_half_a_step() -> None:
    """6,850 outside, 0 on a whole-number display: at least 13,700 (computed)."""
    found = typed(("6850", "0"), ("6850", "1"), ("6850", "1"), ("6850", "1"))
    assert found.exercises[0].factor == 13_700 and found.exercises[0].at_least and found.bound is None


def test_figures_seen_in_practice() -> None:
    """Outside about 6,850; 30,700 and 23,000 and two of 89,500 give about 40,650 (common practice)."""
    rows = [TypedExercise(factor=one) for one in ("30700", "23000", "89500", "89500")]
    assert measure_typed(HALF, RULES.book, Fraction(500), rows, "1", Fraction(1000), None).state == "unfinished", (
        "fit factors alone do not show the air outside"
    )
    results = [
        ExerciseResult(n, None, None, Fraction(one.factor or 0), False, None, None) for n, one in enumerate(rows)
    ]
    found = conclude(HALF, RULES.book, Fraction(500), results, None, False)
    assert found.overall is not None and abs(found.overall - 40_650) < 60 and found.state == "reached"


@given(st.tuples(*[st.integers(0, 300_000)] * 4), st.integers(0, 3), st.integers(1, 5000))
def test_more_inside_never_raises_the_overall_nor_makes_a_pass(inside: tuple[int, ...], where: int, more: int) -> None:
    before = judge(inside)
    after = judge(tuple(n + (more if i == where else 0) for i, n in enumerate(inside)))
    if before.overall is not None and after.overall is not None:
        assert after.overall <= before.overall
    is_drop = any(one.code == "unexplained_drop" for one in before.reasons)  # void: it says nothing of the face
    if before.state not in ("reached", "held") and not is_drop:
        assert after.state not in ("reached", "held")


@given(st.lists(st.integers(-5, 300_000), min_size=0, max_size=8), st.integers(0, 10**6), st.integers(0, 10**6))
def test_whatever_was_counted_it_never_raises_and_n_never_shrinks(inside: list[int], first: int, last: int) -> None:
    some = [MeasuredWindow(i % 5, "inside", n, V, 30_000) for i, n in enumerate(inside)]
    found = measure_windows(
        HALF,
        RULES.book,
        Fraction(100),
        [MeasuredWindow(0, "outside", first, V, 5000), *some, MeasuredWindow(3, "outside", last, V, 5000)],
        Fraction(0),
        None,
    )
    assert found.overall is None or len(found.exercises) == HALF.n


def test_every_exercise_books_let_one_exercise_end_it(rules: Rules) -> None:
    from dataclasses import replace

    strict = replace(
        rules.book,
        values={**rules.book.values, "judged_by": replace(rules.book.values["judged_by"], value="every_exercise")},
    )
    one_low = windows((100, 100, 100, 2700))
    assert measure_windows(HALF, rules.book, Fraction(100), one_low, Fraction(1000), None).state == "reached"
    assert measure_windows(HALF, strict, Fraction(100), one_low, Fraction(1000), None).state == "below"
