"""Visits that were looked at in full and held, so that the next look need not judge them again."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0039"
down_revision = "0038"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """None has been seen yet."""
    op.create_table(
        "visit_seen",
        sa.Column("visit_id", sa.Uuid(), nullable=False),
        sa.Column("runs", sa.JSON(), nullable=False),
        sa.Column("seal", sa.String(64), nullable=False),
        sa.PrimaryKeyConstraint("visit_id"),
    )


def downgrade() -> None:
    """All are looked at in full again."""
    op.drop_table("visit_seen")
