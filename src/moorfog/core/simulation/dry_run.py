"""A protocol tried out without anybody: run on the simulator and judged, with a good seal and with a bad one."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction

from moorfog.core.events.facts import Instrument, Kind
from moorfog.core.kernel.arithmetic import cut
from moorfog.core.measuring.reduction import reduce_run
from moorfog.core.measuring.results import RunNumbers
from moorfog.core.measuring.run import Limits, measure_run
from moorfog.core.rules.book import Book
from moorfog.core.rules.protocols import Protocol, instrument_of
from moorfog.core.simulation.wearer import SimulatedWearer, simulate

GOOD_SEAL, BAD_SEAL = 3000, 30
LEVEL = Fraction(100)
STEP_MS = 500
LIMITS = {
    "counter": Limits(Fraction(1000), Fraction(1)),
    "photometer": Limits(Fraction(1000), Fraction(1)),
    "pressure": Limits(Fraction(0), Fraction("0.001")),
}
"""What the simulator's instruments can show."""
TRIED_WITH = Instrument(
    id="",
    name="",
    serial_number="",
    counted_flow="100",
    resolution="1",
    ambient_minimum="1000",
    ambient_maximum="",
    calibrated_until="",
    used_on="",
    checks=(),
)
"""The simulator's counter: 100 cm³/min through the optics."""
METHODS_OF = {
    "fast_count": ("ambient_count",),
    "full_count": ("ambient_count",),
    "photometer": ("aerosol",),
    "pressure": ("negative_pressure",),
    "taste": ("sweet", "bitter"),
    "odour": ("odour",),
    "smoke": ("smoke",),
}


@dataclass(frozen=True)
class Trial:
    """What a protocol came to: its seconds and values, and how a good and a bad seal were judged; empty for senses."""

    seconds: int
    n: int
    good: str
    bad: str
    problems: tuple[str, ...]


def try_protocol(protocol: Protocol, book: Book, kinds: Mapping[str, Kind]) -> Trial:
    """Run a protocol on the simulator against a level of 100 and say what is wrong with it. ``kinds``: those known.

    A good seal of 3,000 must reach the level and a bad one of 30 must not; a test by taste, smell or irritation has
    nothing to run, and only its shape is looked at.
    """
    problems = _names(protocol, kinds)
    if protocol.is_qualitative:
        return Trial(seconds=protocol.total_s, n=protocol.n, good="", bad="", problems=problems)
    good, bad = (_judged(protocol, book, factor) for factor in (GOOD_SEAL, BAD_SEAL))
    if good.state != "reached":
        why = good.reasons[0].sentence if good.reasons else ""
        problems += (f"a good seal does not reach the level in it, it is {good.state}: {why}".rstrip(": "),)
    if bad.state != "below":
        problems += (f"a bad seal is not found out in it, it is {bad.state}",)
    return Trial(seconds=protocol.total_s, n=protocol.n, good=_words(good), bad=_words(bad), problems=problems)


def _names(protocol: Protocol, kinds: Mapping[str, Kind]) -> tuple[str, ...]:
    out = []
    if protocol.method not in METHODS_OF[protocol.family]:
        wanted = " or ".join(METHODS_OF[protocol.family])
        out.append(f"method {protocol.method!r} does not go with the family {protocol.family!r}; write {wanted}")
    out += [
        f"{one!r} is no kind of facepiece; known are {', '.join(kinds)}" for one in protocol.kinds if one not in kinds
    ]
    if protocol.family == "pressure":
        soft = [one for one in protocol.kinds if one in kinds and kinds[one].family == "disposable"]
        out += [f"no negative-pressure test on {one}" for one in soft]
    if not protocol.kinds:
        out.append("kinds is empty: for which facepieces is it?")
    if not protocol.source.strip():
        out.append("source is empty: where is it from?")
    return tuple(out)


def _judged(protocol: Protocol, book: Book, factor: int) -> RunNumbers:
    wearer = SimulatedWearer(1, (factor,) * len(protocol.exercises()), protocol.starts_ms())
    found = reduce_run(protocol, book, simulate(protocol, wearer, step_ms=STEP_MS), "complete", TRIED_WITH)
    return measure_run(protocol, book, LEVEL, found, "level.half", LIMITS[instrument_of(protocol.family)])


def _words(found: RunNumbers) -> str:
    return f"{found.state}, overall {cut(found.overall)}" if found.overall is not None else found.state
