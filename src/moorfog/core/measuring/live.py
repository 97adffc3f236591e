"""What the bench shows while a run goes on: held outside, inside as it comes, fit factors, the leak budget."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from itertools import takewhile

from moorfog.core.events.measured import Hold, MeasuredWindow, SignalWindow
from moorfog.core.kernel.arithmetic import concentration
from moorfog.core.measuring import negative_pressure, photometer
from moorfog.core.measuring.ambient import Outside, outside_of
from moorfog.core.measuring.budget import shares_of, spend
from moorfog.core.measuring.counting import Sample, exercise_bound, overall_bound
from moorfog.core.measuring.readings import Reading
from moorfog.core.measuring.reduction import RECENT, Reduction
from moorfog.core.rules.book import Book
from moorfog.core.rules.protocols import Protocol


@dataclass(frozen=True)
class LiveNumbers:
    """What the bench shows while a run goes on. Shares are of the leak budget; None where not known yet.

    Outside and inside, this one a mean of about two seconds, are particles per cm³, µg/m³, or ml/min of modelled flow
    and leak; ``factors`` and ``bounds`` hold one for every exercise. Inside is None while the tube is still being
    purged of the air outside. ``heading``: the fit factor that decides, by what has been read so far, with its lower
    95 % bound where particles are counted. ``ended_by`` is why the run must end now: a single peak, or a broken hold.
    """

    outside: Fraction | None
    inside: Fraction | None
    is_inside_live: bool
    shares: tuple[Fraction, ...]
    factors: tuple[Fraction | None, ...]
    bounds: tuple[float | None, ...]
    heading: Fraction | None
    heading_bound: float | None
    is_unlikely: bool
    is_lost: bool
    ended_by: str


def value_of(protocol: Protocol, one: Reading) -> Fraction:
    """Return what a reading shows: particles per cm³, µg/m³, or the leak in ml/min."""
    if protocol.is_counted:
        return concentration(one.counts, one.volume_nl) if one.volume_nl > 0 else Fraction(0)
    return max(Fraction(one.signal or 0, 1000), Fraction(0))


def recent_value(protocol: Protocol, readings: Sequence[Reading]) -> Fraction | None:
    """Return the mean of the last readings with the valve where it stands now, or None without any."""
    latest = list(readings)[-RECENT:]
    own = list(takewhile(lambda one: one.valve == latest[-1].valve, reversed(latest)))
    if not own:
        return None
    if protocol.is_counted:
        volume = sum(one.volume_nl for one in own)
        return concentration(sum(one.counts for one in own), volume) if volume > 0 else None
    return sum((value_of(protocol, one) for one in own), Fraction(0)) / len(own)


def live_numbers(reduction: Reduction, book: Book, level: Fraction, level_key: str) -> LiveNumbers:
    """Return the numbers of a running run on a facepiece judged by ``level_key``, the budget by the honest rule."""
    protocol = reduction.protocol
    windows, signals, holds = reduction.measured(), reduction.signals(), reduction.holds()
    begun = shares_of(protocol, book, windows, signals, holds)
    spent = spend(protocol, book, level, begun)
    reached = max(spent.by_exercise, default=-1)
    now = reduction.recent[-1] if reduction.recent else None
    value = value_of(protocol, now) if now is not None else None
    is_in = now is not None and now.valve == "I"
    beside = _outsides(protocol, windows, signals)
    outside = _held(protocol, beside, [one.exercise for one in begun])
    if protocol.family != "pressure" and not is_in and value is not None:
        outside = value
    chamber = now.chamber if now is not None else None
    if chamber is not None:
        outside = Fraction(max(chamber, 0), 1000)
    peak = photometer.peak_reason(protocol, level_key, signals) if protocol.family == "photometer" else None
    so_far = _shares_so_far(protocol, book, windows, signals, holds, beside)
    samples = _samples(protocol, windows, beside)
    broken = next((one.detail for one in reduction.deviations if one.code == "broken_hold"), "")
    return LiveNumbers(
        outside=outside,
        inside=recent_value(protocol, reduction.recent) if is_in and now and is_inside(protocol, now) else None,
        is_inside_live=is_in,
        shares=tuple(spent.by_exercise.get(index, Fraction(0)) for index in range(reached + 1)),
        factors=_factors(protocol, so_far),
        bounds=tuple(
            exercise_bound(samples[index]) if index in samples else None for index in range(len(protocol.exercises()))
        ),
        heading=_heading(book, so_far),
        heading_bound=_heading_bound(book, samples),
        is_unlikely=spent.budget.is_unlikely,
        is_lost=spent.budget.is_lost or peak is not None,
        ended_by=peak.sentence if peak is not None else f"Hold broken: {broken}" if broken else "",
    )


def must_end(reduction: Reduction, level_key: str) -> bool:
    """True once the protocol itself ends the run: a single peak above its limit, or a breath hold broken."""
    if reduction.protocol.family == "photometer":
        return photometer.peak_reason(reduction.protocol, level_key, reduction.signals()) is not None
    return any(one.code == "broken_hold" for one in reduction.deviations)


def _outsides(
    protocol: Protocol, windows: Sequence[MeasuredWindow], signals: Sequence[SignalWindow]
) -> tuple[Outside, ...]:
    if protocol.family == "photometer":
        return photometer.outsides(protocol, signals)
    if protocol.family == "pressure":
        return ()
    return outside_of(protocol, windows)


def _held(protocol: Protocol, beside: Sequence[Outside], begun: Sequence[int]) -> Fraction | None:
    """Return the outside figure that is held while inside is read: that of the exercise reached last."""
    if protocol.family == "pressure":
        return negative_pressure.modelled_flow(protocol)
    place = {index: number for number, index in enumerate(protocol.summed())}
    last = max((place[index] for index in begun if index in place), default=0)
    found = beside[last].value if beside else None
    return found / 1000 if found is not None and protocol.family == "photometer" else found


def _shares_so_far(
    protocol: Protocol,
    book: Book,
    windows: Sequence[MeasuredWindow],
    signals: Sequence[SignalWindow],
    holds: Sequence[Hold],
    beside: Sequence[Outside],
) -> dict[int, Fraction]:
    """Return inside ÷ outside of each exercise so far, over what has been read of it, not over what is planned."""
    out: dict[int, Fraction] = {}
    if protocol.family == "pressure":
        flow = negative_pressure.modelled_flow(protocol)
        for one in holds:
            out[one.exercise] = max(out.get(one.exercise, Fraction(0)), negative_pressure.leak(one) / flow)
        return out
    for index, outside in zip(protocol.summed(), beside, strict=True):
        inside: Fraction | None = None
        if protocol.family == "photometer":
            slices, how = photometer.inside_slices(signals, index), book.text("aerosol.inside")
            inside = photometer.inside_signal(slices, how) if slices and how in photometer.INSIDE_BY else None
        else:
            counts, volume = _inside(windows, index)
            inside = concentration(counts, volume) if volume > 0 else None
        if inside is not None and outside.value is not None and outside.value > 0:
            out[index] = inside / outside.value
    return out


def _inside(windows: Sequence[MeasuredWindow], index: int) -> tuple[int, int]:
    own = [one for one in windows if one.exercise == index and one.use == "inside"]
    return sum(one.counts for one in own), sum(one.volume_nl for one in own)


def _factors(protocol: Protocol, shares: dict[int, Fraction]) -> tuple[Fraction | None, ...]:
    """Return the fit factor of each exercise so far; None before it began, for one that is not in the sum, and while
    nothing leaked."""
    found = (shares.get(index) for index in range(len(protocol.exercises())))
    return tuple(1 / one if one else None for one in found)


def _samples(protocol: Protocol, windows: Sequence[MeasuredWindow], beside: Sequence[Outside]) -> dict[int, Sample]:
    """Return what was counted inside so far, by exercise; nothing where no particles are counted."""
    out: dict[int, Sample] = {}
    if not protocol.is_counted:
        return out
    for index, outside in zip(protocol.summed(), beside, strict=True):
        counts, volume = _inside(windows, index)
        if volume > 0 and outside.value is not None and outside.value > 0:
            out[index] = Sample(counts, float(outside.value), volume / 1e6)
    return out


def _heading(book: Book, shares: dict[int, Fraction]) -> Fraction | None:
    """Return the fit factor that decides, were the rest as what has been read: overall, or the lowest exercise where
    every one is judged. None before anything has leaked in."""
    total, most = sum(shares.values(), Fraction(0)), max(shares.values(), default=Fraction(0))
    if most <= 0:
        return None
    return 1 / most if book.text("judged_by") == "every_exercise" else len(shares) / total


def _heading_bound(book: Book, samples: dict[int, Sample]) -> float | None:
    """Return the lower 95 % bound of what the run is heading for, None where no particles are counted."""
    if not samples:
        return None
    if book.text("judged_by") == "every_exercise":
        return min(exercise_bound(one) for one in samples.values())
    return overall_bound(list(samples.values()))


def is_inside(protocol: Protocol, one: Reading) -> bool:
    """True for a reading of the air inside: within a window that measures it, not while the tube is purged."""
    return any(
        window.use in ("inside", "hold") and window.start_ms < one.t <= window.end_ms for window in protocol.windows()
    )
