"""Tables as XLSX workbooks: a heading row, text guarded against formulas, widths that fit."""

from __future__ import annotations

import io
from collections.abc import Iterable, Sequence

from moorfog.documents.tables import guarded

WIDEST = 60


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
