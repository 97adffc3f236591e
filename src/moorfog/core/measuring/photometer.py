"""Generated aerosol read by a photometer: breaths in, fit factors out.

Inside is found by the average of the breaths' peaks, by the highest peak, or by the integrated area under the curve;
which of them is a value of the rule book, and stands in the verdict. Source: 29 CFR 1910.134 App. A Part I.C.2
(recalled).
"""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction

from moorfog.core.events.measured import SignalWindow, Slice
from moorfog.core.kernel.arithmetic import cut, whole_or_cut
from moorfog.core.measuring.ambient import BY_INSTRUMENT, Outside, no_ambient, pair_samples, stretches_outside
from moorfog.core.measuring.near_zero import any_near_zero, dropped
from moorfog.core.measuring.results import ExerciseResult, RunNumbers, conclude, exercise_missing, void
from moorfog.core.rules.book import Book
from moorfog.core.rules.protocols import Protocol
from moorfog.core.rules.reason import Reason

INSIDE_BY = ("average of peaks", "highest peak", "integrated area")
"""How the inside figure may be found: values of the book's ``aerosol.inside``."""
EDGES_MS = 2000
"""What an exercise's own challenge may lack of its seconds: readings across its edges are not used. That no more than
the protocol's missing second is lost is judged over the whole run. Common practice."""


def mean_signal(slices: Sequence[Slice]) -> Fraction | None:
    """Return area ÷ time, the mean signal in thousandths of a µg/m³, None where nothing was read."""
    ms = sum(one.ms for one in slices)
    return Fraction(sum(one.area for one in slices), ms) if ms > 0 else None


def inside_signal(slices: Sequence[Slice], how: str) -> Fraction | None:
    """Return the inside signal of an exercise by ``how``, clamped to 0 or more; None where nothing was read.

    Raises ``ValueError`` for a way that is none of :data:`INSIDE_BY`.
    """
    if how not in INSIDE_BY:
        raise ValueError(f"{how!r} is no way to find the inside figure; {', '.join(INSIDE_BY)} are")
    if not slices:
        return None
    if how == "integrated area":
        found = mean_signal(slices)
        return max(found, Fraction(0)) if found is not None else None
    peaks = [max(one.peak, 0) for one in slices]
    return Fraction(max(peaks)) if how == "highest peak" else Fraction(sum(peaks), len(peaks))


def outsides(protocol: Protocol, signals: Sequence[SignalWindow]) -> tuple[Outside, ...]:
    """Return the challenge each exercise of the sum is compared with, in order, in thousandths of a µg/m³."""
    if protocol.outside != "continuous":
        stretches = stretches_outside(signals)
        found = tuple(mean_signal([each for one in stretch for each in one.slices]) for stretch in stretches)
        return pair_samples(protocol, found)
    out = []
    for index in protocol.summed():
        own = [each for one in signals if one.use == "outside" and one.exercise == index for each in one.slices]
        found_here, read = mean_signal(own), sum(one.ms for one in own)
        known = (found_here,) if found_here is not None else ()
        out.append(Outside(found_here, read >= planned_ms(protocol, index) - EDGES_MS, known))
    return tuple(out)


def planned_ms(protocol: Protocol, index: int) -> int:
    """Return how long an exercise is sampled inside, in milliseconds."""
    return sum(one.seconds for one in protocol.exercises()[index].segment if one.use == "inside") * 1000


def inside_slices(signals: Sequence[SignalWindow], index: int) -> list[Slice]:
    """Return the breaths inside of one exercise."""
    return [each for one in signals if one.use == "inside" and one.exercise == index for each in one.slices]


def single_peak(protocol: Protocol, level_key: str) -> Fraction:
    """Return the share of the challenge that no single peak may pass on a facepiece judged by this level."""
    aerosol = protocol.aerosol
    if aerosol is None:
        return Fraction(1)
    return Fraction(aerosol.single_peak_half if level_key == "level.half" else aerosol.single_peak_full)


def highest_share(protocol: Protocol, signals: Sequence[SignalWindow]) -> tuple[Fraction, int] | None:
    """Return the highest single peak so far as a share of the challenge, and its exercise; None before any."""
    best: tuple[Fraction, int] | None = None
    for index, beside in zip(protocol.summed(), outsides(protocol, signals), strict=True):
        peaks = [one.peak for one in inside_slices(signals, index)]
        if not peaks or beside.value is None or beside.value <= 0:
            continue
        share = Fraction(max(peaks)) / beside.value
        if best is None or share > best[0]:
            best = (share, index)
    return best


def peak_reason(protocol: Protocol, level_key: str, signals: Sequence[SignalWindow]) -> Reason | None:
    """Return why a single peak ended the run, or None while none did."""
    found, limit = highest_share(protocol, signals), single_peak(protocol, level_key)
    if found is None or found[0] <= limit:
        return None
    exercise = protocol.exercises()[found[1]]
    return Reason(
        code="single_peak",
        sentence=f"{exercise.name}: a single peak of {cut(found[0] * 100)} % of the challenge; "
        f"{whole_or_cut(limit * 100)} % ends the test.",
        rule=protocol.aerosol.source if protocol.aerosol is not None else "",
        gravity="stop",
        remedy=f"Out of the chamber. Look at {exercise.look_at}; refit, another size or another facepiece.",
    )


def measure_signals(
    protocol: Protocol,
    book: Book,
    level: Fraction,
    signals: Sequence[SignalWindow],
    level_key: str,
    minimum: Fraction,
    resolution: Fraction,
    near_zero: Fraction | None = None,
    maximum: Fraction | None = None,
) -> RunNumbers:
    """Judge a run read from a photometer.

    ``minimum`` is the least challenge it may be run in, ``resolution`` one step of its reading, both in µg/m³. An
    inside figure below half a step counts as half a step and is shown with ≥. ``near_zero`` (µg/m³): the mean inside up
    to which the verdict is held. ``maximum`` (µg/m³): the most it can show, None where that is not known.
    """
    how, beside_all = book.text("aerosol.inside"), outsides(protocol, signals)
    if protocol.aerosol is None or how not in INSIDE_BY:
        return void("no_inside_rule", "How the inside figure is found is not stated.", "rule book", "Enter it.")
    if resolution <= 0:
        return void("resolution", "The photometer's resolution is not known.", "instrument", "Enter it.")
    if not all(one.is_final for one in beside_all):
        return no_ambient(protocol)
    lowest = min(sample for one in beside_all for sample in one.samples)
    if lowest <= 0 or lowest < minimum * 1000:
        return void(
            "ambient_low",
            f"The challenge fell to {cut(lowest / 1000)} µg/m³; {whole_or_cut(minimum)} is needed.",
            "instrument limit",
            "Generator, chamber door; wait until steady, repeat.",
        )
    highest = max(sample for one in beside_all for sample in one.samples)
    if book.yes(BY_INSTRUMENT) and maximum is not None and highest > maximum * 1000:
        return void(
            "ambient_high",
            f"The challenge rose to {cut(highest / 1000)} µg/m³; the photometer shows {whole_or_cut(maximum)} at most.",
            "instrument limit",
            "Less aerosol; wait until steady, repeat.",
            keys=(BY_INSTRUMENT,),
        )
    peak = peak_reason(protocol, level_key, signals)
    if peak is not None:
        return RunNumbers("below", reasons=(peak,))
    results: list[ExerciseResult] = []
    notes: list[Reason] = []
    for index, beside in zip(protocol.summed(), beside_all, strict=True):
        slices, name = inside_slices(signals, index), protocol.exercises()[index].name
        inside = inside_signal(slices, how)
        if inside is None:
            return exercise_missing(name, results)
        if (mean_signal(slices) or Fraction(0)) < 0:
            notes.append(
                Reason("negative", f"{name}: the signal went below zero; it counts as 0.", "clamped, flagged", "note")
            )
        outside = beside.value or Fraction(0)
        least = resolution * 1000 / 2
        is_least = inside < least
        factor = outside / (least if is_least else inside)
        results.append(
            ExerciseResult(
                exercise=index,
                outside=outside / 1000,
                inside=inside / 1000,
                factor=factor,
                at_least=is_least,
                counts=None,
                bound=None,
            )
        )
    unsteady = _unsteady(protocol, signals, Fraction(protocol.aerosol.steady))
    if unsteady is not None:
        return void(
            "unsteady",
            f"The challenge was {cut(unsteady * 100)} % away from its mean; it must stay steady.",
            f"within ±{whole_or_cut(Fraction(protocol.aerosol.steady) * 100)} % of its mean, {protocol.aerosol.source}",
            "Generator and fan; wait until the chamber is steady, repeat.",
            results,
        )
    mean = sum((one.inside or Fraction(0) for one in results), Fraction(0)) / len(results)
    is_low = all(one.at_least for one in results) or (near_zero is not None and mean <= near_zero)
    near = max(near_zero or Fraction(0), resolution / 2)
    fallen = dropped(
        book, results, near_zero or Fraction(0), [protocol.exercises()[one.exercise].name for one in results]
    )
    if fallen is not None:
        return fallen
    is_low = is_low or any_near_zero(book, results, near)
    done = conclude(protocol, book, level, results, None, is_low)
    by = Reason("inside_by", f"Inside by {how}.", "aerosol.inside", "note", keys=("aerosol.inside",))
    return RunNumbers(
        state=done.state,
        exercises=done.exercises,
        overall=done.overall,
        at_least=done.at_least,
        bound=None,
        is_marginal=False,
        reasons=(*done.reasons, *notes, by) if done.state != "void" else done.reasons,
    )


def _unsteady(protocol: Protocol, signals: Sequence[SignalWindow], steady: Fraction) -> Fraction | None:
    """Return how far the challenge strayed from its mean, as a share, where that is more than allowed."""
    slices = [each for one in signals if one.use != "inside" for each in one.slices if each.ms >= 1000]
    mean = mean_signal(slices)
    if mean is None or mean <= 0:
        return None
    worst = max(abs(Fraction(one.area, one.ms) - mean) / mean for one in slices)
    return worst if worst > steady else None
