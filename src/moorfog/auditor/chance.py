"""What counting can show, from the standard library alone: quantiles of the Poisson and the gamma distribution."""

from __future__ import annotations

import math

STEPS, CLOSE, LEAST = 100_000, 1e-16, 1e-300


def gamma_share(shape: float, x: float) -> float:
    """The share of a gamma distribution (scale 1) up to ``x``: the regularised incomplete gamma function P.

    By its series below the mean, by its continued fraction (Lentz) above: Abramowitz and Stegun 6.5.29 and 6.5.31
    (recalled).
    """
    if x <= 0:
        return 0.0
    front = math.exp(shape * math.log(x) - x - math.lgamma(shape))
    if x < shape + 1:
        term = total = 1 / shape
        for n in range(1, STEPS):
            term *= x / (shape + n)
            total += term
            if term < total * CLOSE:
                break
        return front * total
    b = x + 1 - shape
    c, d = 1 / LEAST, 1 / b
    fraction = d
    for n in range(1, STEPS):
        a = n * (shape - n)
        b += 2
        d = 1 / _not_nothing(a * d + b)
        c = _not_nothing(b + a / c)
        fraction *= c * d
        if abs(c * d - 1) < CLOSE:
            break
    return 1 - front * fraction


def _not_nothing(value: float) -> float:
    return value if abs(value) > LEAST else LEAST


def gamma_quantile(share: float, shape: float, scale: float) -> float:
    """The value below which so much of a gamma distribution lies, by halving."""
    low, high = 0.0, shape + 1
    while gamma_share(shape, high) < share:
        high *= 2
    while high - low > 1e-14 * high:
        middle = (low + high) / 2
        low, high = (middle, high) if gamma_share(shape, middle) < share else (low, middle)
        if middle in (0.0, high) and low == middle:
            break
    return (low + high) / 2 * scale


def upper_limit(counts: int) -> float:
    """The mean at which so few counts or fewer come up once in twenty times.

    Garwood 1936 (recalled): the one-sided 95 % limit of a Poisson mean; no counts at all give 2.996.
    """
    return gamma_quantile(0.95, counts + 1, 1.0)


def overall_bound(weights: list[float], counts: list[int]) -> float:
    """The lower 95 % bound of an overall fit factor; ``weights``: 1 ÷ (outside × volume) of each exercise.

    Equal weights: the counts pooled, exactly. Otherwise Fay and Feuer 1997 (recalled), as a quantile of the gamma
    distribution with the mean and the variance of the weighted sum, the largest weight added once.
    """
    largest = max(weights)
    if largest - min(weights) <= 1e-12 * largest:
        return len(weights) / (largest * upper_limit(sum(counts)))
    mean = sum(w * n for w, n in zip(weights, counts, strict=True)) + largest
    variance = sum(w * w * n for w, n in zip(weights, counts, strict=True)) + largest**2
    return len(weights) / gamma_quantile(0.95, mean**2 / variance, variance / mean)
