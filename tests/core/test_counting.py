"""Counting bounds against tabulated values, scipy.stats and simulated coverage."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy import stats

from moorfog.core.measuring.counting import Sample, exercise_bound, overall_bound, two_sided, upper_limit


@pytest.mark.parametrize(("n", "upper"), [(0, 2.996), (1, 4.744), (5, 10.513), (10, 16.962)])
def test_one_sided_limits_are_the_tabulated_ones(n: int, upper: float) -> None:
    """Tabulated Poisson limits (Garwood 1936); recalled."""
    assert upper_limit(n) == pytest.approx(upper, abs=5e-4)


@pytest.mark.parametrize(("n", "low", "high"), [(0, 0.0, 3.689), (1, 0.025, 5.572), (10, 4.795, 18.390)])
def test_two_sided_limits_are_the_tabulated_ones(n: int, low: float, high: float) -> None:
    """Tabulated Poisson limits (Garwood 1936); recalled."""
    assert two_sided(n) == pytest.approx((low, high), abs=6e-4)


@pytest.mark.parametrize("n", [0, 1, 2, 7, 50, 400])
def test_limits_agree_with_scipy_stats(n: int) -> None:
    assert upper_limit(n) == pytest.approx(0.5 * stats.chi2.ppf(0.95, 2 * n + 2), rel=1e-10)
    assert stats.poisson.cdf(n, upper_limit(n)) == pytest.approx(0.05, rel=1e-8)


def test_no_particle_at_all_still_gives_only_a_bound() -> None:
    assert exercise_bound(Sample(0, 1000, 50)) == pytest.approx(16_690, rel=1e-3)  # computed
    assert overall_bound([Sample(0, 2000, 50)] * 4) == pytest.approx(133_500, rel=1e-3)  # computed


@pytest.mark.parametrize(("counts", "margin"), [(50, 1.27), (200, 1.12)])
def test_how_far_above_the_level_a_safe_pass_lies(counts: int, margin: float) -> None:
    assert upper_limit(counts) / counts == pytest.approx(margin, abs=0.01)  # computed


def test_equal_exercises_are_pooled_and_nearly_equal_ones_come_close() -> None:
    pooled = overall_bound([Sample(3, 2000, 50)] * 4)
    assert overall_bound(
        [Sample(3, 2000, 50), Sample(3, 2000, 50), Sample(3, 2000, 50), Sample(3, 2000, 50.001)]
    ) == pytest.approx(pooled, rel=1e-3)


@pytest.mark.parametrize("volumes", [(50.0,) * 4, (50.0, 20.0, 35.0, 50.0)])
def test_the_bound_covers_the_truth_in_at_least_95_per_cent_of_10000_runs(volumes: tuple[float, ...]) -> None:
    random = np.random.default_rng(11)
    outside, true = 2000.0, np.array([900.0, 4000.0, 15_000.0, 2500.0])
    truth = 4 / float(np.sum(1 / true))
    counts = random.poisson(outside / true * np.array(volumes), size=(10_000, 4))
    held = 0
    cache: dict[tuple[int, ...], float] = {}
    for row in counts:
        key = tuple(int(one) for one in row)
        if key not in cache:
            cache[key] = overall_bound([Sample(n, outside, v) for n, v in zip(key, volumes, strict=True)])
        held += cache[key] <= truth
    assert held / 10_000 >= 0.95


RUNS = 10_000


@pytest.mark.parametrize("factor", [60, 500, 5000, 40_000])
def test_the_exercise_bound_covers_the_truth_in_95_of_100_runs(factor: int) -> None:
    """Coverage over 10,000 seeded runs: by construction never less, counts being whole numbers often more (Garwood)."""
    outside, volume = 5000.0, 50.0
    counts = np.random.default_rng(factor).poisson(outside * volume / factor, RUNS)
    bounds = {n: exercise_bound(Sample(n, outside, volume)) for n in {int(one) for one in counts}}
    covered = sum(bounds[int(one)] <= factor for one in counts)
    assert covered >= 0.95 * RUNS - 3 * math.sqrt(0.05 * 0.95 * RUNS), "within the noise of so many runs"
