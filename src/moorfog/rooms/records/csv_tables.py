"""Tables for other programs: CSV with a header, numbers as numbers, text guarded against formulas."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from moorfog.core.measuring.readings import Reading
from moorfog.core.views.runs import try_view
from moorfog.core.visit.state import Visit
from moorfog.platform.printing.plain import table

READING_COLUMNS = (
    "try",
    "t_ms",
    "dt_ms",
    "counts",
    "volume_nl",
    "valve",
    "flags",
    "signal",
    "chamber",
    "pressure",
)
RESULT_COLUMNS = (
    "try",
    "facepiece",
    "size",
    "method",
    "outcome",
    "exercise",
    "unit",
    "outside",
    "inside",
    "fit_factor",
    "counts",
    "bound_95",
)


def readings_csv(rows: Iterable[tuple[int, Reading]]) -> str:
    """Return readings, a line each, with the number of their try; moments in ms from t0."""
    return table(
        READING_COLUMNS,
        (
            (no, one.t, one.dt, one.counts, one.volume_nl, one.valve, one.flags, *map(_given, _more(one)))
            for no, one in rows
        ),
    )


def _more(one: Reading) -> tuple[int | None, ...]:
    return one.signal, one.chamber, one.pressure


def _given(value: int | None) -> int | str:
    return "" if value is None else value


def results_csv(visit: Visit) -> str:
    """Return a visit's tries, a line for each exercise, or one for a try without any; figures cut as displayed."""
    rows: list[Sequence[object]] = []
    for one in visit.tries:
        view = try_view(visit, one)
        head = (view.no, view.facepiece, view.size, view.protocol_title, view.outcome)
        for row in view.exercises:
            counts = row.counts if row.counts is not None else ""
            rows.append((*head, row.name, view.unit, row.outside, row.inside, row.factor, counts, row.bound))
        if view.overall:
            rows.append((*head, "overall", "", "", "", view.overall, "", view.bound))
        elif not view.exercises:
            rows.append((*head, "", "", "", "", "", "", ""))
    return table(RESULT_COLUMNS, rows)
