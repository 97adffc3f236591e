"""Figures of a run at their very bounds: the last that is taken, the first that is not, and what stands beside them."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

import pytest
from scipy import stats

from moorfog.core.events.measured import Hold, SignalWindow, Slice
from moorfog.core.events.payloads import DailyCheck, TypedExercise
from moorfog.core.kernel.arithmetic import mean_outside
from moorfog.core.measuring.ambient import pair_samples
from moorfog.core.measuring.budget import count_shares, spend
from moorfog.core.measuring.counting import Sample, overall_bound
from moorfog.core.measuring.negative_pressure import measure_holds
from moorfog.core.measuring.photometer import outsides, peak_reason
from moorfog.core.measuring.readings import Reading, chunk_of
from moorfog.core.measuring.results import RunNumbers
from moorfog.core.measuring.run import near_zero_of
from moorfog.core.measuring.typed import Shown, measure_typed
from moorfog.core.rules.book import Book
from tests.core.bench import counter
from tests.core.test_measure import HALF, RULES, windows
from tests.core.test_negative_pressure import SHORT, STEP, holds_of
from tests.core.test_photometer import CHALLENGE, US, judged, protocol, windows_of

BOOK = RULES.book
LEVEL = Fraction(100)


def with_value(key: str, value: str) -> Book:
    return replace(BOOK, values={**BOOK.values, key: replace(BOOK.values[key], value=value)})


def typed(*rows: tuple[str, str], shown: Shown | None = None, minimum: int = 1000) -> RunNumbers:
    given = [TypedExercise(outside, inside) for outside, inside in rows]
    return measure_typed(HALF, BOOK, LEVEL, given, "1", Fraction(minimum), None, None, shown)


def test_what_is_typed_counts_from_the_instruments_least_to_its_most() -> None:
    shown = Shown(step=Fraction(1), maximum=Fraction(20_000))
    assert typed(*[("1000", "5")] * 4, shown=shown).overall == 200
    assert typed(*[("999", "5")] * 4, shown=shown).reasons[0].code == "ambient_low"
    assert typed(*[("20000", "50")] * 4, shown=shown).overall == 400
    assert typed(*[("20001", "50")] * 4, shown=shown).reasons[0].code == "ambient_high"
    assert typed(*[("5000", "5")] * 3, shown=shown).reasons[0].code == "exercise_missing"


@pytest.mark.parametrize(("inside", "factor", "at_least"), [("0.4", 10_000, True), ("0.5", 10_000, False)])
def test_half_a_step_of_the_display_is_the_least_it_shows(inside: str, factor: int, at_least: bool) -> None:
    found = typed(*[("5000", inside), *[("5000", "50")] * 3], shown=Shown(step=Fraction(1), maximum=None))
    assert (found.exercises[0].factor, found.exercises[0].at_least) == (factor, at_least)
    assert not found.exercises[1].at_least


def test_the_outside_of_an_exercise_is_the_mean_of_what_stands_around_it() -> None:
    """29 CFR 1910.134 App. A Part I.C.3 to C.5 (recalled)."""
    first, last = Fraction(5000), Fraction(4000)
    found = pair_samples(HALF, (first, last))
    assert [one.value for one in found] == [mean_outside(first, last)] * HALF.n
    assert all(one.is_final and one.samples == (first, last) for one in found)
    begun = pair_samples(HALF, (first,))
    assert [(one.value, one.is_final) for one in begun] == [(first, False)] * HALF.n
    assert [(one.value, one.is_final) for one in pair_samples(HALF, ())] == [(None, False)] * HALF.n


def test_the_check_done_last_says_what_clean_air_is() -> None:
    checks = [DailyCheck("clean_air", value, "0.1", True, "2026-03-02") for value in ("0.09", "0.02")]
    times = BOOK.ratio("near_zero.clean_air")
    assert times is not None
    for order in (checks, checks[::-1]):
        last = Fraction(order[-1].value)
        assert near_zero_of(BOOK, counter(checks=tuple(order))) == max(times * last, Fraction("0.1"))
    assert near_zero_of(BOOK, counter(checks=())) is None


def test_what_is_spent_is_the_sum_of_what_each_exercise_spent() -> None:
    begun = count_shares(HALF, windows((100, 200, 300, 400)), pair_samples(HALF, (Fraction(5300), Fraction(5300))))
    spent = spend(HALF, BOOK, LEVEL, begun)
    assert sum(spent.by_exercise.values()) == spent.budget.spent
    assert [one.share for one in begun] == [Fraction(n, 50) / 5300 for n in (100, 200, 300, 400)]
    half_read = [replace(one, ms=one.ms // 2, volume_nl=one.volume_nl // 2) for one in windows((100,) * 4)]
    growing = count_shares(HALF, half_read, pair_samples(HALF, (Fraction(5300), Fraction(5300))))
    assert [one.share for one in growing] == [Fraction(100, 50) / 5300] * 4, "over the volume that is planned"


def test_a_fail_by_exercise_says_how_many_more_there_are() -> None:
    strict = with_value("judged_by", "every_exercise")
    rows = [TypedExercise("5000", inside) for inside in ("100", "50", "100", "20")]
    found = measure_typed(HALF, strict, LEVEL, rows, "1", Fraction(1000), None)
    assert found.state == "below" and "50" in found.reasons[0].sentence and "and 1 more" in found.reasons[0].sentence
    rows = [TypedExercise("5000", inside) for inside in ("100", "50", "50", "20")]
    found = measure_typed(HALF, strict, LEVEL, rows, "1", Fraction(1000), None)
    assert "more" not in found.reasons[0].sentence, "one on the level reaches it"


@pytest.mark.parametrize("volumes", [(50.0, 25.0, 50.0, 10.0), (20.0, 21.0, 22.0, 23.0)])
def test_the_bound_of_unequal_exercises_is_fay_and_feuers(volumes: tuple[float, ...]) -> None:
    """Fay and Feuer 1997, as quoted in the function (recalled); the quantile from scipy."""
    samples = [Sample(count, 5000.0, volume) for count, volume in zip((3, 0, 7, 2), volumes, strict=True)]
    weights = [1 / (one.outside * one.volume) for one in samples]
    y = sum(w * one.counts for w, one in zip(weights, samples, strict=True))
    v = sum(w * w * one.counts for w, one in zip(weights, samples, strict=True))
    m = max(weights)
    upper = (v + m * m) / (2 * (y + m)) * stats.chi2.ppf(0.95, 2 * (y + m) ** 2 / (v + m * m))
    assert overall_bound(samples) == pytest.approx(len(samples) / upper, rel=1e-9)


def test_a_hold_of_no_time_is_a_missing_one() -> None:
    holds = list(holds_of(SHORT, [200] * 5))
    assert measure_holds(SHORT, BOOK, LEVEL, holds, STEP).overall == 200
    one = holds[2]
    holds[2] = Hold(one.exercise, one.place, one.area, 0, one.lowest, one.highest)
    assert measure_holds(SHORT, BOOK, LEVEL, holds, STEP).reasons[0].code == "exercise_missing"
    assert measure_holds(SHORT, BOOK, LEVEL, holds_of(SHORT, [200] * 5), Fraction(0)).reasons[0].code == "resolution"


def test_a_chamber_that_is_read_all_the_time_is_not_mixed_with_what_is_inside() -> None:
    always = protocol("aerosol-us-continuous")
    signals = []
    for index in always.summed():
        length = sum(one.seconds for one in always.exercises()[index].segment if one.use == "inside") * 1000
        signals.append(SignalWindow(index, "outside", (Slice(CHALLENGE * length, length, CHALLENGE),)))
        signals.append(SignalWindow(index, "inside", (Slice(5000 * length, length, 5000),)))
    assert [(one.value, one.is_final) for one in outsides(always, signals)] == [(CHALLENGE, True)] * always.n


def test_a_single_peak_is_told_with_its_share_and_the_limit() -> None:
    """29 CFR 1910.134 App. A Part I.C.2: 5 % for half, 1 % for full facepieces (recalled)."""
    low = CHALLENGE // 1000
    peaks = [low] * 6 + [CHALLENGE * 6 // 100]
    found = peak_reason(US, "level.half", windows_of(US, [low] * 7, peaks=peaks))
    assert found is not None and "6.0 % of the challenge; 5 % ends" in found.sentence
    exactly = [low] * 6 + [CHALLENGE * 5 // 100]
    assert peak_reason(US, "level.half", windows_of(US, [low] * 7, peaks=exactly)) is None
    found = peak_reason(US, "level.full", windows_of(US, [low] * 7, peaks=exactly))
    assert found is not None and "5.0 % of the challenge; 1 % ends" in found.sentence


def test_a_signal_of_half_a_step_is_a_signal() -> None:
    """The step of this display is a thousandth of a µg/m³: half of it is half a thousandth."""
    found = judged(windows_of(US, [1] * 7), how="average of peaks")
    assert found.exercises and not any(one.at_least for one in found.exercises)
    found = judged(windows_of(US, [0] * 7), how="average of peaks")
    assert found.exercises and all(one.at_least and one.factor == CHALLENGE * 2 for one in found.exercises)


def test_a_chunk_keeps_the_columns_that_its_instrument_has() -> None:
    plain = Reading(250, 250, 3, 400_000, "O", ())
    held = plain._replace(t=500, signal=7, chamber=8, pressure=9)
    one = chunk_of(4, [plain])
    assert (one.first, one.counts, one.signal, one.chamber, one.pressure) == (4, (3,), (), (), ())
    one = chunk_of(0, [held, held._replace(t=750, chamber=0)])
    assert (one.signal, one.chamber, one.pressure, one.valve) == ((7, 7), (8, 0), (9, 9), "OO")
    with pytest.raises(ValueError, match="at least one"):
        chunk_of(0, [])
