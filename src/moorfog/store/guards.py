"""The database's own guards: triggers that refuse to change or delete what was written once."""

from __future__ import annotations

from collections.abc import Iterable

DEEDS = {"update": "changed", "delete": "deleted"}


def guards(tables: Iterable[str]) -> list[str]:
    """Return the statements that put the guards of tables up."""
    return [
        f"CREATE TRIGGER {table}_no_{deed} BEFORE {deed.upper()} ON {table} FOR EACH ROW "
        f"SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'what stands in {table} is never {word}'"
        for table in tables
        for deed, word in DEEDS.items()
    ]


def no_guards(tables: Iterable[str]) -> list[str]:
    """Return the statements that take them down."""
    return [f"DROP TRIGGER IF EXISTS {table}_no_{deed}" for table in tables for deed in DEEDS]
