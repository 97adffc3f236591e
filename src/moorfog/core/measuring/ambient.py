"""From numbers to the outcome of one run: measured windows or typed figures in, verdict with reasons out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Literal, TypeVar
from typing import Protocol as Protocol_

from moorfog.core.events.payloads import MeasuredWindow, TypedExercise
from moorfog.core.kernel.arithmetic import concentration, cut, drift, mean_outside, overall, parse_decimal, whole_or_cut
from moorfog.core.measuring.counting import Sample, exercise_bound, overall_bound
from moorfog.core.rules.book import Book, Protocol
from moorfog.core.rules.reason import Reason

NumbersState = Literal["none", "reached", "below", "held", "void", "unfinished"]


NEAR_ZERO = ("near_zero.counts", "near_zero.concentration", "near_zero.clean_air", "proof.rise", "proof.within")
"""What a held verdict rests on."""


@dataclass(frozen=True)
class ExerciseResult:
    """Fit factor of one exercise. ``at_least`` marks a value shown with ≥; ``bound`` is the lower 95 % bound.

    Outside and inside are particles per cm³ on a counter, µg/m³ on a photometer, and ml/min of modelled flow and leak
    in a negative-pressure test, where ``place`` tells the holds of one exercise apart.
    """

    exercise: int
    outside: Fraction | None
    inside: Fraction | None
    factor: Fraction
    at_least: bool
    counts: int | None
    bound: float | None
    place: str = ""


@dataclass(frozen=True)
class RunNumbers:
    """What the numbers of one run say, before the questions at the end are answered."""

    state: NumbersState
    exercises: tuple[ExerciseResult, ...] = ()
    overall: Fraction | None = None
    at_least: bool = False
    bound: float | None = None
    is_marginal: bool = False
    reasons: tuple[Reason, ...] = ()


def void(
    code: str, sentence: str, rule: str, remedy: str, results: Sequence[ExerciseResult] = (), keys: tuple[str, ...] = ()
) -> RunNumbers:
    """Return the numbers of a run that shows nothing, with why; ``keys``: the rules that says so."""
    return RunNumbers(
        "void",
        tuple(results),
        reasons=(Reason(code=code, sentence=sentence, rule=rule, gravity="put_right", remedy=remedy, keys=keys),),
    )


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


def exercise_missing(name: str, results: Sequence[ExerciseResult] = ()) -> RunNumbers:
    """Return what a run comes to that lacks an exercise."""
    return void(
        "exercise_missing",
        f"{name}: nothing was read inside.",
        "a missing exercise means no verdict",
        "Repeat the run from the start.",
        results,
    )


def measure_windows(
    protocol: Protocol,
    book: Book,
    level: Fraction,
    windows: Sequence[MeasuredWindow],
    ambient_minimum: Fraction,
    cap: Fraction | None,
    near_zero: Fraction | None = None,
) -> RunNumbers:
    """Judge a run read from a counter: counts and volumes per window. Outside figures in particles per cm³.

    ``near_zero``: the mean inside figure up to which the verdict is held, None where only the book's own figures count.
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
    return conclude(protocol, book, level, results, overall_bound(samples), is_near_zero)


def measure_typed(
    protocol: Protocol,
    book: Book,
    level: Fraction,
    typed: Sequence[TypedExercise],
    resolution: str,
    ambient_minimum: Fraction,
    cap: Fraction | None,
    near_zero: Fraction | None = None,
) -> RunNumbers:
    """Judge figures copied from a display: outside and inside per exercise.

    A displayed zero stands for anything below half a step of the display, so its factor is outside ÷ half a step,
    shown with ≥; without counts there is no Poisson bound. What figures on a display cannot show, peaks, how steady a
    chamber was, how a breath was held, leaves the run unfinished; so do fit factors without their outside.
    """
    if len(typed) != protocol.n:
        return void(
            "exercise_missing",
            f"{len(typed)} of {protocol.n} exercises have numbers.",
            "a missing exercise means no verdict",
            "Repeat the run from the start.",
        )
    is_judged_whole = book.yes("readings.strict") is True
    if is_judged_whole and not protocol.is_counted:
        return _not_shown("A display shows neither peaks nor pressures", "read by its link, or bring its file")
    results: list[ExerciseResult] = []
    zeros = 0
    outsides: list[Fraction] = []
    for measurement, row in zip(protocol.measurements(), typed, strict=True):
        index, name = measurement.exercise, measurement.name
        if row.factor is not None:
            factor = parse_decimal(row.factor, f"{name}, fit factor")
            if factor <= 0:
                return void(
                    "not_positive",
                    f"{name}: a fit factor of {row.factor} is impossible.",
                    "arithmetic",
                    "Check what the counter shows.",
                    results,
                )
            capped = cap is not None and factor > cap
            results.append(
                ExerciseResult(
                    exercise=index,
                    outside=None,
                    inside=None,
                    factor=cap if capped and cap is not None else factor,
                    at_least=capped,
                    counts=None,
                    bound=None,
                    place=measurement.place,
                )
            )
            continue
        outside = parse_decimal(row.outside or "", f"{name}, outside")
        outsides.append(outside)
        inside = parse_decimal(row.inside or "", f"{name}, inside")
        if outside <= 0 or outside < ambient_minimum:
            return void(
                "ambient_low",
                f"{name}: outside {row.outside} per cm³ is below the instrument's minimum "
                f"of {whole_or_cut(ambient_minimum)}.",
                "instrument limit",
                "Raise the ambient count, wait until steady, repeat.",
                results,
            )
        at_least = inside <= 0
        zeros += at_least
        used = parse_decimal(resolution, "display resolution") / 2 if at_least else inside
        factor = outside / used
        capped = cap is not None and factor > cap
        results.append(
            ExerciseResult(
                exercise=index,
                outside=outside,
                inside=inside,
                factor=cap if capped and cap is not None else factor,
                at_least=at_least or capped,
                counts=None,
                bound=None,
            )
        )
    if is_judged_whole:
        if len(outsides) < len(results):
            return _not_shown("Fit factors alone do not show the air outside", "type outside and inside", results)
        apart = drift(min(outsides), max(outsides))
        if apart > book.number("drift.maximum"):
            return drifted(book, min(outsides), max(outsides), results)
    insides = [one.inside for one in results if one.inside is not None]
    is_low = near_zero is not None and bool(insides) and sum(insides, Fraction(0)) / len(insides) <= near_zero
    return conclude(protocol, book, level, results, None, is_near_zero=zeros == len(typed) or is_low)


def _not_shown(what: str, remedy: str, results: Sequence[ExerciseResult] = ()) -> RunNumbers:
    """Return what figures come to that cannot show what the rules ask for."""
    rule, again = "what a source cannot show is unknown", f"Run again: {remedy}."
    why = Reason(
        code="not_shown",
        sentence=f"{what}: no verdict.",
        rule=rule,
        gravity="put_right",
        remedy=again,
        keys=("readings.strict",),
    )
    return RunNumbers("unfinished", tuple(results), reasons=(why,))


def drifted(book: Book, low: Fraction, high: Fraction, results: Sequence[ExerciseResult]) -> RunNumbers:
    """Return what a run comes to in which the air outside was too unsteady to compare with."""
    return void(
        "drift",
        f"Outside went from {cut(low)} to {cut(high)} per cm³: too unsteady to compare with.",
        f"drift at most {whole_or_cut(book.number('drift.maximum') * 100)} % of the mean, common practice",
        "Close doors, stop what makes dust, wait until steady, repeat.",
        results,
        ("drift.maximum",),
    )


def name_of(protocol: Protocol, one: ExerciseResult) -> str:
    """Return the name of an exercise, with the place where it has more than one hold."""
    name = protocol.exercises()[one.exercise].name
    return f"{name}, {one.place}" if one.place else name


def conclude(
    protocol: Protocol,
    book: Book,
    level: Fraction,
    results: Sequence[ExerciseResult],
    bound: float | None,
    is_near_zero: bool,
) -> RunNumbers:
    """Return what the fit factors of a run come to: void where they cannot be, below, held, or reached.

    Raises ``ValueError`` unless there is one for every value of the protocol's sum.
    """
    factors = [one.factor for one in results]
    total = overall(factors, protocol.n)
    at_least = any(one.at_least for one in results)
    swapped = [
        one for one in results if one.outside is not None and one.inside is not None and one.inside >= one.outside
    ]
    suspect = book.number("ff.suspect")
    if swapped or min(factors) < suspect:
        is_flow = protocol.family == "pressure"
        return void(
            "hoses_first",
            "It leaks as if it were not on: check manifold, valves and donning before calling it a leak."
            if is_flow
            else "Inside is as high as outside: check hoses, probe and donning before calling it a leak.",
            f"fit factor below {cut(suspect)}, common practice",
            "Manifold tight? Inhalation valves propped open? Facepiece on? Then repeat."
            if is_flow
            else "Hoses the right way round? Probe in? Facepiece on? Then repeat.",
            results,
            ("ff.suspect",),
        )
    per_exercise = book.text("judged_by") == "every_exercise"
    reached = all(one >= level for one in factors) if per_exercise else total >= level
    rule = f"{book.title}: level {whole_or_cut(level)}, " + ("every exercise" if per_exercise else "overall")
    if not reached:
        worst = min(results, key=lambda one: one.factor)
        what = f"Overall {cut(total)} is below {whole_or_cut(level)}."
        if per_exercise:
            under = sum(1 for one in factors if one < level)
            what = f"{name_of(protocol, worst)}: {cut(worst.factor)} is below {whole_or_cut(level)}"
            what += f", and {under - 1} more." if under > 1 else "."
        return RunNumbers(
            state="below",
            exercises=tuple(results),
            overall=total,
            at_least=at_least,
            bound=bound,
            is_marginal=False,
            reasons=(
                Reason(
                    code="below_level",
                    sentence=f"{what} It leaked most in: {name_of(protocol, worst).lower()}.",
                    rule=rule,
                    gravity="stop",
                    remedy=f"Look at {protocol.exercises()[worst.exercise].look_at}. "
                    "Reseat and try again, or another size.",
                    keys=("judged_by",),
                ),
            ),
        )
    bounds = [one.bound for one in results if one.bound is not None] if per_exercise else []
    least_bound = min([*bounds, *([bound] if bound is not None else [])], default=None)
    marginal = least_bound is not None and least_bound < level
    notes: list[Reason] = []
    if marginal and least_bound is not None:
        notes.append(
            Reason(
                code="marginal",
                sentence=f"Reached, but by few counts: counting alone allows {cut(Fraction(least_bound))}.",
                rule="one-sided 95 % bound",
                gravity="note",
                remedy="Think of repeating it, or of the next size.",
            )
        )
    if is_near_zero:
        notes.append(
            Reason(
                code="near_zero",
                sentence="No leak at all was read, all the way through: that may be a blocked line."
                if protocol.family == "pressure"
                else "Almost nothing was read inside, all the way through: that may be a blocked line.",
                rule="held until a deliberate seal break makes the inside rise, common practice",
                gravity="put_right",
                remedy="Break the seal on purpose and watch the number change.",
                keys=NEAR_ZERO,
            )
        )
        return RunNumbers(
            state="held",
            exercises=tuple(results),
            overall=total,
            at_least=at_least,
            bound=bound,
            is_marginal=marginal,
            reasons=tuple(notes),
        )
    notes.append(
        Reason(
            "level_reached",
            f"Overall {'≥ ' if at_least else ''}{cut(total)}, level {whole_or_cut(level)} reached.",
            rule,
            "note",
            keys=("judged_by",),
        )
    )
    return RunNumbers(
        state="reached",
        exercises=tuple(results),
        overall=total,
        at_least=at_least,
        bound=bound,
        is_marginal=marginal,
        reasons=tuple(notes),
    )
