"""Protocols that a site has added; append-only, the latest of an id counts, a withdrawn one is off."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "site_protocol",
        sa.Column("id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("site_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("protocol_id", sa.String(60), nullable=False),
        sa.Column("content", sa.JSON(), nullable=False),
        sa.Column("is_withdrawn", sa.Boolean(), nullable=False),
        sa.Column("by_name", sa.String(190), nullable=False),
        sa.Column("entered_at", mysql.DATETIME(fsp=3), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.ForeignKeyConstraint(["site_id"], ["site.id"]),
    )
    op.create_index("ix_site_protocol", "site_protocol", ["site_id", "protocol_id", "entered_at"])


def downgrade() -> None:
    op.drop_table("site_protocol")
