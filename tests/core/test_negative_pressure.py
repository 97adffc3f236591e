"""Controlled negative pressure: fit factors from leaks, nine holds and pairs, broken holds, re-donning."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from moorfog.core.events import payloads as ev
from moorfog.core.events.measured import Hold
from moorfog.core.measuring.live import live_numbers, must_end
from moorfog.core.measuring.negative_pressure import hold_factor, measure_holds, paired_overall
from moorfog.core.measuring.reduction import reduction_for
from moorfog.core.rules.protocols import Protocol
from moorfog.data import shipped_rules
from tests.core.bench import Bench, Refused, facepiece, simulate

RULES = shipped_rules()
BOOK = RULES.book
STEP = Fraction("0.001")


def protocol(name: str) -> Protocol:
    found = RULES.protocol(name)
    assert found is not None
    return found


FULL, SHORT = protocol("pressure-full"), protocol("pressure-short")


def holds_of(one: Protocol, factors: list[int]) -> tuple[Hold, ...]:
    """Holds of eight seconds whose leak gives exactly these fit factors; 53.8 l/min is 53,800,000 µl/min."""
    rows = zip(one.measurements(), factors, strict=True)
    return tuple(Hold(w.exercise, w.place, 53_800_000 * 8000 // f, 8000, 14_900, 15_100) for w, f in rows)


@pytest.mark.parametrize(("leak", "factor"), [("0.538", 100), ("0.1076", 500), ("53.8", 1), ("0.0269", 2000)])
def test_the_published_leaks_give_exactly_these_fit_factors(leak: str, factor: int) -> None:
    """53.8 ÷ leak, 29 CFR 1910.134 App. A Part I.C.6 (recalled); computed, exact."""
    assert hold_factor(Fraction("53800"), Fraction(leak) * 1000, Fraction(1)) == (factor, False)
    found = measure_holds(SHORT, BOOK, Fraction(factor), holds_of(SHORT, [factor] * 5), STEP)
    if factor > 1:
        assert found.overall == factor and found.state == "reached", "exactly the level reaches it"


def test_nine_holds_in_the_full_one_five_in_the_short_one() -> None:
    """29 CFR 1910.134 App. A Part I.C.6 and C.7 (recalled); nine is contested, and so pairs are worked out too."""
    names = [one.name for one in FULL.measurements()]
    assert FULL.n == 9 and names[2:6] == [
        "Head side to side, left",
        "Head side to side, right",
        "Head up and down, up",
        "Head up and down, down",
    ]
    assert SHORT.n == 5 and FULL.negative_pressure is not None and FULL.negative_pressure.pairs
    assert all(sum(s.seconds for s in e.segment if s.valve == "IN") % 10 == 0 for e in FULL.exercises())
    assert not [one for one in FULL.measurements() if FULL.exercises()[one.exercise].id == "grimace"]


def test_both_ways_of_counting_the_holds_must_reach_the_level() -> None:
    """Nine values 9 ÷ Σ(1/FF) and seven with pairs averaged, both by an oracle in fractions."""
    factors = [110, 110, 1000, 1000, 1000, 1000, 60, 110, 110]
    found = measure_holds(FULL, BOOK, Fraction(100), holds_of(FULL, factors), STEP)
    plain = Fraction(9) / sum(Fraction(1, one) for one in factors)
    paired = Fraction(7) / sum(Fraction(1, one) for one in (110, 110, 1000, 1000, 60, 110, 110))
    assert plain > 100 > 99 > 0 and found.overall is not None
    assert float(found.overall) == pytest.approx(float(plain), rel=1e-6)
    assert float(paired_overall(found.exercises)) == pytest.approx(float(paired), rel=1e-6)
    assert (found.state == "below") == (paired < 100)
    assert any(one.code == "pairs" for one in found.reasons)


@pytest.mark.parametrize("missing", range(9))
def test_a_missing_hold_leaves_no_verdict_never_a_smaller_sum(missing: int) -> None:
    holds = holds_of(FULL, [500] * 9)
    found = measure_holds(FULL, BOOK, Fraction(100), holds[:missing] + holds[missing + 1 :], STEP)
    assert found.state == "void" and found.reasons[0].code == "exercise_missing"


def test_a_leak_at_the_resolution_is_shown_as_at_least() -> None:
    found = measure_holds(SHORT, BOOK, Fraction(500), holds_of(SHORT, [100_000] + [2000] * 4), STEP)
    assert found.exercises[0].at_least and found.exercises[0].factor == 53_800
    assert found.at_least and found.state == "held", "one hold without any leak needs its proof"
    leaky = measure_holds(SHORT, BOOK, Fraction(100), holds_of(SHORT, [100_000] + [400] * 4), STEP)
    assert leaky.state == "void" and leaky.reasons[0].code == "unexplained_drop"
    assert measure_holds(SHORT, BOOK, Fraction(500), holds_of(SHORT, [100_000] * 5), STEP).state == "held"


@given(st.lists(st.integers(2, 5000), min_size=9, max_size=9), st.integers(0, 8))
def test_a_larger_leak_never_raises_the_overall(factors: list[int], which: int) -> None:
    holds = holds_of(FULL, factors)
    worse = tuple(replace(one, area=one.area + 10_000_000) if n == which else one for n, one in enumerate(holds))
    before, after = (measure_holds(FULL, BOOK, Fraction(1), each, STEP).overall for each in (holds, worse))
    if before is not None and after is not None:
        assert after < before


def run_of(one: Protocol, factor: int = 2000) -> list:
    return simulate(one, (factor,) * len(one.exercises()))


def test_a_broken_hold_voids_and_ends_the_run_at_once() -> None:
    window = [one for one in SHORT.windows() if one.use == "hold"][1]
    whole = [
        one._replace(pressure=11_000) if window.start_ms + 2000 < one.t <= window.start_ms + 2500 else one
        for one in run_of(SHORT)
    ]
    reduction, given_back = reduction_for(SHORT, 1000), []
    for one in whole:
        given_back.append(one)
        reduction.feed(one)
        if must_end(reduction, "half"):
            break
    assert window.start_ms < given_back[-1].t < window.end_ms
    assert "Bend over" in live_numbers(reduction, BOOK, Fraction(100), "half").ended_by
    bench = Bench(RULES, method="negative_pressure")
    bench.until("run")
    bench.run(readings=given_back, end="stopped", protocol_id="pressure-short")
    last = bench.view.tries[-1]
    assert last.outcome == "void" and last.reasons[0].code == "broken_hold"


def test_the_breath_may_break_between_holds_and_while_it_settles() -> None:
    holds = [(one.start_ms, one.end_ms) for one in SHORT.windows() if one.use == "hold"]
    reduction = reduction_for(SHORT, 1000)
    for one in run_of(SHORT):
        inside = any(start < one.t <= end for start, end in holds)
        reduction.feed(one if inside else one._replace(pressure=-3000))
    assert reduction.sealed("complete").deviations == ()


@pytest.mark.parametrize(("id_", "outcome"), [("redon_1", "pass"), ("bend", "void")])
def test_it_may_be_taken_off_and_adjusted_only_in_the_re_donning(id_: str, outcome: str) -> None:
    bench = Bench(RULES, method="negative_pressure")
    bench.until("run")
    run_id = bench.start(protocol_id="pressure-short")
    t0 = bench.visit.tries[-1].t0
    assert t0 is not None
    at = SHORT.starts_ms()[[one.id for one in SHORT.exercises()].index(id_)] + 5000
    payloads = (ev.Doffed("refit"), ev.Adjusted("strap"), ev.Touched(True))
    for payload in payloads if outcome == "pass" else payloads[:1]:
        bench.at = t0 + timedelta(milliseconds=at)
        bench.say(payload, 0)
    readings, reduction = run_of(SHORT), reduction_for(SHORT, 1000)
    for one in readings:
        reduction.feed(one)
    found = reduction.sealed("complete")
    bench.at = t0 + timedelta(milliseconds=readings[-1].t)
    seal = ev.RunClosed(
        run_id, "complete", 0, len(readings) - 1, len(readings), "0" * 64, (), found.deviations, (), found.holds
    )
    bench.say(seal, 0)
    if outcome == "void":
        assert bench.view.tries[-1].outcome == "void"
        return
    bench.until("release")
    last = bench.view.tries[-1]
    assert last.outcome == "pass" and last.unit == "ml/min"
    assert any(one.code == "redonned" for one in last.reasons)


def test_never_on_a_disposable_and_never_with_another_instrument() -> None:
    """Not for disposables: there is no hard edge to draw against (29 CFR 1910.134 App. A Part I.C.6, recalled)."""
    cup = facepiece(kind="disposable_cup", filter_kind="media", probe="through", cover="front", suspension="")
    assert cup.kind not in FULL.kinds
    bench = Bench(RULES, method="negative_pressure")
    with pytest.raises(Refused, match="method"):
        bench.until("run", cup)
    bench = Bench(RULES, method="negative_pressure")
    bench.until("run")
    from tests.core.bench import counter

    with pytest.raises(Refused, match="instrument"):
        bench.start(instrument=counter(day=bench.at.date().isoformat()))
