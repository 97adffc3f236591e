"""The full ambient count: eight exercises, seven in the sum, each compared with the samples before and after it."""

from __future__ import annotations

from fractions import Fraction
from itertools import pairwise
from statistics import harmonic_mean

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from moorfog.core.events.payloads import MeasuredWindow, TypedExercise
from moorfog.core.kernel.codec import DataError, encode
from moorfog.core.measuring.ambient import ambient_samples, measure_windows, outside_of
from moorfog.core.measuring.live import live_numbers
from moorfog.core.measuring.readings import Reading
from moorfog.core.measuring.reduction import Reduction
from moorfog.core.measuring.typed import measure_typed
from moorfog.core.rules.protocols import read_protocol
from moorfog.core.visit.outcomes import outcome
from moorfog.data import shipped_protocols, shipped_rules
from tests.core.bench import Bench, facepiece, simulate

BY_ID = {one.id: one for one in shipped_protocols()}
US, GB, CA = (BY_ID[f"full-count-{name}"] for name in ("us", "gb", "ca"))
BOOK = shipped_rules().book
SEVEN_OF_100 = [Fraction(100)] * 7


def windows_of(factors: list[Fraction], outside: list[int]) -> list[MeasuredWindow]:
    """Windows in which each exercise of the sum has the fit factor asked for; ``outside`` has one figure more."""
    found: list[MeasuredWindow] = []
    places = US.summed()
    for number, (place, factor) in enumerate(zip(places, factors, strict=True)):
        found.append(MeasuredWindow(place, "outside", outside[number] * 8, 8_000_000, 5000))
        mean = Fraction(outside[number] + outside[number + 1], 2)
        inside = mean / factor
        found.append(MeasuredWindow(place, "inside", inside.numerator, inside.denominator * 1_000_000, 40_000))
    found.append(MeasuredWindow(places[-1], "outside", outside[-1] * 8, 8_000_000, 5000))
    return found


def test_the_seconds_are_the_published_ones() -> None:
    """29 CFR 1910.134 App. A Part I.C.3 and A.14: seven minutes and a grimace of 15 s, 435 s; GB 420 s; recalled."""
    assert (US.total_s, CA.total_s, GB.total_s) == (435, 435, 420)
    assert [one.seconds for one in US.exercises()] == [60, 60, 60, 60, 60, 15, 60, 60]
    assert (US.n, GB.n, CA.n) == (7, 7, 7)
    assert [one.id for one in US.exercises() if not one.in_sum] == ["grimace"]
    outside = [one for one in US.windows() if one.use == "outside"]
    assert len(outside) == US.n + 1, "one sample more than exercises"


@pytest.mark.parametrize(
    ("factors", "total"),
    [
        # computed: anyone can redo them by hand; the formula is 29 CFR 1910.134 App. A Part I.C.3 (recalled)
        ([1000] * 6 + [20], "125"),
        ([1000] * 6 + [100], "437.5"),
        ([200, 200, 100, 100, 50, 100, 200], "107.69"),
        ([500, 400, 300, 350, 80, 150, 450], "218.21"),
        ([100] * 6 + [99], "99.856"),
        ([100] * 7, "100"),
    ],
)
def test_the_overall_is_the_harmonic_mean_of_the_seven(factors: list[int], total: str) -> None:
    found = measure_windows(
        US, BOOK, Fraction(100), windows_of([Fraction(one) for one in factors], [5000] * 8), Fraction(1), None
    )
    assert found.overall is not None
    assert float(found.overall) == pytest.approx(float(total), abs=0.006)
    assert float(found.overall) == pytest.approx(harmonic_mean(factors)) == pytest.approx(float(stats.hmean(factors)))
    assert (found.state == "reached") == (Fraction(7) / sum(Fraction(1, one) for one in factors) >= 100)


def test_each_exercise_is_compared_with_its_two_neighbours_exactly() -> None:
    outside = [5000, 5200, 5100, 5300, 5000, 4900, 5100, 5200]
    factors = [Fraction(one) for one in (300, 280, 260, 240, 220, 200, 180)]
    found = measure_windows(US, BOOK, Fraction(100), windows_of(factors, outside), Fraction(1), None)
    assert [one.factor for one in found.exercises] == factors
    assert [one.outside for one in found.exercises] == [Fraction(a + b, 2) for a, b in pairwise(outside)]
    assert [one.exercise for one in found.exercises] == list(US.summed())


def test_a_missing_sample_or_exercise_means_no_verdict() -> None:
    whole = windows_of(SEVEN_OF_100, [5000] * 8)
    for number, one in enumerate(whole):
        left = whole[:number] + whole[number + 1 :]
        found = measure_windows(US, BOOK, Fraction(100), left, Fraction(1), None)
        assert found.state == "void", f"without the {one.use} of exercise {one.exercise}"


def test_drift_is_judged_between_neighbours() -> None:
    steady = [5000, 5400, 5800, 6200, 6600, 7000, 7400, 7800]  # never more than 20 % between two
    assert (
        measure_windows(US, BOOK, Fraction(100), windows_of([Fraction(150)] * 7, steady), Fraction(1), None).state
        == "reached"
    )
    jump = [5000, 5000, 5000, 6200, 6200, 6200, 6200, 6200]
    found = measure_windows(US, BOOK, Fraction(100), windows_of([Fraction(150)] * 7, jump), Fraction(1), None)
    assert [one.code for one in found.reasons] == ["drift"]


@given(st.lists(st.integers(2, 5000), min_size=7, max_size=7), st.integers(0, 6), st.integers(1, 500))
def test_raising_an_inside_count_never_raises_the_overall_and_order_does_not_matter(
    factors: list[int], which: int, more: int
) -> None:
    exact = [Fraction(one) for one in factors]
    whole = windows_of(exact, [5000] * 8)
    before = measure_windows(US, BOOK, Fraction(100), whole, Fraction(1), None)
    worse = list(whole)
    at = 2 * which + 1
    old = worse[at]
    worse[at] = MeasuredWindow(old.exercise, "inside", old.counts + more, old.volume_nl, old.ms)
    after = measure_windows(US, BOOK, Fraction(100), worse, Fraction(1), None)
    if before.overall is not None and after.overall is not None:
        assert after.overall <= before.overall
    turned = measure_windows(US, BOOK, Fraction(100), windows_of(exact[::-1], [5000] * 8), Fraction(1), None)
    assert turned.overall == before.overall


def test_nothing_counted_in_the_grimace_matters() -> None:
    """29 CFR 1910.134 App. A Part I.A.14 and C.3: the grimace is never in the sum (recalled)."""
    protocol = US
    start = protocol.starts_ms()[5]
    plain = simulate(protocol, (900,) * 8)
    wild = [
        Reading(one.t, one.dt, one.counts + 40_000, one.volume_nl, one.valve, one.flags)
        if start < one.t <= start + 15_000
        else one
        for one in plain
    ]
    results = []
    for readings in (plain, wild):
        reduction = Reduction(protocol, 1000)
        for one in readings:
            reduction.feed(one)
        sealed = reduction.sealed("complete")
        windows, deviations = sealed.windows, sealed.deviations
        assert deviations == ()
        results.append(measure_windows(protocol, BOOK, Fraction(100), windows, Fraction(1000), None))
    assert results[0] == results[1] and results[0].state == "reached"


def test_a_whole_run_on_the_bench_passes_and_a_leaky_one_fails() -> None:
    for factors, wanted in (((900,) * 8, "pass"), ((30,) * 8, "fail")):
        bench = Bench(shipped_rules())
        bench.until("run", facepiece())
        run_full(bench, factors)
        for card in ("after_comfort", "after_adjusted", "after_unwell"):
            if wanted == "pass":
                bench.answer(card)
        assert outcome(bench.visit, bench.visit.tries[-1])[0] == wanted
        view = bench.view.tries[-1]
        assert [one.name for one in view.exercises].count("Grimace") == 0 and len(view.exercises) == 7


def run_full(bench: Bench, factors: tuple[int, ...]) -> None:
    """Run the US full count with simulated readings."""
    from datetime import timedelta

    from moorfog.core.events import payloads as ev
    from moorfog.core.measuring.readings import seal_digest

    run_id = bench.start(method="full_count", protocol_id=US.id)
    readings = simulate(US, factors)
    reduction = Reduction(US, 1000)
    for one in readings:
        reduction.feed(one)
    sealed = reduction.sealed("complete")
    windows, deviations = sealed.windows, sealed.deviations
    t0 = bench.visit.tries[-1].t0
    assert t0 is not None
    bench.at = t0 + timedelta(seconds=US.total_s)
    bench.say(
        ev.RunClosed(
            run_id, "complete", 0, len(readings) - 1, len(readings), seal_digest(readings), windows, deviations
        ),
        0,
    )


def test_live_numbers_hold_the_outside_of_the_exercise_that_runs() -> None:
    reduction = Reduction(US, 1000)
    seen = []
    for one in simulate(US, (900,) * 8):
        reduction.feed(one)
        if one.t in (59_000, 119_000, 330_000, 400_000):
            live = live_numbers(reduction, BOOK, Fraction(100), "half")
            seen.append((len(live.shares), live.is_inside_live))
            assert live.outside is not None and 4500 < live.outside < 6200
            assert not live.is_lost
    assert seen == [(1, True), (2, True), (5, True), (8, True)], "exercises begun, and whether inside is read now"
    assert len(live_numbers(reduction, BOOK, Fraction(100), "half").factors) == 8
    assert live_numbers(reduction, BOOK, Fraction(100), "half").factors[5] is None, "the grimace has none"


def test_typed_figures_are_seven_and_the_grimace_is_not_asked() -> None:
    rows = [TypedExercise("5000", "10") for _ in range(7)]
    found = measure_typed(US, BOOK, Fraction(100), rows, "1", Fraction(1000), None)
    assert found.overall == 500 and [one.exercise for one in found.exercises] == list(US.summed())
    assert measure_typed(US, BOOK, Fraction(100), rows[:6], "1", Fraction(1000), None).state == "void"


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda one: one["exercise"][5].update(in_sum=True), "an exercise of the sum needs one"),
        (lambda one: one["exercise"][1].update(in_sum=False), "every segment must be a purge"),
        (lambda one: one["exercise"][2]["segment"].pop(1), "make them equal"),
        (lambda one: _no_outside(one["exercise"][3]), "must take turns"),
    ],
)
def test_a_site_file_that_makes_no_sense_is_named(change: object, words: str) -> None:
    data = encode(US)
    change(data)  # type: ignore[operator]
    with pytest.raises(DataError, match=words):
        read_protocol(data, "mine.toml")


def _no_outside(exercise: dict[str, list[dict[str, object]]]) -> None:
    exercise["segment"][1]["use"] = "purge"


def test_samples_and_what_an_exercise_is_compared_with() -> None:
    whole = windows_of(SEVEN_OF_100, [5000, 5100, 5200, 5300, 5400, 5500, 5600, 5700])
    assert [int(one or 0) for one in ambient_samples(whole)] == [5000, 5100, 5200, 5300, 5400, 5500, 5600, 5700]
    half = outside_of(US, whole[:4])
    assert half[0].is_final and half[0].value == 5050
    assert not half[1].is_final and half[1].value == 5100 and half[2].value is None
