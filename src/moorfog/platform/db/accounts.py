"""Database accounts by purpose: one that the program works with, and one that may change the schema.

The account that web server and worker use writes to the log and never changes what is written there; it changes no
table, takes no guard down and reads no other database. Migrations and refilling the read models have one of their own.
"""

from __future__ import annotations

from sqlalchemy import Engine, inspect

WORK, SCHEMA = "moorfog_work", "moorfog_schema"
"""Never the name of a system account: the server knows its own, which may do all, by that name."""
WRITTEN_ONCE = frozenset(
    {
        "event",
        "reading_chunk",
        "signature",
        "document",
        "rule_set",
        "anchor",
        "anchored",
        "anchored_ledger",
        "ledger_entry",
        "site_terms",
        "erased",
    }
)
"""Tables of which a row is never changed nor deleted."""
TAKEN_OUT = frozenset({"ledger_value", "event_words"})
"""Tables of which a row is never changed; a guard lets it be deleted once its erasure is written."""
ERASABLE = {"signature": ("typed_name", "canonical"), "document": ("content",)}
"""Columns that are emptied when a person is erased; a guard of the database minds that nothing else is."""
READ_ONLY = frozenset({"alembic_version"})


def grants(account: str, host: str, database: str, tables: list[str]) -> list[str]:
    """Return the statements that let an account work with the tables of a database, and do nothing else."""
    to = f"'{account}'@'{host}'"
    out = []
    for table in sorted(tables):
        may = "SELECT" if table in READ_ONLY else "SELECT, INSERT"
        if table in TAKEN_OUT:
            may += ", DELETE"
        elif table not in WRITTEN_ONCE | READ_ONLY:
            may += ", UPDATE, DELETE"
        if table in ERASABLE:
            may += f", UPDATE ({', '.join(ERASABLE[table])})"
        out.append(f"GRANT {may} ON `{database}`.`{table}` TO {to}")
    return out


def tables_of(engine: Engine) -> list[str]:
    """Return the names of the tables there are."""
    return list(inspect(engine).get_table_names())
