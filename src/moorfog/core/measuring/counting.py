"""What counting particles can and cannot show: exact Poisson bounds per exercise and for the whole run.

These bounds flag a pass as marginal; they never turn a verdict. They hold counting noise only, not the ambient's
unsteadiness, the instrument's calibration or the next donning.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

ONE_SIDED = 0.95


def _chi2_quantile(p: float, df: float) -> float:
    from scipy.special import chdtri  # a second of start-up, needed only when a run is judged

    return float(chdtri(df, 1.0 - p))


def upper_limit(counts: int, confidence: float = ONE_SIDED) -> float:
    """Return the one-sided upper limit of a Poisson mean: ½ χ²(confidence; 2n + 2). Zero counts → 2.996.

    Source: Garwood 1936, as tabulated; recalled.
    """
    if counts < 0:
        raise ValueError(f"{counts} is no count of particles; 0 or more is expected")
    return 0.5 * _chi2_quantile(confidence, 2 * counts + 2)


def two_sided(counts: int, confidence: float = 0.95) -> tuple[float, float]:
    """Return the central two-sided limits of a Poisson mean. Source: Garwood 1936; recalled."""
    tail = (1 - confidence) / 2
    low = 0.0 if counts == 0 else 0.5 * _chi2_quantile(tail, 2 * counts)
    return low, upper_limit(counts, 1 - tail)


@dataclass(frozen=True)
class Sample:
    """Inside counts of one exercise with the outside concentration (1/cm³) and the sampled volume (cm³)."""

    counts: int
    outside: float
    volume: float


def exercise_bound(sample: Sample) -> float:
    """Return the lower 95 % bound of one exercise's fit factor: C·V ÷ upper limit of n."""
    return sample.outside * sample.volume / upper_limit(sample.counts)


def overall_bound(samples: Sequence[Sample]) -> float:
    """Return the lower 95 % bound of the overall fit factor.

    Where C and V are equal the counts are pooled: N·C·V ÷ μ_up(Σn), exact. Otherwise the weighted sum of Poisson
    counts after Fay and Feuer 1997 (recalled): w = 1/(C·V), y = Σwn, v = Σw²n, M = max w,
    upper = (v + M²) ÷ (2(y + M)) · χ²(0.95; 2(y + M)² ÷ (v + M²)).
    """
    if not samples:
        raise ValueError("no exercise, no bound")
    weights = [1.0 / (one.outside * one.volume) for one in samples]
    n = len(samples)
    largest = max(weights)
    if largest - min(weights) <= 1e-12 * largest:
        return n / (largest * upper_limit(sum(one.counts for one in samples)))
    y = sum(w * one.counts for w, one in zip(weights, samples, strict=True))
    v = sum(w * w * one.counts for w, one in zip(weights, samples, strict=True))
    spread = v + largest * largest
    scale = y + largest
    upper = spread / (2 * scale) * _chi2_quantile(ONE_SIDED, 2 * scale * scale / spread)
    return n / upper
