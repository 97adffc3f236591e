"""From numbers to the outcome of one run: measured windows or typed figures in, verdict with reasons out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Protocol as Protocol_
from typing import TypeVar

from moorfog.core.events.payloads import MeasuredWindow
from moorfog.core.kernel.arithmetic import concentration, cut, drift, mean_outside, whole_or_cut
from moorfog.core.measuring.counting import Sample, exercise_bound, overall_bound
from moorfog.core.measuring.near_zero import any_near_zero, dropped
from moorfog.core.measuring.results import ExerciseResult, RunNumbers, conclude, drifted, exercise_missing, void
from moorfog.core.rules.book import Book, Protocol
from moorfog.core.rules.reason import Reason


def _sum_up(counts_volume: Sequence[MeasuredWindow]) -> tuple[int, int]:
    return sum(one.counts for one in counts_volume), sum(one.volume_nl for one in counts_volume)


class Sampled(Protocol_):
    """A window of readings, of a counter or a photometer."""

    @property
    def exercise(self) -> int:
        """Place of its exercise in the protocol."""

    @property
    def use(self) -> str:
        """Outside or inside."""


W = TypeVar("W", bound=Sampled)


def stretches_outside(windows: Sequence[W]) -> list[list[W]]:
    """Return the stretches outside in order; two are told apart by their exercise, and by inside between them."""
    out: list[list[W]] = []
    was_outside = False
    for one in windows:
        if one.use == "outside":
            if was_outside and out[-1][-1].exercise == one.exercise:
                out[-1].append(one)
            else:
                out.append([one])
        was_outside = one.use == "outside"
    return out


def ambient_samples(windows: Sequence[MeasuredWindow]) -> tuple[Fraction | None, ...]:
    """Return the outside concentrations in order, one for each stretch outside; None for one without volume."""
    sums = (_sum_up(stretch) for stretch in stretches_outside(windows))
    return tuple(concentration(counts, volume) if volume > 0 else None for counts, volume in sums)


@dataclass(frozen=True)
class Outside:
    """What an exercise is compared with: the outside figure known so far, and whether it is the final one.

    ``samples`` are the ambient samples it is made of.
    """

    value: Fraction | None
    is_final: bool
    samples: tuple[Fraction, ...]


def outside_of(protocol: Protocol, windows: Sequence[MeasuredWindow]) -> tuple[Outside, ...]:
    """Return what each exercise of the sum is compared with, in order, from a counter's windows."""
    return pair_samples(protocol, ambient_samples(windows))


def pair_samples(protocol: Protocol, found: tuple[Fraction | None, ...]) -> tuple[Outside, ...]:
    """Return what each exercise of the sum is compared with, in order, from the ambient samples so far.

    Fast protocols: the mean of the first and the last sample for all. Full ones: the mean of the samples before and
    after the exercise. Source: 29 CFR 1910.134 App. A Part I.C.3 to C.5 (recalled).
    """
    if protocol.outside != "mean_of_neighbours":
        pair = found[:1] + (found[-1:] if len(found) > 1 else ())
        return (_mean(pair, 2),) * protocol.n
    return tuple(_mean(found[number : number + 2], 2) for number in range(protocol.n))


def _mean(samples: Sequence[Fraction | None], wanted: int) -> Outside:
    known = tuple(one for one in samples if one is not None)
    if not known:
        return Outside(None, False, ())
    is_final = len(known) == wanted
    return Outside(mean_outside(known[0], known[-1]) if is_final else known[0], is_final, known)


def no_ambient(protocol: Protocol) -> RunNumbers:
    """Return what a run comes to whose ambient samples are not all there."""
    rules = {
        "mean_of_neighbours": "each exercise uses the samples before and after it",
        "continuous": "each exercise uses the chamber's own reading during it",
    }
    return void(
        "no_last_ambient",
        "An ambient sample is missing: without it there is no verdict.",
        "protocol: " + rules.get(protocol.outside, "outside is the mean of the first and the last sample"),
        "Repeat the run from the start.",
    )


def measure_windows(
    protocol: Protocol,
    book: Book,
    level: Fraction,
    windows: Sequence[MeasuredWindow],
    ambient_minimum: Fraction,
    cap: Fraction | None,
    near_zero: Fraction | None = None,
    ambient_maximum: Fraction | None = None,
) -> RunNumbers:
    """Judge a run read from a counter: counts and volumes per window. Outside figures in particles per cm³.

    ``near_zero``: the inside figure up to which the verdict is held, None where only the book's own figures count.
    ``ambient_maximum``: up to where the instrument counts right, None where that is not known.
    """
    outsides = outside_of(protocol, windows)
    if not all(one.is_final for one in outsides):
        return no_ambient(protocol)
    lowest = min(sample for one in outsides for sample in one.samples)
    if lowest < ambient_minimum or lowest <= 0:
        return void(
            "ambient_low",
            f"Outside fell to {cut(lowest)} per cm³; the instrument needs {whole_or_cut(ambient_minimum)}.",
            "instrument limit",
            "Raise the ambient count (generator, open door), wait until steady, repeat.",
        )
    highest = max(sample for one in outsides for sample in one.samples)
    if book.yes(BY_INSTRUMENT) and ambient_maximum is not None and highest > ambient_maximum:
        return ambient_high(highest, ambient_maximum)
    results: list[ExerciseResult] = []
    samples: list[Sample] = []
    exercises = protocol.exercises()
    for index, beside in zip(protocol.summed(), outsides, strict=True):
        outside = beside.value or Fraction(0)
        inside = [one for one in windows if one.use == "inside" and one.exercise == index]
        counts, volume = _sum_up(inside)
        if volume <= 0:
            return exercise_missing(exercises[index].name, results)
        inside_mean = concentration(counts, volume)
        shown = inside_mean if counts > 0 else concentration(1, volume)
        sample = Sample(max(counts, 0), float(outside), volume / 1e6)
        samples.append(sample)
        factor = outside / shown
        capped = cap is not None and factor > cap
        results.append(
            ExerciseResult(
                exercise=index,
                outside=outside,
                inside=inside_mean,
                factor=cap if capped and cap is not None else factor,
                at_least=counts == 0 or capped,
                counts=counts,
                bound=exercise_bound(sample),
            )
        )
    over = max(outsides, key=lambda one: drift(one.samples[0], one.samples[-1])).samples
    if drift(over[0], over[-1]) > book.number("drift.maximum"):
        return drifted(book, over[0], over[-1], results)
    total = sum(one.counts or 0 for one in results)
    volume = sum(one.volume_nl for one in windows if one.use == "inside")
    least = max((one for one in (book.ratio("near_zero.concentration"), near_zero) if one is not None), default=None)
    is_near_zero = total <= book.number("near_zero.counts")
    if least is not None:
        is_near_zero = is_near_zero or concentration(total, volume) <= least
    void_drop = dropped(book, results, least or Fraction(0), [exercises[one.exercise].name for one in results])
    if void_drop is not None:
        return void_drop
    is_near_zero = is_near_zero or any_near_zero(book, results, least or Fraction(0))
    done = conclude(protocol, book, level, results, overall_bound(samples), is_near_zero)
    return crowded(book, done, highest)


BY_INSTRUMENT = "readings.by_instrument"
"""Whether a book has the instrument say what it can show, and nobody who types."""


def ambient_high(highest: Fraction, maximum: Fraction) -> RunNumbers:
    """Return what a run comes to in more particles than its instrument can tell apart."""
    return void(
        "ambient_high",
        f"Outside rose to {cut(highest)} per cm³; this instrument counts right up to {whole_or_cut(maximum)} only.",
        "instrument limit: beyond it particles coincide and are counted as one",
        "Stop what makes dust, air the room, wait until steady, repeat.",
        keys=(BY_INSTRUMENT,),
    )


def crowded(book: Book, done: RunNumbers, highest: Fraction) -> RunNumbers:
    """Return what a run came to, with a word where there was more in the air than is usual; it turns no verdict."""
    usual = book.ratio("ambient.usual")
    if usual is None or highest <= usual:
        return done
    words = f"Outside rose to {cut(highest)} per cm³, above the usual {whole_or_cut(usual)}: counts begin to coincide."
    note = Reason("ambient_usual", words, "common practice", "note", keys=("ambient.usual",))
    return replace(done, reasons=(*done.reasons, note))
