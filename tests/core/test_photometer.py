"""Generated aerosol: three ways to find the inside figure, the steady challenge, the single peak that ends a test."""

from __future__ import annotations

import math
import statistics
from dataclasses import replace
from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import integrate
from scipy import stats as scipy_stats

from moorfog.core.events.measured import SignalWindow, Slice
from moorfog.core.measuring.live import live_numbers, must_end
from moorfog.core.measuring.photometer import INSIDE_BY, inside_signal, mean_signal, measure_signals, outsides
from moorfog.core.measuring.readings import Reading
from moorfog.core.measuring.reduction import reduction_for
from moorfog.core.measuring.results import RunNumbers
from moorfog.core.rules.protocols import Protocol
from moorfog.data import shipped_rules
from tests.core.bench import Bench, simulate

RULES = shipped_rules()
BOOK = RULES.book
CHALLENGE = 15_000_000  # thousandths of a µg/m³


def protocol(name: str = "aerosol-us") -> Protocol:
    found = RULES.protocol(name)
    assert found is not None
    return found


US = protocol()


def book(how: str) -> object:
    return replace(BOOK, values={**BOOK.values, "aerosol.inside": replace(BOOK.values["aerosol.inside"], value=how)})


def windows_of(
    one: Protocol, inside: list[int], outside: list[int] | None = None, peaks: list[int] | None = None
) -> tuple[SignalWindow, ...]:
    """Windows with one steady signal an exercise; ``peaks`` where the highest reading is another."""
    found, exercise = [], {index: number for number, index in enumerate(one.summed())}
    ambient = iter(outside or [CHALLENGE] * 20)
    for window in one.windows():
        if window.use == "outside":
            value = next(ambient)
            found.append(SignalWindow(window.exercise, "outside", (Slice(value * 5000, 5000, value),)))
        elif window.use == "inside":
            number = exercise[window.exercise]
            top = peaks[number] if peaks else inside[number]
            breaths = (window.end_ms - window.start_ms) // 5000
            cut = (window.end_ms - window.start_ms) % 5000
            rows = [Slice(inside[number] * 5000, 5000, top)] * breaths
            rows += [Slice(inside[number] * cut, cut, top)] if cut else []
            found.append(SignalWindow(window.exercise, "inside", tuple(rows)))
    return tuple(found)


def judged(
    signals: tuple[SignalWindow, ...], level: int = 100, how: str = "average of peaks", level_key: str = "level.half"
) -> RunNumbers:
    return measure_signals(
        US,
        book(how),
        Fraction(level),
        signals,
        level_key,
        Fraction(1000),
        Fraction(1, 1000),  # type: ignore[arg-type]
    )


def test_eight_exercises_435_seconds_seven_in_the_sum() -> None:
    """29 CFR 1910.134 App. A Part I.C.2 and A.14 (recalled)."""
    for name in ("aerosol-us", "aerosol-us-continuous"):
        assert protocol(name).total_s == 435 and protocol(name).n == 7
    assert US.aerosol is not None
    assert [US.aerosol.single_peak_half, US.aerosol.single_peak_full] == ["0.05", "0.01"]


@pytest.mark.parametrize(
    ("penetration_percent", "factor"),
    [("5", 20), ("1", 100), ("0.2", 500), ("0.05", 2000)],  # computed: 1 ÷ penetration, anyone can redo it
)
def test_penetration_is_one_over_the_fit_factor(penetration_percent: str, factor: int) -> None:
    inside = int(CHALLENGE * Fraction(penetration_percent) / 100)
    found = judged(windows_of(US, [inside] * 7), 10, level_key="level.half")
    assert found.overall == factor and found.bound is None, "no particles, no counting bound"


def test_the_overall_is_the_harmonic_mean_of_scipy_and_of_statistics() -> None:
    factors = [500, 400, 300, 350, 80, 150, 450]
    found = judged(windows_of(US, [CHALLENGE // one for one in factors]))
    exact = [Fraction(CHALLENGE, CHALLENGE // one) for one in factors]
    assert found.overall == Fraction(7) / sum(1 / one for one in exact)
    assert float(found.overall) == pytest.approx(scipy_stats.hmean([float(one) for one in exact]))
    assert float(found.overall) == pytest.approx(statistics.harmonic_mean([float(one) for one in exact]))
    assert float(found.overall) == pytest.approx(218.21, abs=0.01), "computed by hand from the same seven"


def test_the_three_ways_on_breaths_worked_out_by_hand() -> None:
    breaths = [Slice(10 * 4000, 4000, 16), Slice(12 * 4000, 4000, 20), Slice(8 * 2000, 2000, 12)]
    assert inside_signal(breaths, "average of peaks") == 16
    assert inside_signal(breaths, "highest peak") == 20
    assert inside_signal(breaths, "integrated area") == Fraction(40_000 + 48_000 + 16_000, 10_000)
    with pytest.raises(ValueError, match="average of peaks"):
        inside_signal(breaths, "by eye")


def test_the_integrated_area_is_that_of_scipy_on_a_known_curve() -> None:
    """Readings that are means over 250 ms of a breathing curve; scipy.integrate.quad over the same forty seconds."""

    def curve(seconds: float) -> float:
        return 40_000 * (1 + 0.6 * math.sin(2 * math.pi * seconds / 4)) + 500 * seconds

    window = next(one for one in US.windows() if one.use == "inside")
    reduction = reduction_for(US, 10**9)
    for t in range(window.start_ms + 250, window.end_ms + 250, 250):
        mean = integrate.quad(curve, (t - 250) / 1000, t / 1000)[0] / 0.25
        reduction.feed(Reading(t, 250, 0, 400_000, "I", "", round(mean)))
    found = mean_signal(reduction.signals()[0].slices)
    truth = integrate.quad(curve, window.start_ms / 1000, window.end_ms / 1000)[0] / 40
    assert found is not None and float(found) == pytest.approx(truth, abs=0.5)
    assert len(reduction.signals()[0].slices) == 8, "a peak for every five seconds"


@pytest.mark.parametrize(
    ("key", "share", "state"),
    [("level.half", 5, "reached"), ("level.half", 6, "below"), ("level.full", 2, "below")],
)
def test_a_single_peak_ends_it_by_the_kind_of_facepiece(key: str, share: int, state: str) -> None:
    """Five per cent on a half, one on a full facepiece: 29 CFR 1910.134 App. A Part I.C.2 (recalled)."""
    peaks = [CHALLENGE // 1000] * 6 + [CHALLENGE * share // 100]
    found = judged(windows_of(US, [CHALLENGE // 1000] * 7, peaks=peaks), 20, "integrated area", key)
    assert found.state == state
    assert (found.reasons[0].code == "single_peak") == (state == "below")


@pytest.mark.parametrize(("away", "state"), [(9, "reached"), (12, "void")])
def test_the_challenge_stays_within_a_tenth_of_its_mean(away: int, state: str) -> None:
    """Computed: seven samples of 100 and one of 100 + x; how far it lies from their mean, ±10 % (common practice)."""
    outside = [CHALLENGE] * 7 + [CHALLENGE * (100 + away) // 100]
    found = judged(windows_of(US, [CHALLENGE // 1000] * 7, outside))
    assert found.state == state
    if state == "void":
        assert found.reasons[0].code == "unsteady"


def test_a_signal_below_zero_counts_as_nothing_and_is_said() -> None:
    inside = [CHALLENGE // 500] * 6 + [-40]
    found = judged(windows_of(US, inside))
    assert found.state == "held" and found.at_least and found.exercises[-1].at_least, "an exercise near zero is proved"
    assert any(one.code == "negative" for one in found.reasons)


def test_nothing_inside_from_start_to_end_is_held() -> None:
    assert judged(windows_of(US, [0] * 7)).state == "held"


@pytest.mark.parametrize("missing", range(8))
def test_a_missing_ambient_sample_leaves_no_verdict(missing: int) -> None:
    whole = windows_of(US, [CHALLENGE // 500] * 7)
    places = [number for number, one in enumerate(whole) if one.use == "outside"]
    left = tuple(one for number, one in enumerate(whole) if number != places[missing])
    assert judged(left).state == "void"


def test_a_chamber_read_all_the_time_is_compared_exercise_by_exercise() -> None:
    one = protocol("aerosol-us-continuous")
    signals = windows_of(one, [CHALLENGE // 200] * 7)
    rows = []
    for number, each in enumerate(signals):
        higher = CHALLENGE * (100 + number) // 100
        rows += [each, SignalWindow(each.exercise, "outside", (Slice(higher * 60_000, 60_000, higher),))]
    beside = outsides(one, rows)
    assert [each.value for each in beside] == [CHALLENGE * (100 + number) // 100 for number in range(7)]
    assert all(each.is_final for each in beside)


@given(st.lists(st.integers(1000, 400_000), min_size=7, max_size=7), st.integers(0, 6), st.sampled_from(INSIDE_BY))
def test_a_higher_signal_inside_never_raises_the_overall(inside: list[int], which: int, how: str) -> None:
    before = judged(windows_of(US, inside), 1, how)
    after = judged(windows_of(US, [one + 1000 if n == which else one for n, one in enumerate(inside)]), 1, how)
    assert before.overall is not None and after.overall is not None and after.overall < before.overall


def test_the_grimace_never_matters() -> None:
    start = US.starts_ms()[5]
    run = simulate(US, (3000,) * 8)
    loud = [one._replace(signal=10**9) if start < one.t <= start + 15_000 else one for one in run]
    ends = []
    for readings in (run, loud):
        reduction = reduction_for(US, 1000)
        for each in readings:
            reduction.feed(each)
        ends.append(reduction.sealed("complete"))
    assert ends[0] == ends[1]


def test_the_run_ends_at_a_peak_and_is_a_fail_of_that_exercise() -> None:
    bench = Bench(RULES, method="aerosol")
    bench.until("run")
    whole = simulate(US, (3000, 3000, 5, 3000, 3000, 3000, 3000, 3000))
    reduction, given = reduction_for(US, 1000), []
    for one in whole:
        given.append(one)
        reduction.feed(one)
        if must_end(reduction, "level.half"):
            break
    live = live_numbers(reduction, BOOK, Fraction(100), "level.half")
    assert live.is_lost and "single peak" in live.ended_by
    assert US.starts_ms()[2] <= given[-1].t < US.starts_ms()[3]
    bench.run(end="stopped", readings=given)
    last = bench.view.tries[-1]
    assert last.outcome == "fail" and last.reasons[0].code == "single_peak"
    assert "Head side to side" in last.reasons[0].sentence


def test_a_whole_visit_by_aerosol_passes_and_says_how_the_inside_was_found() -> None:
    bench = Bench(RULES, method="aerosol")
    bench.until("run")
    bench.run((3000,))
    bench.until("release")
    last = bench.view.tries[-1]
    assert last.outcome == "pass" and last.unit == "µg/m³"
    assert any("average of peaks" in one.sentence for one in last.reasons)
