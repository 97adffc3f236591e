"""An instrument that cannot be believed shows nothing: blocked, stuck, out of its range, finer than it is."""

from __future__ import annotations

import math
from dataclasses import replace
from fractions import Fraction
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import poisson

from moorfog.core.events import payloads as ev
from moorfog.core.measuring.columns import reduce_chunks
from moorfog.core.measuring.readings import Reading, chunk_of
from moorfog.core.measuring.reduction import most_alike, reduce_run
from moorfog.core.rules.book import Rules
from moorfog.core.rules.instruments import strictest_limit
from moorfog.core.rules.kit_gate import unfit_today
from moorfog.data import instrument_kinds
from moorfog.rooms.kit.entering import figure_problems
from tests.core.bench import START, Bench, counter, simulate

LEAKY = (59, 59, 59, 59)


def fast(rules: Rules) -> Any:
    return rules.protocol("fast-count-elastomeric")


def blocked_from(readings: list[Reading], ms: int) -> list[Reading]:
    """The same run with the sample line blocked from a moment on: nothing comes in, whatever the seal is."""
    return [one._replace(counts=0) if one.valve == "I" and one.t > ms else one for one in readings]


def judged(rules: Rules, readings: list[Reading], **changes: Any) -> Bench:
    bench = Bench(rules)
    bench.until("run")
    bench.run(readings=readings, **changes)
    return bench


def test_a_line_blocked_from_the_second_exercise_on_is_no_pass(rules: Rules) -> None:
    """A true factor of 59; the overall over one leaking and three silent exercises would be 236."""
    readings = blocked_from(simulate(fast(rules), LEAKY), 50_000)
    bench = judged(rules, readings)
    one = bench.visit.tries[-1]
    assert one.numbers.state == "void" and one.numbers.reasons[0].code == "unexplained_drop"
    assert "near_zero.drop" in one.numbers.reasons[0].keys


@pytest.mark.parametrize("exercise", range(4))
def test_one_exercise_near_zero_holds_the_verdict_for_a_proof_of_its_own(rules: Rules, exercise: int) -> None:
    factors = tuple(900_000 if n == exercise else 20_000 for n in range(4))
    bench = judged(rules, simulate(fast(rules), factors))
    assert bench.visit.tries[-1].numbers.state == "held"
    bench.until("proof")
    bench.do("proof")
    bench.until("sign_wearer")
    assert bench.view.tries[-1].outcome == "pass", "proved, it is as good as any"


def test_a_seal_that_varies_as_seals_do_is_neither_void_nor_held(rules: Rules) -> None:
    for factors in ((300, 4000, 900, 2600), (8000, 20_000, 30_000, 15_000)):
        assert judged(rules, simulate(fast(rules), factors)).visit.tries[-1].numbers.state == "reached"


def test_every_reading_identical_is_void(rules: Rules) -> None:
    readings = simulate(fast(rules), (2000,) * 4)
    stuck = [one._replace(counts=2200 if one.valve == "O" else 1) for one in readings]
    bench = judged(rules, stuck)
    assert bench.view.tries[-1].outcome == "void"
    assert "stuck" in [one.code for one in bench.visit.tries[-1].broken]


@given(st.integers(1, 5000))
def test_so_many_alike_are_as_unlikely_as_the_book_says(counts: int) -> None:
    """The likeliest count of a Poisson mean, by scipy's own: a row of them is never likelier than that."""
    most, stuck = most_alike(counts, 1e-9), 1e-9
    mode = max(float(poisson.pmf(counts, mean)) for mean in (counts, counts + 0.5, max(counts - 0.5, 0.1)))
    assert mode**most <= stuck * 1.2
    assert mode <= min(0.4, 1 / math.sqrt(2 * math.pi * counts)) * 1.001


@settings(max_examples=60)
@given(st.integers(0, 10**6), st.sampled_from([300, 2000, 20_000, 10**6]))
def test_an_honest_counter_is_never_called_stuck_and_columns_say_the_same(rules: Rules, seed: int, factor: int) -> None:
    readings = simulate(fast(rules), (factor,) * 4, seed)
    found = reduce_run(fast(rules), rules.book, readings, "complete", counter())
    assert found.deviations == ()
    assert reduce_chunks(fast(rules), rules.book, [chunk_of(0, readings)], "complete", counter()) == found
    row = [one._replace(counts=3) for one in readings]
    stuck = reduce_run(fast(rules), rules.book, row, "complete", counter())
    assert [one.code for one in stuck.deviations] == ["stuck"]
    assert reduce_chunks(fast(rules), rules.book, [chunk_of(0, row)], "complete", counter()) == stuck


def test_a_resolution_that_nobody_has_is_not_typed_for_a_run(rules: Rules) -> None:
    """Typed as a millionth, a displayed nought was a pass of 13,700,000,000 and more."""
    bench = Bench(rules)
    bench.until("run")
    run_id = bench.start("typed")
    rows = tuple(ev.TypedExercise("6850", "0") for _ in range(4))
    with pytest.raises(Exception, match="smallest step is the instrument's own"):
        bench.say(ev.NumbersTyped(run_id, "0.000001", rows), 160)
    bench.visit = bench.visit
    bench.say(ev.NumbersTyped(run_id, "1", rows), 160)
    one = bench.visit.tries[-1]
    assert one.numbers.overall == 13_700 and one.numbers.at_least, "outside over half a step: the ceiling, and held"
    assert one.numbers.state == "held"


@given(st.sampled_from(["0", "0.0000001", "0.2", "0.49"]))
def test_what_is_typed_finer_than_the_display_shows_is_its_half_step(rules: Rules, inside: str) -> None:
    bench = Bench(rules)
    bench.until("run")
    run_id = bench.start("typed")
    bench.say(ev.NumbersTyped(run_id, "1", tuple(ev.TypedExercise("6850", inside) for _ in range(4))), 160)
    assert bench.visit.tries[-1].numbers.overall == 13_700


def test_more_outside_than_the_instrument_counts_right_is_void_and_much_is_said(rules: Rules) -> None:
    dense = simulate(fast(rules), (2000,) * 4, ambient=24_000.0)
    one = judged(rules, dense).visit.tries[-1]
    assert one.numbers.state == "void" and one.numbers.reasons[0].code == "ambient_high"
    much = judged(rules, simulate(fast(rules), (2000,) * 4, ambient=12_000.0)).visit.tries[-1]
    assert much.numbers.state == "reached" and "ambient_usual" in [one.code for one in much.numbers.reasons]
    bench = Bench(rules)
    bench.until("run")
    run_id = bench.start("typed")
    bench.say(ev.NumbersTyped(run_id, "1", tuple(ev.TypedExercise("24000", "10") for _ in range(4))), 160)
    assert bench.visit.tries[-1].numbers.state == "void"


@pytest.mark.parametrize(
    ("kind", "check", "own", "held_to"),
    [
        ("counter", "clean_air", "0.05", "0.05"),
        ("counter", "clean_air", "5", "0.1"),
        ("counter", "clean_air", "0.10", "0.10"),
        ("counter", "clean_air", None, "0.1"),
        ("counter", "room_air", "1500", "1500"),
        ("counter", "room_air", "1000.0", "1000.0"),
        ("counter", "room_air", "1", "1000"),
        ("counter", "clean_line_ratio", "100", "20000"),
        ("pressure", "reference", "0.29 to 0.31", "0.29 to 0.31"),
        ("pressure", "reference", "0.285 to 0.31", "0.285 to 0.31"),
        ("pressure", "reference", "0.29 to 0.315", "0.29 to 0.315"),
        ("pressure", "reference", "0.28 to 0.31", "0.285 to 0.315"),
        ("pressure", "reference", "0.29 to 0.32", "0.285 to 0.315"),
    ],
)
def test_an_instruments_own_limit_may_only_be_stricter(kind: Any, check: str, own: str | None, held_to: str) -> None:
    rule = instrument_kinds()[kind].find(check)
    assert rule is not None and strictest_limit(rule, own) == held_to


@pytest.mark.parametrize(
    ("on_its_link", "on_file", "is_other"),
    [
        ("4711", "4711", False),
        ("sim 04", "SIM04", False),
        ("", "4711", False),
        ("SIM-0004", "4711", True),
        ("1", "", True),
    ],
)
def test_another_instrument_than_the_one_on_file_is_not_run(on_its_link: str, on_file: str, is_other: bool) -> None:
    found = unfit_today(counter(said_serial=on_its_link, serial_number=on_file), START)
    assert found == (["other_instrument"] if is_other else [])


def test_a_looser_limit_and_a_figure_out_of_sense_are_refused_at_the_entry() -> None:
    good = {"kind": "counter", "serial_number": "1", "zone": "UTC", "calibrated_until": "2027-01-01"}
    good |= {"counted_flow": "100", "resolution": "1", "ambient_maximum": "20000"}
    good |= {"ambient_minimum_ordinary": "1000", "ambient_minimum_classified": "30"}
    assert figure_problems(good) == ()
    for wrong in ({"resolution": "0.000001"}, {"limit_clean_air": "5"}, {"limit_room_air": "1"}, {"counted_flow": "1"}):
        (said,) = figure_problems({**good, **wrong})
        assert next(iter(wrong)) in said


@pytest.mark.parametrize(
    ("hours", "codes"), [(7.9, []), (8.0, []), (8.1, ["alcohol"]), (-0.1, ["alcohol"]), (None, ["alcohol"])]
)
def test_alcohol_lasts_its_hours_and_no_longer(hours: float | None, codes: list[str]) -> None:
    from datetime import timedelta

    charged = ev.instant(START - timedelta(hours=hours)) if hours is not None else ""
    assert unfit_today(counter(charge_h=8, charged_at=charged), START) == codes
    assert unfit_today(counter(charge_h=0, charged_at=""), START) == []


def test_every_finding_of_a_run_cites_the_rule_that_judged_it(rules: Rules) -> None:
    """Take the rule a finding names away, or make it another: the finding goes with it, or changes its words."""
    from moorfog.core.transitions.runs import _DEVIATION_KEYS

    assert _DEVIATION_KEYS["short_window"] == ("readings.lost",)
    readings = [one for one in simulate(fast(rules), (2000,) * 4) if not 91_000 < one.t <= 93_500]
    found = reduce_run(fast(rules), rules.book, readings, "complete", counter())
    codes = {one.code for one in found.deviations}
    assert codes == {"gap", "short_window"}
    for code in codes:
        (key,) = _DEVIATION_KEYS[code]
        lenient = replace(rules.book, values={**rules.book.values, key: replace(rules.book.values[key], value=60_000)})
        left = reduce_run(fast(rules), lenient, readings, "complete", counter())
        assert {one.code for one in left.deviations} == codes - {code}, "the rule it cites is the one that judged it"
    assert Fraction(str(rules.book.values["readings.lost"].value)) != Fraction(
        str(rules.book.values["missing.maximum"].value)
    )
