"""Screens on which presses for a visit are made, and the run whose verdict waits for one."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None

ID = sa.Uuid(as_uuid=False)


def upgrade() -> None:
    op.create_table(
        "visit_screen",
        sa.Column("visit_id", ID, sa.ForeignKey("visit.id"), primary_key=True),
        sa.Column("screen", ID, primary_key=True),
        sa.Column("role", sa.String(10), nullable=False),
        sa.Column("seen_at", mysql.DATETIME(fsp=3), nullable=False),
        sa.Column("awaited_run", ID, nullable=True),
    )
    op.create_index("ix_visit_screen_seen_at", "visit_screen", ["seen_at"])
    op.create_index("ix_visit_screen_awaited_run", "visit_screen", ["awaited_run"])


def downgrade() -> None:
    op.drop_table("visit_screen")
