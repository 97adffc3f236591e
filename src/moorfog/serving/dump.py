"""A database as rows in a file, and back: rows of literals for tables that are there, and nothing else is ever run.

``mariadb-dump`` writes them; the schema is not among them, it is made by this program's own migrations. Reading back,
each line is a beginning ``INSERT INTO `table` (`column`, …) VALUES`` or one row of literals, or the file is none.
"""

from __future__ import annotations

import gzip
import os
import re
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any, Protocol

from sqlalchemy import Connection, Engine, make_url, text

PIECE = 1 << 20
LONGEST_LINE = 1 << 26
BOOKKEEPING = "alembic_version"
"""The table of the schema's revision: a migration writes it."""
WORD = r"`[a-z][a-z0-9_]{0,63}`"
LITERAL = r"(?:NULL|-?[0-9]++(?:\.[0-9]++)?(?:e[+-]?[0-9]++)?|0x[0-9A-Fa-f]++|'[^'\\]*+(?:\\.[^'\\]*+)*+')"
SANDBOX = b"/*M!999999\\- enable the sandbox mode */ \n"
"""What mariadb-dump begins with, so that its own client runs no command; nothing here reads it so."""
BEGINNING = re.compile(rf"INSERT INTO ({WORD}) \(({WORD}(?:, ?{WORD})*)\) VALUES ?")
ROW = re.compile(rf"\({LITERAL}(?:,{LITERAL})*+\)", re.DOTALL)


class Lines(Protocol):
    """Anything that lines are read from."""

    def readline(self, size: int = -1, /) -> bytes:
        """Return the next line, with its end; nothing at the end of all."""


class DumpFailed(RuntimeError):
    """A database could not be read, or a file holds something else than rows. Says where and why."""


def dump(url: str, to: Path) -> None:
    """Write the rows of all tables to a file, compressed and in one moment's state. Raises :class:`DumpFailed`."""
    one = make_url(url)
    command = ["mariadb-dump", "--no-defaults", f"--host={one.host}", f"--port={one.port or 3306}"]
    command += [f"--user={one.username}", "--single-transaction", "--skip-lock-tables", "--hex-blob", "--skip-triggers"]
    command += ["--no-create-info", "--complete-insert", "--compact", f"--ignore-table={one.database}.{BOOKKEEPING}"]
    command += ["--default-character-set=utf8mb4", "--", str(one.database)]
    # what it complains of goes to a file: a pipe that nobody reads before the end stands still once it is full
    with tempfile.TemporaryFile() as complaint, gzip.open(to, "wb", compresslevel=5) as packed:
        env = {**os.environ, "MYSQL_PWD": str(one.password or "")}
        child = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=complaint, env=env)
        assert child.stdout is not None
        shutil.copyfileobj(child.stdout, packed, PIECE)
        if child.wait() != 0:
            complaint.seek(0)
            problem = complaint.read().decode(errors="replace").strip()[-300:]
            raise DumpFailed(f"the database could not be read: {problem}")


def rows_of(lines: Lines) -> Iterator[tuple[str, str, str]]:
    """Yield the table, the columns and the literals of every row in a file, as they stand there.

    Raises :class:`DumpFailed` naming the first line that is anything else.
    """
    table = columns = ""
    number, is_open = 0, False
    while line := lines.readline(LONGEST_LINE):
        number += 1
        if number == 1 and line == SANDBOX:
            continue
        try:
            rest = line.decode("utf-8").removesuffix("\n")
        except UnicodeDecodeError:
            raise _no_row(number, repr(line[:60])) from None
        if not is_open:
            found = BEGINNING.match(rest)
            if found is None:
                raise _no_row(number, rest)
            table, columns, rest, is_open = found[1].strip("`"), found[2], rest[found.end() :], True
            if not rest:
                continue
        while rest:
            row = ROW.match(rest)
            if row is None or rest[row.end() : row.end() + 1] not in (",", ";"):
                raise _no_row(number, rest)
            yield table, columns, row[0]
            is_open = rest[row.end()] == ","
            rest = rest[row.end() + 1 :]
            if not is_open and rest:
                raise _no_row(number, rest)
    if is_open:
        raise DumpFailed(f"the rows end in the middle, after line {number}")


def _no_row(number: int, found: str) -> DumpFailed:
    return DumpFailed(f"line {number} of the rows is no row of a table: {found[:60]!r}")


def load(engine: Engine, lines: Lines) -> int:
    """Put rows into the tables of a database whose schema stands, in the place of what is in them; return how many.

    ``engine``: of an account that may work with this one schema and nothing else. Raises :class:`DumpFailed`.
    """
    with engine.connect() as connection:
        known = _columns(connection)
        triggers = _without_triggers(connection)
        raw: Any = connection.connection.driver_connection
        raw.query("SET foreign_key_checks=0, unique_checks=0, time_zone='+00:00', sql_mode='NO_AUTO_VALUE_ON_ZERO'")
        for table in known:
            raw.query(f"TRUNCATE TABLE `{table}`")
        count = 0
        for table, columns, rows in _in_pieces(rows_of(lines)):
            unknown = set(re.findall(r"[a-z0-9_]+", columns)) - known.get(table, set())
            if table not in known or unknown:
                words = f"columns {', '.join(sorted(unknown))} of {table}" if table in known else f"table {table}"
                raise DumpFailed(f"the rows name {words}, which this schema does not have")
            raw.query(f"INSERT INTO `{table}` ({columns}) VALUES {','.join(rows)}")
            count += len(rows)
        raw.commit()
        for statement in triggers:
            raw.query(statement)
    return count


def _in_pieces(rows: Iterator[tuple[str, str, str]]) -> Iterator[tuple[str, str, list[str]]]:
    into, held, size = ("", ""), list[str](), 0
    for table, columns, row in rows:
        if held and ((table, columns) != into or size + len(row) > PIECE):
            yield *into, held
            held, size = [], 0
        into = (table, columns)
        held.append(row)
        size += len(row)
    if held:
        yield *into, held


def _columns(connection: Connection) -> dict[str, set[str]]:
    found: dict[str, set[str]] = {}
    asked = "SELECT table_name, column_name FROM information_schema.columns WHERE table_schema = DATABASE()"
    for table, column in connection.execute(text(asked)):
        if table != BOOKKEEPING:
            found.setdefault(str(table), set()).add(str(column))
    return found


def _without_triggers(connection: Connection) -> list[str]:
    """Take the triggers away, and return what makes them again: rows that are laid back touch and guard nothing."""
    asked = "SELECT trigger_name FROM information_schema.triggers WHERE trigger_schema = DATABASE()"
    names = list(connection.scalars(text(asked)))
    made = [str(connection.exec_driver_sql(f"SHOW CREATE TRIGGER `{name}`").one()[2]) for name in names]
    for name in names:
        connection.exec_driver_sql(f"DROP TRIGGER `{name}`")
    return [re.sub(r"^CREATE DEFINER=\S+ ", "CREATE ", one) for one in made]
