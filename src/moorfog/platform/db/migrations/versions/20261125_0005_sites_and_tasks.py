"""Rule book and tasks of a site, and what it lays over its rule book."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("site", sa.Column("rule_book", sa.String(60), nullable=False, server_default="us-29cfr1910-134"))
    op.create_table(
        "site_rule",
        sa.Column("id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("site_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("book", sa.String(60), nullable=False),
        sa.Column("key", sa.String(80), nullable=False),
        sa.Column("value", sa.JSON(), nullable=True),
        sa.Column("reason", sa.String(400), nullable=False),
        sa.Column("edition", sa.String(190), nullable=False),
        sa.Column("by_name", sa.String(190), nullable=False),
        sa.Column("entered_at", mysql.DATETIME(fsp=3), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.ForeignKeyConstraint(["site_id"], ["site.id"]),
    )
    op.create_index("ix_site_rule", "site_rule", ["site_id", "book", "entered_at"])
    op.create_table(
        "site_task",
        sa.Column("id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("site_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("name", sa.String(190), nullable=False),
        sa.Column("content", sa.JSON(), nullable=False),
        sa.Column("entered_at", mysql.DATETIME(fsp=3), nullable=False),
        sa.Column("is_current", sa.Boolean(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.ForeignKeyConstraint(["site_id"], ["site.id"]),
    )
    op.create_index("ix_site_task", "site_task", ["site_id", "is_current", "name"])


def downgrade() -> None:
    op.drop_table("site_task")
    op.drop_table("site_rule")
    op.drop_column("site", "rule_book")
