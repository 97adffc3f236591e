"""From numbers to the outcome of one run: measured windows or typed figures in, verdict with reasons out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Literal

from moorfog.core.arithmetic import concentration, cut, drift, mean_outside, overall, parse_decimal, whole_or_cut
from moorfog.core.counting import Sample, exercise_bound, overall_bound
from moorfog.core.events import MeasuredWindow, TypedExercise
from moorfog.core.rules import Book, Protocol

NumbersState = Literal["none", "reached", "below", "held", "void", "unfinished"]


@dataclass(frozen=True)
class Reason:
    """Why something is as it is: a stable code, a sentence a tester could say, the rule, what to do."""

    code: str
    sentence: str
    rule: str
    gravity: Literal["stop", "put_right", "note"]
    remedy: str = ""


@dataclass(frozen=True)
class ExerciseResult:
    """Fit factor of one exercise. ``at_least`` marks a value shown with ≥; ``bound`` is the lower 95 % bound."""

    exercise: int
    outside: Fraction | None
    inside: Fraction | None
    factor: Fraction
    at_least: bool
    counts: int | None
    bound: float | None


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


def _void(code: str, sentence: str, rule: str, remedy: str, results: Sequence[ExerciseResult] = ()) -> RunNumbers:
    return RunNumbers("void", tuple(results), reasons=(Reason(code, sentence, rule, "put_right", remedy),))


def _sum_up(counts_volume: Sequence[MeasuredWindow]) -> tuple[int, int]:
    return sum(one.counts for one in counts_volume), sum(one.volume_nl for one in counts_volume)


def ambient_samples(windows: Sequence[MeasuredWindow]) -> tuple[Fraction | None, Fraction | None]:
    """Return first and last outside concentration; None where a sample is missing or empty."""
    outside = [one for one in windows if one.use == "outside"]
    if not outside:
        return None, None
    first_exercise, last_exercise = outside[0].exercise, outside[-1].exercise
    first_counts, first_volume = _sum_up([one for one in outside if one.exercise == first_exercise])
    first = concentration(first_counts, first_volume) if first_volume > 0 else None
    if last_exercise == first_exercise:
        return first, None
    last_counts, last_volume = _sum_up([one for one in outside if one.exercise == last_exercise])
    return first, concentration(last_counts, last_volume) if last_volume > 0 else None


def measure_windows(
    protocol: Protocol,
    book: Book,
    level: Fraction,
    windows: Sequence[MeasuredWindow],
    ambient_minimum: Fraction,
    cap: Fraction | None,
) -> RunNumbers:
    """Judge a run read from a counter: counts and volumes per window. Outside figures in particles per cm³."""
    first, last = ambient_samples(windows)
    if first is None or last is None:
        return _void(
            "no_last_ambient",
            "An ambient sample is missing: without it there is no verdict.",
            "protocol: outside is the mean of the first and the last sample",
            "Repeat the run from the start.",
        )
    if min(first, last) < ambient_minimum or min(first, last) <= 0:
        return _void(
            "ambient_low",
            f"Outside fell to {cut(min(first, last))} per cm³; the instrument needs {whole_or_cut(ambient_minimum)}.",
            "instrument limit",
            "Raise the ambient count (generator, open door), wait until steady, repeat.",
        )
    results: list[ExerciseResult] = []
    outside = mean_outside(first, last)
    samples: list[Sample] = []
    for index in range(protocol.n):
        inside = [one for one in windows if one.use == "inside" and one.exercise == index]
        counts, volume = _sum_up(inside)
        if volume <= 0:
            return _void(
                "exercise_missing",
                f"{protocol.exercise[index].name}: nothing was sampled inside.",
                "a missing exercise means no verdict",
                "Repeat the run from the start.",
                results,
            )
        shown = concentration(max(counts, 1), volume)
        sample = Sample(max(counts, 0), float(outside), volume / 1e6)
        samples.append(sample)
        factor = outside / shown
        capped = cap is not None and factor > cap
        results.append(
            ExerciseResult(
                index,
                outside,
                concentration(counts, volume),
                cap if capped and cap is not None else factor,
                counts == 0 or capped,
                counts,
                exercise_bound(sample),
            )
        )
    over = drift(first, last)
    if over > book.number("drift.maximum"):
        return _void(
            "drift",
            f"Outside went from {cut(first)} to {cut(last)} per cm³: too unsteady to compare with.",
            f"drift at most {whole_or_cut(book.number('drift.maximum') * 100)} % of the mean, common practice",
            "Close doors, stop what makes dust, wait until steady, repeat.",
            results,
        )
    total = sum(one.counts or 0 for one in results)
    is_near_zero = total <= book.number("near_zero.counts")
    return _conclude(protocol, book, level, results, overall_bound(samples), is_near_zero)


def measure_typed(
    protocol: Protocol,
    book: Book,
    level: Fraction,
    typed: Sequence[TypedExercise],
    resolution: str,
    ambient_minimum: Fraction,
    cap: Fraction | None,
) -> RunNumbers:
    """Judge figures copied from a display: outside and inside per exercise, or fit factors only.

    A displayed zero stands for anything below half a step of the display, so its factor is outside ÷ half a step,
    shown with ≥; without counts there is no Poisson bound.
    """
    if len(typed) != protocol.n:
        return _void(
            "exercise_missing",
            f"{len(typed)} of {protocol.n} exercises have numbers.",
            "a missing exercise means no verdict",
            "Repeat the run from the start.",
        )
    results: list[ExerciseResult] = []
    zeros = 0
    for index, row in enumerate(typed):
        name = protocol.exercise[index].name
        if row.factor is not None:
            factor = parse_decimal(row.factor, f"{name}, fit factor")
            if factor <= 0:
                return _void(
                    "not_positive",
                    f"{name}: a fit factor of {row.factor} is impossible.",
                    "arithmetic",
                    "Check what the counter shows.",
                    results,
                )
            capped = cap is not None and factor > cap
            results.append(
                ExerciseResult(index, None, None, cap if capped and cap is not None else factor, capped, None, None)
            )
            continue
        outside = parse_decimal(row.outside or "", f"{name}, outside")
        inside = parse_decimal(row.inside or "", f"{name}, inside")
        if outside <= 0 or outside < ambient_minimum:
            return _void(
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
                index, outside, inside, cap if capped and cap is not None else factor, at_least or capped, None, None
            )
        )
    return _conclude(protocol, book, level, results, None, is_near_zero=zeros == len(typed))


def _conclude(
    protocol: Protocol,
    book: Book,
    level: Fraction,
    results: Sequence[ExerciseResult],
    bound: float | None,
    is_near_zero: bool,
) -> RunNumbers:
    factors = [one.factor for one in results]
    total = overall(factors, protocol.n)
    at_least = any(one.at_least for one in results)
    swapped = [
        one for one in results if one.outside is not None and one.inside is not None and one.inside >= one.outside
    ]
    suspect = book.number("ff.suspect")
    if swapped or min(factors) < suspect:
        return _void(
            "hoses_first",
            "Inside is as high as outside: check hoses, probe and donning before calling it a leak.",
            f"fit factor below {cut(suspect)}, common practice",
            "Hoses the right way round? Probe in? Facepiece on? Then repeat.",
            results,
        )
    per_exercise = book.text("judged_by") == "every_exercise"
    reached = all(one >= level for one in factors) if per_exercise else total >= level
    rule = f"{book.title}: level {whole_or_cut(level)}, " + ("every exercise" if per_exercise else "overall")
    if not reached:
        worst = min(results, key=lambda one: one.factor)
        return RunNumbers(
            "below",
            tuple(results),
            total,
            at_least,
            bound,
            False,
            (
                Reason(
                    "below_level",
                    f"Overall {cut(total)} is below {whole_or_cut(level)}. "
                    f"It leaked most in: {protocol.exercise[worst.exercise].name.lower()}.",
                    rule,
                    "stop",
                    f"Look at {protocol.exercise[worst.exercise].look_at}. Reseat and try again, or another size.",
                ),
            ),
        )
    marginal = bound is not None and bound < level
    notes: list[Reason] = []
    if marginal and bound is not None:
        notes.append(
            Reason(
                "marginal",
                f"Reached, but by few counts: counting alone allows {cut(Fraction(bound))}.",
                "one-sided 95 % bound",
                "note",
                "Think of repeating it, or of the next size.",
            )
        )
    if is_near_zero:
        notes.append(
            Reason(
                "near_zero",
                "Almost nothing was counted inside, all the way through: that may be a blocked line.",
                "held until a deliberate seal break makes the inside rise, common practice",
                "put_right",
                "Break the seal on purpose and watch the number rise.",
            )
        )
        return RunNumbers("held", tuple(results), total, at_least, bound, marginal, tuple(notes))
    notes.append(
        Reason(
            "level_reached",
            f"Overall {'≥ ' if at_least else ''}{cut(total)}, level {whole_or_cut(level)} reached.",
            rule,
            "note",
        )
    )
    return RunNumbers("reached", tuple(results), total, at_least, bound, marginal, tuple(notes))
