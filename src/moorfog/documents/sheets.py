"""Tables as XLSX workbooks: a heading row, text guarded against formulas, widths that fit."""

from __future__ import annotations

import io
import tempfile
from collections.abc import Iterable, Iterator, Sequence

from moorfog.documents.tables import guarded

WIDEST = 60
PIECE = 64 * 1024
"""Bytes that are sent on together."""


def workbook(title: str, columns: Sequence[str], rows: Iterable[Sequence[str | int]]) -> bytes:
    """Return a workbook of one sheet. Rows are written as they come."""
    from openpyxl import Workbook
    from openpyxl.styles import Font
    from openpyxl.utils import get_column_letter

    book = Workbook()
    sheet = book.active
    sheet.title = title[:31]
    sheet.append(list(columns))
    widths = [len(one) for one in columns]
    for row in rows:
        cells = [guarded(one) if isinstance(one, str) else one for one in row]
        widths = [max(width, len(str(cell))) for width, cell in zip(widths, cells, strict=True)]
        sheet.append(cells)
    for cell in sheet[1]:
        cell.font = Font(bold=True)
    sheet.freeze_panes = "A2"
    for number, width in enumerate(widths, start=1):
        sheet.column_dimensions[get_column_letter(number)].width = min(width, WIDEST) + 2
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def workbook_file(title: str, columns: Sequence[str], rows: Iterable[Sequence[str | int]]) -> Iterator[bytes]:
    """Yield a workbook of one sheet of any length piece by piece; it is written to a file of its own on the way, never
    held whole."""
    from openpyxl import Workbook

    book = Workbook(write_only=True)
    sheet = book.create_sheet(title[:31])
    sheet.freeze_panes = "A2"
    sheet.append(list(columns))
    for row in rows:
        sheet.append([guarded(one) if isinstance(one, str) else one for one in row])
    with tempfile.TemporaryFile() as file:
        book.save(file)
        file.seek(0)
        while piece := file.read(PIECE):
            yield piece
