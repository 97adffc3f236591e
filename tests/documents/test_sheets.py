"""A workbook that is sent while its rows come, read back by two libraries that know nothing of it (openpyxl and
calamine)."""

from __future__ import annotations

import io
from collections.abc import Iterator

import pytest
from openpyxl import load_workbook
from python_calamine import CalamineWorkbook

from moorfog.platform.printing import sheets

COLUMNS = ("name", "overall", "tries")
ROWS = [
    ("Żółkiewska & Søn <quay>", "240", 3),
    ("=1+1", "", 0),
    ("  two\x0b  spaces\n", "≥ 200", -2),
]
READ = [
    ("Żółkiewska & Søn <quay>", "240", 3),
    ("'=1+1", "", 0),
    ("  two  spaces\n", "≥ 200", -2),
]


def test_two_libraries_read_what_was_written() -> None:
    made = b"".join(sheets.workbook_file("records", COLUMNS, ROWS))
    book = load_workbook(io.BytesIO(made))
    assert book.sheetnames == ["records"] and book.active.freeze_panes == "A2"
    read = [tuple(one if one is not None else "" for one in row) for row in book.active.iter_rows(values_only=True)]
    assert read == [COLUMNS, *READ]
    other = CalamineWorkbook.from_filelike(io.BytesIO(made)).get_sheet_by_index(0).to_python()
    assert [tuple(row) for row in other] == [COLUMNS, *READ]


def test_it_goes_out_while_its_rows_come() -> None:
    taken = 0

    def rows() -> Iterator[tuple[str, str, int]]:
        nonlocal taken
        for taken in range(100_000):
            yield ("Whin Ashby", "240", taken)

    first = next(sheets.workbook_file("records", COLUMNS, rows()))
    assert first[:2] == b"PK" and taken < 1_000


@pytest.mark.parametrize(("rows", "names"), [(0, ["r"]), (3, ["r"]), (4, ["r", "r 2"]), (7, ["r", "r 2", "r 3"])])
def test_what_is_too_long_for_a_sheet_goes_on_on_the_next(
    monkeypatch: pytest.MonkeyPatch, rows: int, names: list[str]
) -> None:
    monkeypatch.setattr(sheets, "SHEET", 3)
    monkeypatch.setattr(sheets, "AT_ONCE", 2)
    made = b"".join(sheets.workbook_file("r", ("no",), [(one,) for one in range(rows)]))
    book = load_workbook(io.BytesIO(made))
    assert book.sheetnames == names
    read = [[cell for (cell,) in sheet.iter_rows(values_only=True)] for sheet in book.worksheets]
    assert all(one[0] == "no" for one in read) and [cell for one in read for cell in one[1:]] == list(range(rows))
