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


def erasable(table: str, emptied: Iterable[str], kept: Iterable[str]) -> str:
    """Return the guard against changes of a table whose rows may be emptied, once their erasure stands in ``erased``.

    Nothing else of a row may change with it, and what is emptied is emptied whole.
    """
    allowed = [f"NEW.{one} = ''" for one in emptied] + [f"NEW.{one} <=> OLD.{one}" for one in kept]
    allowed.append("EXISTS (SELECT 1 FROM erased WHERE erased.row_id = OLD.id)")
    return (
        f"CREATE TRIGGER {table}_no_update BEFORE UPDATE ON {table} FOR EACH ROW "
        f"BEGIN IF NOT ({' AND '.join(allowed)}) THEN "
        f"SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'what stands in {table} is never {DEEDS['update']}'; "
        "END IF; END"
    )


def no_guards(tables: Iterable[str]) -> list[str]:
    """Return the statements that take them down."""
    return [f"DROP TRIGGER IF EXISTS {table}_no_{deed}" for table in tables for deed in DEEDS]
