"""What is done to an instrument: alcohol charged, hoses dried, the end of the day."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "instrument_act",
        sa.Column("id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("instrument_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("name", sa.String(30), nullable=False),
        sa.Column("done_at", mysql.DATETIME(fsp=3), nullable=False),
        sa.Column("account_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.ForeignKeyConstraint(["instrument_id"], ["instrument.id"]),
    )
    op.create_index("ix_act_latest", "instrument_act", ["instrument_id", "name", "done_at"])


def downgrade() -> None:
    op.drop_table("instrument_act")
