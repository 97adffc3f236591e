"""Controlled negative pressure: breath holds in, fit factors out.

The facepiece is held at a slight negative pressure while the breath is held; the air that must be drawn to keep it is
the leak. Fit factor = modelled flow ÷ leak. Source: 29 CFR 1910.134 App. A Part I.C.6 and C.7 (recalled).
"""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction

from moorfog.core.events.measured import Hold
from moorfog.core.kernel.arithmetic import cut, overall, whole_or_cut
from moorfog.core.kernel.replacing import replace
from moorfog.core.measuring.near_zero import dropped, is_each_looked_at
from moorfog.core.measuring.results import ExerciseResult, RunNumbers, conclude, exercise_missing, void
from moorfog.core.rules.book import Book
from moorfog.core.rules.protocols import Protocol
from moorfog.core.rules.reason import Reason


def modelled_flow(protocol: Protocol) -> Fraction:
    """Return the flow the protocol models, in ml/min. Raises ``ValueError`` for a protocol without one."""
    if protocol.negative_pressure is None:
        raise ValueError(f"{protocol.id} models no flow")
    return Fraction(protocol.negative_pressure.flow) * 1000


def leak(hold: Hold) -> Fraction:
    """Return the mean leak of a breath hold in ml/min, clamped to 0 or more; the hold must have lasted."""
    return max(Fraction(hold.area, hold.ms) / 1000, Fraction(0))


def hold_factor(flow: Fraction, leaked: Fraction, resolution: Fraction) -> tuple[Fraction, bool]:
    """Return flow ÷ leak, and whether it is shown with ≥: a leak at or under the resolution counts as the resolution.

    Flow, leak and resolution in ml/min, flow and resolution above 0. 53,800 ÷ 538 is 100, 53,800 ÷ 107.6 is 500.
    """
    is_least = leaked <= resolution
    return flow / (resolution if is_least else leaked), is_least


def measure_holds(
    protocol: Protocol, book: Book, level: Fraction, holds: Sequence[Hold], resolution: Fraction
) -> RunNumbers:
    """Judge a negative-pressure run. ``resolution`` is one step of the leak reading in l/min."""
    if resolution <= 0 or protocol.negative_pressure is None:
        return void("resolution", "The resolution of the leak is not known.", "instrument", "Enter it on the Kit page.")
    flow, step = modelled_flow(protocol), resolution * 1000
    results: list[ExerciseResult] = []
    for wanted in protocol.measurements():
        found = next((one for one in holds if (one.exercise, one.place) == (wanted.exercise, wanted.place)), None)
        if found is None or found.ms <= 0:
            return exercise_missing(wanted.name, results)
        leaked = leak(found)
        factor, is_least = hold_factor(flow, leaked, step)
        results.append(
            ExerciseResult(
                exercise=wanted.exercise,
                outside=flow,
                inside=leaked,
                factor=factor,
                at_least=is_least,
                counts=None,
                bound=None,
                place=wanted.place,
            )
        )
    fallen = dropped(book, results, step, [wanted.name for wanted in protocol.measurements()])
    if fallen is not None:
        return fallen
    is_none = any(one.at_least for one in results) if is_each_looked_at(book) else all(one.at_least for one in results)
    done = conclude(protocol, book, level, results, None, is_none)
    if not protocol.negative_pressure.pairs or done.state not in ("reached", "held"):
        return done
    paired = paired_overall(results)
    if paired < level:
        return RunNumbers(
            "below",
            done.exercises,
            done.overall,
            done.at_least,
            reasons=(
                Reason(
                    code="pairs",
                    sentence=f"With the holds of an exercise averaged it is {cut(paired)}, "
                    f"below {whole_or_cut(level)}.",
                    rule="both ways of counting the holds must reach the level; contested how many there are",
                    gravity="stop",
                    remedy="Reseat and try again, or another size.",
                ),
            ),
        )
    note = Reason("pairs", f"With the holds of an exercise averaged: {cut(paired)}.", "both must reach", "note")
    return replace(done, reasons=(*done.reasons, note))


def paired_overall(results: Sequence[ExerciseResult]) -> Fraction:
    """Return the overall fit factor with the holds of one exercise averaged: their leaks weigh the same."""
    by_exercise: dict[int, list[Fraction]] = {}
    for one in results:
        by_exercise.setdefault(one.exercise, []).append(1 / one.factor)
    means = [len(each) / sum(each, Fraction(0)) for each in by_exercise.values()]
    return overall(means, len(means))
