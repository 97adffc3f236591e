"""What a facepiece is worn as stands whole in every list: nothing of it is cut."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0036"
down_revision = "0035"
branch_labels = None
depends_on = None

TABLES = ("wear_permission", "history_word", "change_report")


def upgrade() -> None:
    """Make room for the longest set-up that can be entered."""
    for table in TABLES:
        op.alter_column(table, "setup", existing_type=sa.String(250), type_=sa.String(500), existing_nullable=False)


def downgrade() -> None:
    """Take the room away again; what is longer is refused by the database."""
    for table in TABLES:
        op.alter_column(table, "setup", existing_type=sa.String(500), type_=sa.String(250), existing_nullable=False)
