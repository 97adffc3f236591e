"""Tables for other programs: CSV with a header, numbers as numbers, text guarded against formulas."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Sequence

from moorfog.core.measuring.readings import Reading
from moorfog.core.views.runs import try_view
from moorfog.core.visit.state import Visit

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


UNPRINTABLE = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f\ufffe\uffff]")
"""What no table has a way to write: the signs that XML 1.0 leaves out of its Char production, and DEL."""


def one_line(text: str) -> str:
    """Return text in one line and without unprintable signs, for formats in which a line is something else."""
    return " ".join(UNPRINTABLE.sub(" ", text).split())


def guarded(text: str) -> str:
    """Return text that no spreadsheet takes for a formula, without unprintable signs; a leading minus of a number
    stays."""
    text = UNPRINTABLE.sub("", text)
    risky = text[:1] in ("=", "+", "@", "\t", "\r") or (text[:1] == "-" and not text[1:].replace(".", "", 1).isdigit())
    return f"'{text}" if risky else text


def table(columns: Sequence[str], rows: Iterable[Sequence[object]]) -> str:
    """Return CSV (RFC 4180) of rows under a header."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(columns)
    for row in rows:
        writer.writerow([guarded(one) if isinstance(one, str) else one for one in row])
    return out.getvalue()


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
