"""The process in which a file is parsed: bytes in, JSON out. See :func:`moorfog.platform.uploads.parse_apart`."""

from __future__ import annotations

import codecs
import csv
import io
import json
import resource
import sys
import tomllib
from collections.abc import Callable, Iterable, Iterator
from datetime import datetime
from typing import Any
from zipfile import BadZipFile, ZipFile

from charset_normalizer import from_bytes

from moorfog.platform.uploads.limits import (
    CPU_S,
    MEMORY_BYTES,
    MOST_CELL,
    MOST_COLUMNS,
    MOST_ROWS,
    MOST_UNPACKED,
    SAMPLE,
)

Row = tuple[int, list[str]]
"""A row with its number in the sheet, from 1; blank ones are left out, and the numbers of the others stay true."""
COMMON = ("utf-8", "cp1252", "cp1250", "utf-16", "utf-16-le", "utf-16-be", "iso8859-2", "cp1251", "cp1257", "mac-roman")


class Problem(Exception):
    """What is wrong with the file: a stable code and words."""


def decoded(content: bytes, encoding: str) -> tuple[str, str]:
    """Return a text and the encoding it is in: the one named, else the one that it looks like."""
    if encoding:
        if encoding not in COMMON:
            raise Problem("bad_encoding", f"{encoding!r} is no encoding that is known here.")
        try:
            return content.decode(encoding), encoding
        except UnicodeDecodeError:
            raise Problem("bad_encoding", f"This file is not in {encoding}. Choose another one.") from None
    for mark, name in (
        (codecs.BOM_UTF8, "utf-8-sig"),
        (codecs.BOM_UTF16_LE, "utf-16"),
        (codecs.BOM_UTF16_BE, "utf-16"),
    ):
        if content.startswith(mark):
            try:
                return content.decode(name), name.removesuffix("-sig")
            except UnicodeDecodeError:
                break
    try:
        return content.decode("utf-8"), "utf-8"
    except UnicodeDecodeError:
        pass
    found = from_bytes(content[:SAMPLE], cp_isolation=list(COMMON)).best()
    name = found.encoding.replace("_", "-") if found is not None else "cp1252"
    name = name if name in COMMON else "cp1252"
    return content.decode(name, errors="replace"), name


def read_csv(content: bytes, given: dict[str, Any]) -> dict[str, Any]:
    """Read a table parted by commas, semicolons or tabs."""
    text, encoding = decoded(content, str(given.get("encoding", "")))
    first = text.split("\n", 1)[0]
    csv.field_size_limit(len(text) + 1)
    delimiter = max(",;\t", key=first.count)
    try:
        rows = _bounded(csv.reader(io.StringIO(text, newline=""), delimiter=delimiter))
    except csv.Error as error:
        raise Problem("bad_csv", f"This is not readable as a table: {error}. Save it again as CSV.") from None
    return {"rows": rows, "encoding": encoding, "sheets": [], "sheet": 0}


def read_xlsx(content: bytes, given: dict[str, Any]) -> dict[str, Any]:
    """Read a sheet of a workbook: values; a formula that was never worked out stays as its text."""
    from openpyxl import load_workbook
    from openpyxl.utils.exceptions import InvalidFileException

    try:
        with ZipFile(io.BytesIO(content)) as packed:
            if sum(one.file_size for one in packed.infolist()) > MOST_UNPACKED:
                raise Problem("too_much", "This workbook unpacks to far more than a roster holds. Save it as CSV.")
        book = load_workbook(io.BytesIO(content), read_only=True, data_only=True)
        names = [one.title for one in book.worksheets]
        at = _sheet(given, names)
        sheet = book.worksheets[at]
        sheet.reset_dimensions()
        rows = _bounded((_value(cell) for cell in row) for row in sheet.iter_rows())
        plain = load_workbook(io.BytesIO(content), read_only=True, data_only=False).worksheets[at]
        plain.reset_dimensions()
        _show_formulas(rows, plain.iter_rows(values_only=True))
        return {"rows": rows, "encoding": "", "sheets": names, "sheet": at}
    except (BadZipFile, InvalidFileException, KeyError, OSError, ValueError, IndexError, TypeError, SyntaxError):
        raise Problem("bad_xlsx", "This is no readable .xlsx file. Save it again, or as CSV.") from None


def _sheet(given: dict[str, Any], names: list[str]) -> int:
    at = int(given.get("sheet", 0))
    if not 0 <= at < len(names):
        raise Problem("bad_sheet", f"There is no sheet {at + 1} in this file; it has {len(names)}.")
    return at


def _value(cell: Any) -> object:
    """Return what a cell shows: a number that is shown with zeros before it keeps them."""
    value, form = cell.value, getattr(cell, "number_format", "")
    if isinstance(value, int | float) and not isinstance(value, bool) and form and set(form) == {"0"}:
        return f"{int(value):0{len(form)}d}"
    return value


def _show_formulas(rows: list[Row], plain: Iterable[Iterable[object]]) -> None:
    """Put the text of a formula where it has no value."""
    by_number = dict(rows)
    for number, row in enumerate(plain, start=1):
        for column, value in enumerate(row):
            if not (isinstance(value, str) and value.startswith("=")):
                continue
            cells = by_number.get(number)
            if cells is None:
                cells = []
                by_number[number] = cells
                rows.append((number, cells))
            cells += [""] * (column + 1 - len(cells))
            cells[column] = cells[column] or value[:MOST_CELL]
    rows.sort()


def read_sheet(content: bytes, given: dict[str, Any]) -> dict[str, Any]:
    """Read a sheet of an older workbook (.xls) or of an open document (.ods)."""
    from python_calamine import CalamineError, CalamineWorkbook

    try:
        book = CalamineWorkbook.from_filelike(io.BytesIO(content))
        names = list(book.sheet_names)
        at = _sheet(given, names)
        rows = _bounded(book.get_sheet_by_index(at).iter_rows())
    except (CalamineError, OSError, ValueError):
        raise Problem("bad_sheet", "This workbook cannot be read. Save it again as .xlsx, or as CSV.") from None
    return {"rows": rows, "encoding": "", "sheets": names, "sheet": at}


def read_toml(content: bytes, given: dict[str, Any]) -> dict[str, Any]:
    """Read TOML as its tree."""
    try:
        tree: dict[str, Any] = tomllib.loads(content.decode("utf-8"))
        json.dumps(tree, default=_unknown, allow_nan=False)  # nothing in it that JSON has no word for
        return tree
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, ValueError) as error:
        raise Problem("not_toml", f"This is not readable as TOML: {error}. See docs/rules.md.") from None
    except RecursionError:
        raise Problem("not_toml", "This is TOML within TOML, too deep to be read.") from None


def _unknown(value: object) -> Any:
    raise ValueError(f"{value!r}: text, numbers, yes or no, lists and tables are expected")


def _bounded(rows: Iterable[Iterable[object]]) -> list[Row]:
    return list(_cells(rows))


def _cells(rows: Iterable[Iterable[object]]) -> Iterator[Row]:
    """Yield the cells of each row as text, without empty ones at its end; blank rows are left out."""
    for number, row in enumerate(rows, start=1):
        if number > MOST_ROWS + 1:
            raise Problem("too_many_rows", f"More than {MOST_ROWS} rows; at most so many at once. Split the file.")
        cells = [_text(one) for one in row]
        while cells and not cells[-1]:
            cells.pop()
        if len(cells) > MOST_COLUMNS:
            raise Problem("too_many_columns", f"Row {number} has more than {MOST_COLUMNS} columns. Take out the rest.")
        for column, cell in enumerate(cells, start=1):
            if any(one < " " and one not in "\t\r\n" for one in cell):
                raise Problem("not_text", f"Row {number}, column {column} holds signs that are no text.")
            if len(cell) > MOST_CELL:
                where = f"Row {number}, column {column}"
                raise Problem("too_long", f"{where} holds {len(cell)} signs; at most {MOST_CELL} are expected there.")
        if cells:
            yield number, cells


def _text(value: object) -> str:
    if value is None:
        return ""
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    if isinstance(value, datetime):
        return value.date().isoformat()
    return str(value).strip()


READERS: dict[str, Callable[[bytes, dict[str, Any]], Any]] = {
    "csv": read_csv,
    "xlsx": read_xlsx,
    "sheet": read_sheet,
    "toml": read_toml,
}


def main() -> None:
    """Read standard input as the kind of file that is named, within the limits; write what it holds as JSON."""
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY_BYTES, MEMORY_BYTES))
    resource.setrlimit(resource.RLIMIT_CPU, (CPU_S, CPU_S))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    try:
        given = json.loads(sys.argv[2]) if len(sys.argv) > 2 else {}
        answer: dict[str, Any] = {"found": READERS[sys.argv[1]](sys.stdin.buffer.read(), given)}
    except Problem as problem:
        answer = {"problem": problem.args}
    sys.stdout.write(json.dumps(answer))


if __name__ == "__main__":
    main()
