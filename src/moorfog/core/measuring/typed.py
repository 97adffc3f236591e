"""Figures copied from a display: what they show, and what they cannot."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

from moorfog.core.events.payloads import TypedExercise
from moorfog.core.kernel.arithmetic import drift, parse_decimal, whole_or_cut
from moorfog.core.measuring.ambient import BY_INSTRUMENT, ambient_high, crowded
from moorfog.core.measuring.near_zero import any_near_zero, dropped
from moorfog.core.measuring.results import ExerciseResult, RunNumbers, conclude, drifted, void
from moorfog.core.rules.book import Book, Protocol
from moorfog.core.rules.reason import Reason


def measure_typed(
    protocol: Protocol,
    book: Book,
    level: Fraction,
    typed: Sequence[TypedExercise],
    resolution: str,
    ambient_minimum: Fraction,
    cap: Fraction | None,
    near_zero: Fraction | None = None,
    instrument: Shown | None = None,
) -> RunNumbers:
    """Judge figures copied from a display: outside and inside per exercise.

    A displayed zero stands for anything below half a step of the display, so its factor is outside ÷ half a step,
    shown with ≥; without counts there is no Poisson bound. What figures on a display cannot show, peaks, how steady a
    chamber was, how a breath was held, leaves the run unfinished; so do fit factors without their outside.
    ``instrument``: one step of its display and the most outside it counts right, where the book has it say so; what is
    typed finer than its half step is its half step.
    """
    if book.yes(BY_INSTRUMENT) is not True:
        instrument = None
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
        if instrument is not None and instrument.maximum is not None and outside > instrument.maximum:
            return ambient_high(outside, instrument.maximum)
        step = instrument.step if instrument is not None else parse_decimal(resolution, "display resolution")
        at_least = inside <= 0 if instrument is None else inside < step / 2
        zeros += at_least
        used = step / 2 if at_least else inside
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
    near = max(near_zero or Fraction(0), instrument.step / 2 if instrument is not None else Fraction(0))
    fallen = dropped(book, results, near, [one.name for one in protocol.measurements()])
    if fallen is not None:
        return fallen
    is_low = near_zero is not None and bool(insides) and sum(insides, Fraction(0)) / len(insides) <= near_zero
    is_low = is_low or any_near_zero(book, results, near)
    done = conclude(protocol, book, level, results, None, is_near_zero=zeros == len(typed) or is_low)
    return crowded(book, done, max(outsides, default=Fraction(0)))


@dataclass(frozen=True)
class Shown:
    """What an instrument can show: one step of its display, and the most outside it counts right (None: unknown)."""

    step: Fraction
    maximum: Fraction | None


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
