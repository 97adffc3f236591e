"""A simulated wearer at a simulated instrument: seeded and pure, so that the same seed gives the same readings.

Ambient air drifts slowly; inside there is the leak of each exercise; the tube lags when the valve turns; particles
arrive by Poisson's law. Faults of wearers change what leaks in which exercise, faults of the kit change what is read.
It exists to try the whole chain without a person, and to learn on; never to stand in for one.
"""

from __future__ import annotations

import math
from bisect import bisect_right
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from moorfog.core.measuring.readings import Reading
from moorfog.core.rules.protocols import Protocol
from moorfog.core.simulation.faults import HEPA_LEFT_ON, named_exercise

TUBE_LAG_S = 0.7
DRIFT_SHARE = 0.03
DRIFT_PERIOD_S = 180.0
BREATH_S = 4.0
STEP_MS = 250
FLOW_NL_PER_MS = 1667
AMBIENT = 5300.0
"""Particles per cm³ in the simulated room."""
HEPA_LEAK = (1e-7, 3.7e-5)
"""What a HEPA filter and its fittings on the sample line let in of the air around them, from next to nothing to what
the day's clean-air check still takes: common practice."""
CHALLENGE = 15_000.0
"""µg/m³ in the simulated chamber."""


@dataclass(frozen=True)
class SimulatedWearer:
    """A fit factor per exercise, where each exercise starts in ms from t0, and what the kit hides."""

    seed: int
    factors: tuple[int, ...]
    starts_ms: tuple[int, ...]
    kit_fault: str = ""

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
        self.reseed(self.seed)
        self.flags = ""

    def reseed(self, seed: int) -> None:
        """Begin the sequence of counts anew with outside air in the tube: the same wearer gives the same counts."""
        self.random = np.random.default_rng(seed)
        self.in_tube = self.ambient
        self.leaks_by_filter = hepa_leak(seed)

    def outside_at(self, t_ms: int) -> float:
        """Return the outside concentration at ``t_ms``, drifting by a few per cent."""
        return self.ambient * (1 + DRIFT_SHARE * math.sin(2 * math.pi * t_ms / 1000 / DRIFT_PERIOD_S))

    def next_counts(
        self, t_ms: int, dt_ms: int, is_inside: bool, wearer: SimulatedWearer | None, run_t_ms: int
    ) -> tuple[int, int]:
        """Return counts and sampled volume (nl) of the interval of ``dt_ms`` that ends at ``t_ms``."""
        fault = wearer.kit_fault if wearer is not None and run_t_ms >= 0 else ""
        outside = self.outside_at(t_ms)
        if fault == "burner lit nearby":
            outside *= 1 + run_t_ms / 60_000
        target = outside / wearer.factor_at(run_t_ms - 1) if is_inside and wearer is not None else outside
        keep = math.exp(-dt_ms / 1000 / TUBE_LAG_S)
        self.in_tube = target + (self.in_tube - target) * keep
        seen, self.flags = self._through(fault, self.in_tube, is_inside, run_t_ms)
        volume = self.flow_nl_per_ms * dt_ms
        return int(self.random.poisson(seen * volume / 1e6)), volume

    def _through(self, fault: str, concentration: float, is_inside: bool, run_t_ms: int) -> tuple[float, str]:
        """Return what reaches the optics, and the flags raised, with a fault of the kit."""
        if fault == "low alcohol" and run_t_ms > 20_000:
            return concentration * math.exp(-(run_t_ms - 20_000) / 60_000), "A"
        if fault == "wet hose" and is_inside:
            return 0.0, "F" if run_t_ms % 10_000 < 1000 else ""
        if fault == "blocked hose" and is_inside:
            return 0.0, ""
        if fault == HEPA_LEFT_ON and is_inside:
            return self.ambient * self.leaks_by_filter, ""
        return concentration, ""


def hepa_leak(seed: int) -> float:
    """Return the share of the air around it that a HEPA filter lets in, drawn evenly on a log scale by a seed."""
    return float(HEPA_LEAK[0] * (HEPA_LEAK[1] / HEPA_LEAK[0]) ** ((seed * 37 % 100) / 99))


def valve_shown(wearer: SimulatedWearer | None, is_inside: bool) -> bool:
    """Return where the valve really stands: a stuck one stays outside, and says so."""
    return is_inside and not (wearer is not None and wearer.kit_fault == "stuck valve")


@dataclass
class SimulatedChamber:
    """A chamber with generated aerosol: ``challenge`` in µg/m³, read inside with each breath's peak."""

    seed: int
    challenge: float

    def __post_init__(self) -> None:
        self.random = np.random.default_rng(self.seed)
        self.in_tube = self.challenge

    def reseed(self, seed: int) -> None:
        """Begin anew: the same wearer gives the same readings."""
        self.random = np.random.default_rng(seed)
        self.in_tube = self.challenge

    def next_signal(
        self, t_ms: int, dt_ms: int, is_inside: bool, wearer: SimulatedWearer | None, run_t_ms: int
    ) -> tuple[int, int]:
        """Return the sample's and the chamber's signal in thousandths of a µg/m³ over the interval that ends here."""
        fault = wearer.kit_fault if wearer is not None and run_t_ms >= 0 else ""
        chamber = self.challenge * (1 + 0.02 * math.sin(2 * math.pi * t_ms / 1000 / DRIFT_PERIOD_S))
        if fault in ("burner lit nearby", "low alcohol"):
            chamber *= 1 + run_t_ms / 120_000
        breath = 1 + 0.5 * math.sin(2 * math.pi * t_ms / 1000 / BREATH_S)
        target = chamber / wearer.factor_at(run_t_ms - 1) * breath if is_inside and wearer is not None else chamber
        self.in_tube = target + (self.in_tube - target) * math.exp(-dt_ms / 1000 / TUBE_LAG_S)
        is_dead = is_inside and fault in ("wet hose", "blocked hose")
        seen = 0.0 if is_dead else self.in_tube
        if is_inside and fault == HEPA_LEFT_ON:
            seen = chamber * HEPA_LEAK[1]
        noise = self.random.normal(1.0, 0.01, 2)
        return round(seen * 1000 * noise[0]), round(chamber * 1000 * noise[1])


@dataclass
class SimulatedPressure:
    """A negative-pressure instrument: the leak at ``pressure`` mm of water while the breath is held."""

    seed: int
    flow: float = 53.8
    pressure: float = 15.0

    def __post_init__(self) -> None:
        self.random = np.random.default_rng(self.seed)

    def reseed(self, seed: int) -> None:
        """Begin anew: the same wearer gives the same readings."""
        self.random = np.random.default_rng(seed)

    def next_leak(self, is_inside: bool, wearer: SimulatedWearer | None, run_t_ms: int) -> tuple[int, int]:
        """Return leak (µl/min) and pressure (thousandths of a mm of water) of the interval that ends at ``run_t_ms``.

        Outside a hold the wearer breathes, and no leak is read.
        """
        fault = wearer.kit_fault if wearer is not None and run_t_ms >= 0 else ""
        noise = self.random.normal(0.0, 1.0, 2)
        if not is_inside or wearer is None:
            return 0, round(2000 * math.sin(2 * math.pi * run_t_ms / 1000 / BREATH_S))
        if fault in ("wet hose", "blocked hose", HEPA_LEFT_ON):
            return 0, round(self.pressure * 1000 + 50 * noise[1])
        if fault in ("low alcohol", "burner lit nearby"):  # no such trouble here: the wearer breathes in the hold
            return round(self.flow * 1e5), round(self.pressure * 1000 * (0.5 + 0.4 * noise[1]))
        leak = self.flow * 1e6 / wearer.factor_at(run_t_ms - 1) * (1 + 0.01 * noise[0])
        return round(leak), round(self.pressure * 1000 + 80 * noise[1])


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


def faulty_factors(seed: int, typical: float, fault: str, exercises: Sequence[str]) -> tuple[int, ...]:
    """Draw the fit factors of a wearer with a hidden fault: all leak three times as much, the fault's own far more."""
    return wearer_factors(seed, typical / 3, named_exercise(fault, exercises), len(exercises))


def simulate(
    protocol: Protocol,
    wearer: SimulatedWearer,
    outside: float | None = None,
    flow_nl_per_ms: int = FLOW_NL_PER_MS,
    step_ms: int = STEP_MS,
) -> list[Reading]:
    """Return the readings of a whole run from t0 on, on the instrument the protocol needs.

    ``outside`` is the ambient in particles per cm³ or the challenge in µg/m³, the usual one where it is left out; a
    negative-pressure test has none.
    """
    windows = protocol.windows()
    ends = [one.end_ms for one in windows]

    def is_in(begin_ms: int) -> bool:
        return windows[bisect_right(ends, begin_ms)].valve == "IN"

    last_ms = protocol.total_s * 1000
    return simulate_stream(protocol.family, wearer, is_in, last_ms, outside, flow_nl_per_ms, step_ms)


def simulate_stream(
    family: str,
    wearer: SimulatedWearer,
    is_in: Callable[[int], bool],
    last_ms: int,
    outside: float | None = None,
    flow_nl_per_ms: int = FLOW_NL_PER_MS,
    step_ms: int = STEP_MS,
) -> list[Reading]:
    """Return readings up to ``last_ms``. ``is_in``: whether the valve is turned inside in what begins at a ms."""
    if outside is None:
        outside = CHALLENGE if family == "photometer" else AMBIENT
    air = SimulatedAir(wearer.seed, outside, flow_nl_per_ms)
    chamber, negative_pressure = SimulatedChamber(wearer.seed, outside), SimulatedPressure(wearer.seed)
    out = list[Reading]()
    for t in range(step_ms, last_ms + step_ms, step_ms):
        is_inside = valve_shown(wearer, is_in(t - step_ms))
        letter = "I" if is_inside else "O"
        if family == "photometer":
            signal, beside = chamber.next_signal(t, step_ms, is_inside, wearer, t)
            out.append(
                Reading(
                    t=t,
                    dt=step_ms,
                    counts=0,
                    volume_nl=flow_nl_per_ms * step_ms,
                    valve=letter,
                    flags="",
                    signal=signal,
                    chamber=beside,
                )
            )
        elif family == "pressure":
            leak, pressure = negative_pressure.next_leak(is_inside, wearer, t)
            out.append(
                Reading(
                    t=t,
                    dt=step_ms,
                    counts=0,
                    volume_nl=0,
                    valve=letter,
                    flags="",
                    signal=leak,
                    chamber=None,
                    pressure=pressure,
                )
            )
        else:
            counts, volume = air.next_counts(t, step_ms, is_inside, wearer, t)
            out.append(Reading(t=t, dt=step_ms, counts=counts, volume_nl=volume, valve=letter, flags=air.flags))
    return out
