"""Jumps of the database's clock are seen and taken off."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.mysql import DATETIME

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add the two tables; times follow the database's clock."""
    op.create_table(
        "clock",
        sa.Column("id", sa.Integer(), primary_key=True, autoincrement=False),
        sa.Column("behind_ms", sa.BigInteger(), nullable=False),
    )
    op.execute("INSERT INTO clock (id, behind_ms) VALUES (1, 0)")
    op.create_table(
        "clock_jump",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("at", DATETIME(fsp=3), nullable=False),
        sa.Column("by_ms", sa.BigInteger(), nullable=False),
        sa.Column("taken_at", DATETIME(fsp=3), nullable=True),
    )


def downgrade() -> None:
    """Take both out."""
    op.drop_table("clock_jump")
    op.drop_table("clock")
