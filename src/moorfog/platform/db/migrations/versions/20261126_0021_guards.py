"""What was written once is never changed or taken out: the database itself refuses it, whoever asks."""

from __future__ import annotations

from alembic import op

from moorfog.platform.db.guards import guards, no_guards

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None

TABLES = ("event", "reading_chunk", "signature", "document")


def upgrade() -> None:
    """Put the guards up."""
    for one in guards(TABLES):
        op.execute(one)


def downgrade() -> None:
    """Take them down."""
    for one in no_guards(TABLES):
        op.execute(one)
