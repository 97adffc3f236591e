"""Shared kit found wrong is settled by each employer for its own tests."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.mysql import DATETIME

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Make the table."""
    op.create_table(
        "recall_settled",
        sa.Column("recall_id", sa.Uuid(), sa.ForeignKey("kit_recall.id"), primary_key=True),
        sa.Column("employer_id", sa.Uuid(), sa.ForeignKey("employer.id"), primary_key=True),
        sa.Column("state", sa.String(12), nullable=False),
        sa.Column("settled_by", sa.String(190), nullable=False),
        sa.Column("settled_at", DATETIME(fsp=3), nullable=False),
        sa.Column("reason", sa.String(400), nullable=False),
        sa.Column("job_id", sa.Uuid(), nullable=True),
    )


def downgrade() -> None:
    """Drop it."""
    op.drop_table("recall_settled")
