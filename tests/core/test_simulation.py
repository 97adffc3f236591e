"""The simulated wearer and air: seeded, lagging, Poisson; against scipy.stats where a law is claimed."""

from __future__ import annotations

import math
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from moorfog.core.simulation.wearer import DRIFT_SHARE, TUBE_LAG_S, SimulatedAir, SimulatedWearer, wearer_factors

FLOW = 1667


def test_counts_are_poisson_about_concentration_times_volume() -> None:
    """Index of dispersion against chi-square: scipy.stats.chi2, 0.1 % each side."""
    air = SimulatedAir(7, 500.0, FLOW)
    counts = np.array([air.next_counts(0, 250, False, None, 0)[0] for _ in range(2000)])
    mean = 500.0 * FLOW * 250 / 1e6
    assert counts.mean() == pytest.approx(mean, rel=0.02)
    dispersion = ((counts - counts.mean()) ** 2).sum() / counts.mean()
    low, high = stats.chi2.ppf([0.001, 0.999], len(counts) - 1)
    assert low < dispersion < high


@given(st.integers(0, 10**6))
def test_the_outside_drifts_by_a_few_per_cent_only(t: int) -> None:
    air = SimulatedAir(1, 5300.0, FLOW)
    assert abs(air.outside_at(t) / 5300.0 - 1) <= DRIFT_SHARE + 1e-9


def test_the_tube_lags_when_the_valve_turns() -> None:
    air = SimulatedAir(3, 5300.0, FLOW)
    wearer = SimulatedWearer(3, (1000,), (0,))
    seen = []
    for step in range(1, 40):
        air.next_counts(step * 250, 250, True, wearer, step * 250)
        seen.append(air.in_tube)
    assert all(after < before for before, after in pairwise(seen[:20])), "it falls, step by step"
    first = air.outside_at(250) / 1000
    assert seen[0] == pytest.approx(first + (5300 - first) * math.exp(-0.25 / TUBE_LAG_S), rel=0.01)
    assert seen[-1] == pytest.approx(5.3, rel=0.1), "and is gone within the purge"


def test_the_same_seed_gives_the_same_counts_and_reseeding_begins_anew() -> None:
    one, other = SimulatedAir(5, 800.0, FLOW), SimulatedAir(5, 800.0, FLOW)
    first = [one.next_counts(t, 250, False, None, 0) for t in range(0, 5000, 250)]
    assert first == [other.next_counts(t, 250, False, None, 0) for t in range(0, 5000, 250)]
    one.reseed(5)
    assert one.next_counts(0, 250, False, None, 0) == first[0]


@given(st.lists(st.integers(2, 5000), min_size=4, max_size=4), st.integers(-5000, 200_000))
def test_each_exercise_has_its_own_leak(factors: list[int], t: int) -> None:
    starts = (0, 50_000, 80_000, 110_000)
    wearer = SimulatedWearer(1, tuple(factors), starts)
    index = max((i for i, start in enumerate(starts) if t >= start), default=0)
    assert wearer.factor_at(t) == factors[index]


@given(st.integers(0, 5000), st.floats(20, 20_000), st.integers(0, 3))
def test_a_drawn_wearer_is_whole_and_never_seals_better_by_leaking(seed: int, typical: float, leak: int) -> None:
    sound, leaking = wearer_factors(seed, typical, None, 4), wearer_factors(seed, typical, leak, 4)
    assert all(isinstance(one, int) and one >= 2 for one in (*sound, *leaking))
    assert leaking[leak] <= sound[leak] and [one for i, one in enumerate(leaking) if i != leak] == [
        one for i, one in enumerate(sound) if i != leak
    ]
