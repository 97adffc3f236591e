"""The process in which a file is parsed: bytes in, JSON out. Started by :func:`moorfog.uploads.parse_apart`."""

from __future__ import annotations

import csv
import io
import json
import resource
import sys
import tomllib
from collections.abc import Callable, Iterable, Iterator
from typing import Any
from zipfile import BadZipFile, ZipFile

from moorfog.uploads.limits import CPU_S, MEMORY_BYTES, MOST_CELL, MOST_COLUMNS, MOST_ROWS, MOST_UNPACKED

Table = list[list[str]]


class Problem(Exception):
    """What is wrong with the file: a stable code and words."""


def read_csv(content: bytes) -> Table:
    """Read a table parted by commas, semicolons or tabs, in UTF-8 or Windows-1252."""
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = content.decode("cp1252", errors="replace")
    first = text.split("\n", 1)[0]
    csv.field_size_limit(len(text) + 1)
    delimiter = max(",;\t", key=first.count)
    try:
        return _bounded(csv.reader(io.StringIO(text, newline=""), delimiter=delimiter))
    except csv.Error as error:
        raise Problem("bad_csv", f"This is not readable as a table: {error}. Save it again as CSV.") from None


def read_xlsx(content: bytes) -> Table:
    """Read the first sheet of a workbook: values, not formulas."""
    from openpyxl import load_workbook
    from openpyxl.utils.exceptions import InvalidFileException

    try:
        with ZipFile(io.BytesIO(content)) as packed:
            if sum(one.file_size for one in packed.infolist()) > MOST_UNPACKED:
                raise Problem("too_much", "This workbook unpacks to far more than a roster holds. Save it as CSV.")
        book = load_workbook(io.BytesIO(content), read_only=True, data_only=True)
        sheet = book.worksheets[0]
        sheet.reset_dimensions()
        return _bounded(sheet.iter_rows(values_only=True))
    except (BadZipFile, InvalidFileException, KeyError, OSError, ValueError, IndexError, TypeError, SyntaxError):
        raise Problem("bad_xlsx", "This is no readable .xlsx file. Save it again, or as CSV.") from None


def read_toml(content: bytes) -> dict[str, Any]:
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


def _bounded(rows: Iterable[Iterable[object]]) -> Table:
    return list(_cells(rows))


def _cells(rows: Iterable[Iterable[object]]) -> Iterator[list[str]]:
    """Return the cells of each row as text, without empty ones at its end."""
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
        yield cells


def _text(value: object) -> str:
    if value is None:
        return ""
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return str(value).strip()


READERS: dict[str, Callable[[bytes], Any]] = {"csv": read_csv, "xlsx": read_xlsx, "toml": read_toml}


def main() -> None:
    """Read standard input as the kind of file that is named, within the limits; write what it holds as JSON."""
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY_BYTES, MEMORY_BYTES))
    resource.setrlimit(resource.RLIMIT_CPU, (CPU_S, CPU_S))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    try:
        answer: dict[str, Any] = {"found": READERS[sys.argv[1]](sys.stdin.buffer.read())}
    except Problem as problem:
        answer = {"problem": problem.args}
    sys.stdout.write(json.dumps(answer))


if __name__ == "__main__":
    main()
