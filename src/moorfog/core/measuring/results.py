"""What the numbers of a run come to: void, below the level, held, or reached, with why."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Literal

from moorfog.core.kernel.arithmetic import cut, overall, whole_or_cut
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


def exercise_missing(name: str, results: Sequence[ExerciseResult] = ()) -> RunNumbers:
    """Return what a run comes to that lacks an exercise."""
    return void(
        "exercise_missing",
        f"{name}: nothing was read inside.",
        "a missing exercise means no verdict",
        "Repeat the run from the start.",
        results,
    )


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
                    sentence=f"{what} Worst exercise: {name_of(protocol, worst).lower()}.",
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
