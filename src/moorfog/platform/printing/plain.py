"""Tables for other programs as CSV (RFC 4180), and text that is safe in every file."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Sequence

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
