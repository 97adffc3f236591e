"""A simulated wearer at a simulated counter: seeded and pure, so that the same seed gives the same counts.

Ambient air drifts slowly; inside there is the leak of each exercise; the tube lags when the valve turns; particles
arrive by Poisson's law. It exists to try the whole chain without a person, never to stand in for one.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

TUBE_LAG_S = 0.7
DRIFT_SHARE = 0.03
DRIFT_PERIOD_S = 180.0


@dataclass(frozen=True)
class SimulatedWearer:
    """A fit factor per exercise, and where each exercise starts in ms from t0."""

    seed: int
    factors: tuple[int, ...]
    starts_ms: tuple[int, ...]

    def factor_at(self, t_ms: int) -> int:
        """Return the true fit factor at ``t_ms`` after t0; before t0 that of the first exercise."""
        found = self.factors[0]
        for factor, start in zip(self.factors, self.starts_ms, strict=True):
            if t_ms >= start:
                found = factor
        return found


@dataclass
class SimulatedAir:
    """The air a simulated counter draws. ``ambient`` in particles per cm³, ``flow`` counted, in nl per ms."""

    seed: int
    ambient: float
    flow_nl_per_ms: int

    def __post_init__(self) -> None:
        self.random = np.random.default_rng(self.seed)
        self.in_tube = self.ambient

    def reseed(self, seed: int) -> None:
        """Begin the sequence of counts anew with outside air in the tube: the same wearer gives the same counts."""
        self.random = np.random.default_rng(seed)
        self.in_tube = self.ambient

    def outside_at(self, t_ms: int) -> float:
        """Return the outside concentration at ``t_ms``, drifting by a few per cent."""
        return self.ambient * (1 + DRIFT_SHARE * math.sin(2 * math.pi * t_ms / 1000 / DRIFT_PERIOD_S))

    def next_counts(
        self, t_ms: int, dt_ms: int, is_inside: bool, wearer: SimulatedWearer | None, run_t_ms: int
    ) -> tuple[int, int]:
        """Return counts and sampled volume (nl) of the interval of ``dt_ms`` that ends at ``t_ms``."""
        outside = self.outside_at(t_ms)
        target = outside / wearer.factor_at(run_t_ms) if is_inside and wearer is not None else outside
        keep = math.exp(-dt_ms / 1000 / TUBE_LAG_S)
        self.in_tube = target + (self.in_tube - target) * keep
        volume = self.flow_nl_per_ms * dt_ms
        return int(self.random.poisson(self.in_tube * volume / 1e6)), volume


def wearer_factors(seed: int, typical: float, leak_in: int | None, n: int) -> tuple[int, ...]:
    """Draw the fit factors of ``n`` exercises around ``typical``; exercise ``leak_in`` leaks eight times as much."""
    random = np.random.default_rng(seed)
    out = []
    for index in range(n):
        value = typical * math.exp(random.normal(0.0, 0.35))
        if index == leak_in:
            value /= 8
        out.append(max(2, round(value)))
    return tuple(out)
