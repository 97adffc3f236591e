"""What is sent while it is made: however many lines there are, few of them are held at a time."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterable, Iterator
from itertools import chain, islice
from typing import Any, TypeVar

from flask import Response

from moorfog.core.kernel.codec import encode
from moorfog.platform.printing.plain import guarded

T = TypeVar("T")
PIECE = 200
"""Lines that are sent on together."""


def sent(pieces: Iterator[bytes], media: str, name: str) -> Response:
    """Send pieces as they come. The first is made before anything is sent: what is wrong is said, not cut off."""
    first = next(pieces, b"")
    response = Response(chain([first], pieces), mimetype=media)
    response.headers["Content-Disposition"] = f'attachment; filename="{name}"'
    response.headers["X-Accel-Buffering"] = "no"
    return response


def csv_pieces(columns: tuple[str, ...], rows: Iterator[tuple[str | int, ...]]) -> Iterator[bytes]:
    """Yield CSV (RFC 4180) with a mark by which spreadsheets see that it is UTF-8."""
    head: Iterable[tuple[str | int, ...]] = [columns]
    for number, some in enumerate(_by(chain(head, rows), PIECE)):
        out = io.StringIO()
        writer = csv.writer(out, lineterminator="\r\n")
        writer.writerows([guarded(one) if isinstance(one, str) else one for one in row] for row in some)
        yield (b"\xef\xbb\xbf" if number == 0 else b"") + out.getvalue().encode()


def json_pieces(rows: Iterator[Any]) -> Iterator[bytes]:
    yield b"["
    for number, some in enumerate(_by(rows, PIECE)):
        text = ",\n".join(json.dumps(encode(one), ensure_ascii=False) for one in some)
        yield (",\n" if number else "\n").encode() + text.encode()
    yield b"\n]\n"


def _by(rows: Iterator[T], most: int) -> Iterator[list[T]]:
    while some := list(islice(rows, most)):
        yield some
