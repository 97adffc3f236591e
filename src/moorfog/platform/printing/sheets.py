"""Tables as XLSX workbooks: a heading row, text guarded against formulas, widths that fit."""

from __future__ import annotations

import io
from collections.abc import Iterable, Iterator, Sequence
from itertools import chain, islice
from xml.sax.saxutils import escape
from zipfile import ZipFile

from moorfog.platform.printing.archive import Pipe, entry, piped, put
from moorfog.platform.printing.plain import guarded

WIDEST = 60
SHEET, AT_ONCE = 500_000, 200
"""Rows of a sheet, as a spreadsheet opens no more than a million; rows that are sent on together."""
HEAD = (
    '<?xml version="1.0" encoding="UTF-8"?>'
    '<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetViews>'
    '<sheetView workbookViewId="0"><pane ySplit="1" topLeftCell="A2" activePane="bottomLeft" state="frozen"/>'
    "</sheetView></sheetViews><sheetData>"
)
FOOT = "</sheetData></worksheet>"


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
    """Yield a workbook of any length while its rows come: few of them are held, and the first bytes go out at once.

    A sheet takes :data:`SHEET` rows; what is beyond goes on on the next, each with the heading row.
    """
    pipe, names, found = Pipe(), list[str](), iter(rows)
    with piped(pipe) as archive:
        while (some := list(islice(found, AT_ONCE))) or not names:
            names.append(f"{title[:27]} {len(names) + 1}" if names else title[:31])
            lines = islice(chain(some, found), SHEET)
            with archive.open(entry(f"xl/worksheets/sheet{len(names)}.xml"), "w") as sheet:
                sheet.write(f"{HEAD}{_line(columns)}".encode())
                while batch := list(islice(lines, AT_ONCE)):
                    sheet.write("".join(map(_line, batch)).encode())
                    yield pipe.taken()
                sheet.write(FOOT.encode())
        for name, content in _frame(names):
            put(archive, name, content)
    yield pipe.taken()


def _frame(names: Sequence[str]) -> Iterator[tuple[str, bytes]]:
    """Yield everything of a workbook with sheets of these names but the sheets themselves."""
    from openpyxl import Workbook

    book, out = Workbook(write_only=True), io.BytesIO()
    for one in names:
        book.create_sheet(one)
    book.save(out)
    with ZipFile(out) as made:
        for one in made.namelist():
            if not one.startswith("xl/worksheets/"):
                yield one, made.read(one)


def _line(row: Sequence[str | int]) -> str:
    return f"<row>{''.join(map(_cell, row))}</row>"


def _cell(one: str | int) -> str:
    if isinstance(one, int):
        return f"<c><v>{one}</v></c>"
    text = escape(guarded(one))
    return f'<c t="inlineStr"><is><t xml:space="preserve">{text}</t></is></c>'
