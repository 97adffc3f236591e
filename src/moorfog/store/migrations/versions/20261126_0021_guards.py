"""What was written once is never changed or taken out: the database itself refuses it, whoever asks."""

from __future__ import annotations

from alembic import op

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None

TABLES = ("event", "reading_chunk", "signature", "document")
DEEDS = {"update": "changed", "delete": "deleted"}


def guards() -> list[str]:
    """Return the statements that put the guards up."""
    return [
        f"CREATE TRIGGER {table}_no_{deed} BEFORE {deed.upper()} ON {table} FOR EACH ROW "
        f"SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'what stands in {table} is never {word}'"
        for table in TABLES
        for deed, word in DEEDS.items()
    ]


def no_guards() -> list[str]:
    """Return the statements that take them down."""
    return [f"DROP TRIGGER IF EXISTS {table}_no_{deed}" for table in TABLES for deed in DEEDS]


def upgrade() -> None:
    """Put the guards up."""
    for one in guards():
        op.execute(one)


def downgrade() -> None:
    """Take them down."""
    for one in no_guards():
        op.execute(one)
