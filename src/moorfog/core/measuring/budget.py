"""The leak budget while a run goes on, and what a run stopped early comes to. One rule for every instrument."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

from moorfog.core.events.measured import Hold, MeasuredWindow, SignalWindow
from moorfog.core.kernel.arithmetic import Budget, cut, leak_budget, whole_or_cut
from moorfog.core.measuring import negative_pressure, photometer
from moorfog.core.measuring.ambient import Outside, outside_of
from moorfog.core.measuring.results import RunNumbers
from moorfog.core.rules.book import Book
from moorfog.core.rules.protocols import Protocol
from moorfog.core.rules.reason import Reason


@dataclass(frozen=True)
class Share:
    """Inside ÷ outside of a value begun, and whether its outside figure is settled."""

    exercise: int
    share: Fraction
    is_final: bool


def count_shares(protocol: Protocol, windows: Sequence[MeasuredWindow], outsides: Sequence[Outside]) -> list[Share]:
    """Return inside ÷ outside per exercise begun, over the full planned volume, so that it only grows."""
    out: list[Share] = []
    for index, beside in zip(protocol.summed(), outsides, strict=True):
        inside = [one for one in windows if one.exercise == index and one.use == "inside"]
        counts, volume = sum(one.counts for one in inside), sum(one.volume_nl for one in inside)
        ms = sum(one.ms for one in inside)
        if ms <= 0 or volume <= 0 or beside.value is None or beside.value <= 0:
            continue
        planned_ms = photometer.planned_ms(protocol, index)
        planned = Fraction(volume * max(planned_ms, ms), ms)
        out.append(Share(index, Fraction(counts * 1_000_000) / planned / beside.value, beside.is_final))
    return out


def signal_shares(protocol: Protocol, book: Book, signals: Sequence[SignalWindow]) -> list[Share]:
    """Return inside ÷ outside per exercise begun, as the book finds the inside figure, over the planned breaths."""
    how, out = book.text("aerosol.inside"), []
    breath_ms = protocol.aerosol.breath_s * 1000 if protocol.aerosol is not None else 1000
    for index, beside in zip(protocol.summed(), photometer.outsides(protocol, signals), strict=True):
        slices = photometer.inside_slices(signals, index)
        inside = photometer.inside_signal(slices, how) if slices and how in photometer.INSIDE_BY else None
        if inside is None or beside.value is None or beside.value <= 0:
            continue
        planned_ms = photometer.planned_ms(protocol, index)
        if how == "integrated area":
            inside *= Fraction(sum(one.ms for one in slices), planned_ms)
        elif how == "average of peaks":
            inside *= Fraction(len(slices), max(len(slices), -(-planned_ms // breath_ms)))
        out.append(Share(index, inside / beside.value, beside.is_final))
    return out


def hold_shares(protocol: Protocol, holds: Sequence[Hold]) -> list[Share]:
    """Return leak ÷ modelled flow per hold begun, over the planned seconds."""
    planned = {(one.exercise, one.place): one.end_ms - one.start_ms for one in protocol.windows() if one.use == "hold"}
    flow, out = negative_pressure.modelled_flow(protocol), []
    for one in holds:
        whole = max(planned.get((one.exercise, one.place), one.ms), one.ms)
        if one.ms > 0:
            out.append(Share(one.exercise, negative_pressure.leak(one) * Fraction(one.ms, whole) / flow, True))
    return out


@dataclass(frozen=True)
class Spent:
    """The leak budget so far: shares of it, by exercise, and whether a pass is unlikely or lost."""

    by_exercise: dict[int, Fraction]
    budget: Budget


def shares_of(
    protocol: Protocol,
    book: Book,
    windows: Sequence[MeasuredWindow],
    signals: Sequence[SignalWindow],
    holds: Sequence[Hold],
) -> list[Share]:
    """Return inside ÷ outside of every value begun, from whatever the instrument reads."""
    if protocol.family == "photometer":
        return signal_shares(protocol, book, signals)
    if protocol.family == "pressure":
        return hold_shares(protocol, holds)
    return count_shares(protocol, windows, outside_of(protocol, windows))


def spend(protocol: Protocol, book: Book, level: Fraction, begun: Sequence[Share]) -> Spent:
    """Return what is spent of the leak budget N ÷ level.

    Where every exercise is judged by itself, one that can no longer reach the level loses the run.
    """
    moves = book.number("drift.maximum")
    if protocol.aerosol is not None:
        moves = 2 * Fraction(protocol.aerosol.steady)
    finals = [one.is_final for one in begun]
    budget = leak_budget([one.share for one in begun], protocol.n, level, moves, finals)
    if book.text("judged_by") == "every_exercise":
        single = [leak_budget([one.share], 1, level, moves, [one.is_final]) for one in begun]
        budget = Budget(
            budget.shares,
            budget.spent,
            budget.is_unlikely or any(one.is_unlikely for one in single),
            budget.is_lost or any(one.is_lost for one in single),
        )
    by: dict[int, Fraction] = {}
    for one, share in zip(begun, budget.shares, strict=True):
        by[one.exercise] = by.get(one.exercise, Fraction(0)) + share
    return Spent(by, budget)


def stopped_numbers(
    protocol: Protocol,
    book: Book,
    level: Fraction,
    level_key: str,
    windows: Sequence[MeasuredWindow],
    signals: Sequence[SignalWindow],
    holds: Sequence[Hold],
) -> RunNumbers:
    """A run stopped early fails only if it could not have passed any more; otherwise it is unfinished."""
    if protocol.family == "photometer":
        peak = photometer.peak_reason(protocol, level_key, signals)
        if peak is not None:
            return RunNumbers("below", reasons=(peak,))
    begun = shares_of(protocol, book, windows, signals, holds)
    spent = spend(protocol, book, level, begun).budget
    if not begun or not spent.is_lost:
        return RunNumbers("unfinished")
    spoilt = f"{cut(spent.spent * 100)} % of the leak budget was spent" if spent.spent > 1 else "one exercise was lost"
    return RunNumbers(
        "below",
        reasons=(
            Reason(
                code="cannot_pass",
                sentence=f"Stopped: {spoilt}; it could not reach {whole_or_cut(level)} any more.",
                rule="N ÷ level, with the most the drift rule allows",
                gravity="stop",
                remedy="Refit, another size or another facepiece.",
                keys=("drift.maximum",),
            ),
        ),
    )
