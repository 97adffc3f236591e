"""Probes, adapters, probed cartridges and manifolds, and what was done to each."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "sampling_part",
        sa.Column("id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("employer_id", sa.Uuid(as_uuid=False), nullable=True),
        sa.Column("name", sa.String(80), nullable=False),
        sa.Column("kind", sa.String(20), nullable=False),
        sa.Column("fits", sa.String(190), nullable=False),
        sa.Column("once_only", sa.Boolean(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.ForeignKeyConstraint(["employer_id"], ["employer.id"]),
    )
    op.create_table(
        "sampling_part_act",
        sa.Column("id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("part_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("name", sa.String(12), nullable=False),
        sa.Column("done_at", mysql.DATETIME(fsp=3), nullable=False),
        sa.Column("account_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.ForeignKeyConstraint(["part_id"], ["sampling_part.id"]),
    )
    op.create_index("ix_part_act", "sampling_part_act", ["part_id", "name", "done_at"])


def downgrade() -> None:
    op.drop_table("sampling_part_act")
    op.drop_table("sampling_part")
