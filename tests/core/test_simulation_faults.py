"""Hidden faults of wearers and kit, over 200 seeds each: a fault shows where it is said to, and no kit fault passes."""

from __future__ import annotations

from fractions import Fraction

import pytest

from moorfog.core.events.measured import Sealed
from moorfog.core.measuring.reduction import reduce_run
from moorfog.core.measuring.results import RunNumbers
from moorfog.core.measuring.run import Limits, measure_run
from moorfog.core.rules.protocols import Protocol
from moorfog.core.simulation.faults import KIT_FAULTS, PRACTICE, WEARER_FAULTS, drawn, named_exercise
from moorfog.core.simulation.wearer import (
    AMBIENT,
    SimulatedWearer,
    faulty_factors,
    hepa_leak,
    simulate,
    wearer_factors,
)
from moorfog.data import shipped_rules
from tests.core.bench import Bench, counter

RULES = shipped_rules()
BOOK = RULES.book
SEEDS = range(200)
MEASURED = ("aerosol-us", "aerosol-us-continuous", "pressure-full", "pressure-short")
KIT_PROTOCOLS = (
    "fast-count-elastomeric",
    "fast-count-disposable",
    "aerosol-us",
    "aerosol-us-continuous",
    "pressure-short",
)


def protocol(name: str) -> Protocol:
    found = RULES.protocol(name)
    assert found is not None
    return found


def judged(one: Protocol, wearer: SimulatedWearer, phase: int = 0) -> tuple[RunNumbers, Sealed]:
    """Simulate and judge a run; each reading ends ``phase`` ms later than the protocol's seconds do."""
    readings = [each._replace(t=each.t + phase) for each in simulate(one, wearer, step_ms=1000)]
    sealed = reduce_run(one, BOOK, readings, "complete", counter())
    step = Fraction("0.001")
    clean_air = Fraction(round(hepa_leak(wearer.seed) * AMBIENT * 1000), 1000)  # what the check of the day reads
    low = Fraction(1) if one.family == "photometer" else max(2 * clean_air, Fraction("0.2"))
    limits = Limits(Fraction(1000), step, None, low if one.family != "pressure" else None)
    return measure_run(one, BOOK, Fraction(100), sealed, "level.half", limits), sealed


def test_every_wearers_fault_has_an_exercise_in_every_count_protocol_or_none_at_all() -> None:
    ids = [one.id for one in protocol("full-count-us").exercises()]
    assert all(named_exercise(fault, ids) is not None for fault in WEARER_FAULTS)
    fast = [one.id for one in protocol("fast-count-elastomeric").exercises()]
    assert named_exercise("missing valve", fast) == fast.index("jog")
    assert named_exercise("no such fault", fast) is None


@pytest.mark.parametrize("fault", list(WEARER_FAULTS))
@pytest.mark.parametrize("name", ["fast-count-elastomeric", "full-count-us"])
def test_a_wearers_fault_shows_most_in_its_own_exercise(fault: str, name: str) -> None:
    """In at least nine of ten seeds, by the fit factors that come out of the counts, not by those put in."""
    one = protocol(name)
    ids = [each.id for each in one.exercises()]
    named, hits = named_exercise(fault, ids), 0
    for seed in SEEDS:
        factors = faulty_factors(seed, 3000, fault, ids)
        found, _ = judged(one, SimulatedWearer(seed, factors, one.starts_ms()))
        worst = min(found.exercises, key=lambda row: row.factor)
        hits += worst.exercise == named
    assert hits >= 0.9 * len(SEEDS)


@pytest.mark.parametrize("fault", KIT_FAULTS)
@pytest.mark.parametrize("name", KIT_PROTOCOLS)
def test_no_fault_of_the_kit_ever_leads_to_a_pass(fault: str, name: str) -> None:
    """Void by its readings, void by its numbers, or held for the proof; the wearer's own seal is a very good one."""
    one = protocol(name)
    for seed in SEEDS:
        factors = wearer_factors(seed, 4000, None, len(one.exercises()))
        found, sealed = judged(one, SimulatedWearer(seed, factors, one.starts_ms(), fault))
        assert sealed.deviations or found.state in ("void", "held", "below"), (fault, seed, found.state)
        assert sealed.deviations or found.state != "below", "a fault of the kit is no leak of the wearer"


@pytest.mark.parametrize("phase", [0, 90, 249])
@pytest.mark.parametrize("name", ["fast-count-disposable", "full-count-us", *MEASURED])
def test_a_sound_wearer_on_sound_kit_passes_and_a_leaking_one_does_not(name: str, phase: int) -> None:
    """``phase``: an instrument's intervals begin where they will, not where a protocol's seconds do."""
    one = protocol(name)
    n = len(one.exercises())
    for seed in range(20):
        good, sealed = judged(one, SimulatedWearer(seed, wearer_factors(seed, 3000, None, n), one.starts_ms()), phase)
        assert good.state == "reached" and not sealed.deviations, good.reasons
        bad, _ = judged(one, SimulatedWearer(seed, wearer_factors(seed, 40, None, n), one.starts_ms()), phase)
        assert bad.state == "below", bad.reasons


def test_the_same_seed_gives_the_same_readings_on_every_instrument() -> None:
    for name in ("fast-count-elastomeric", "aerosol-us", "pressure-short"):
        one = protocol(name)
        wearer = SimulatedWearer(7, (900,) * len(one.exercises()), one.starts_ms())
        assert simulate(one, wearer) == simulate(one, wearer)


def test_what_is_drawn_by_chance_is_the_same_for_a_run_and_may_be_anything() -> None:
    found = {drawn(f"run-{number}") for number in range(400)}
    assert found == set(PRACTICE) and drawn("run-1") == drawn("run-1")


def test_what_was_drawn_is_told_when_the_visit_is_closed_and_not_before() -> None:
    bench = Bench(RULES, is_practice=True, speed=10)
    bench.until("run")
    bench.run(hidden="stubble")
    assert bench.view.tries[0].hidden == ""
    bench.until("release")
    assert bench.view.tries[0].hidden == ""
    bench.do("release")
    assert bench.view.tries[0].hidden == "stubble"
