"""Lots, nebulisers, their fillings and checks; the wearer's screen; what a try was made with."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def _id(name: str, nullable: bool = False) -> sa.Column[str]:
    return sa.Column(name, sa.Uuid(as_uuid=False), nullable=nullable)


def _moment(name: str, nullable: bool = False) -> sa.Column[object]:
    return sa.Column(name, mysql.DATETIME(fsp=3), nullable=nullable)


def upgrade() -> None:
    op.create_table(
        "lot",
        _id("id"),
        _id("employer_id", nullable=True),
        sa.Column("agent", sa.String(20), nullable=False),
        sa.Column("role", sa.String(20), nullable=False),
        sa.Column("number", sa.String(60), nullable=False),
        sa.Column("made_on", sa.Date(), nullable=False),
        sa.Column("use_by", sa.Date(), nullable=False),
        sa.Column("made_by", sa.String(190), nullable=False),
        _moment("entered_at"),
        _moment("withdrawn_at", nullable=True),
        sa.PrimaryKeyConstraint("id"),
        sa.ForeignKeyConstraint(["employer_id"], ["employer.id"]),
    )
    op.create_index("ix_lot", "lot", ["employer_id", "agent", "use_by"])
    op.create_table(
        "nebuliser",
        _id("id"),
        _id("employer_id", nullable=True),
        sa.Column("name", sa.String(80), nullable=False),
        sa.Column("role", sa.String(20), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.ForeignKeyConstraint(["employer_id"], ["employer.id"]),
    )
    op.create_table(
        "nebuliser_filling",
        _id("id"),
        _id("nebuliser_id"),
        _id("lot_id"),
        _moment("filled_at"),
        _id("account_id"),
        sa.PrimaryKeyConstraint("id"),
        sa.ForeignKeyConstraint(["nebuliser_id"], ["nebuliser.id"]),
        sa.ForeignKeyConstraint(["lot_id"], ["lot.id"]),
    )
    op.create_index("ix_filling", "nebuliser_filling", ["nebuliser_id", "filled_at"])
    op.create_table(
        "nebuliser_check",
        _id("id"),
        _id("nebuliser_id"),
        _moment("checked_at"),
        sa.Column("sprays", sa.Boolean(), nullable=False),
        _id("account_id"),
        sa.PrimaryKeyConstraint("id"),
        sa.ForeignKeyConstraint(["nebuliser_id"], ["nebuliser.id"]),
    )
    op.create_index("ix_spray", "nebuliser_check", ["nebuliser_id", "checked_at"])
    op.create_table(
        "caution",
        _id("account_id"),
        sa.Column("method", sa.String(20), nullable=False),
        sa.Column("day", sa.Date(), nullable=False),
        sa.PrimaryKeyConstraint("account_id", "method", "day"),
    )
    op.create_table(
        "wearer_link",
        sa.Column("digest", sa.String(64), nullable=False),
        _id("visit_id"),
        _moment("expires_at"),
        sa.PrimaryKeyConstraint("digest"),
        sa.ForeignKeyConstraint(["visit_id"], ["visit.id"]),
    )
    op.create_index("ix_wearer_link_visit_id", "wearer_link", ["visit_id"])
    op.create_index("ix_wearer_link_expires_at", "wearer_link", ["expires_at"])
    op.create_table(
        "try_kit",
        _id("visit_id"),
        sa.Column("no", sa.Integer(), nullable=False),
        _id("kit_id"),
        _id("employer_id"),
        _moment("tested_at"),
        sa.Column("source_seq", sa.Integer(), nullable=False),
        sa.Column("fold_version", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("visit_id", "no", "kit_id"),
    )
    op.create_index("ix_try_kit", "try_kit", ["kit_id", "tested_at"])
    op.alter_column("job", "employer_id", existing_type=sa.Uuid(as_uuid=False), nullable=True)
    op.add_column("try_result", sa.Column("method", sa.String(20), nullable=False, server_default="ambient_count"))
    op.add_column("wear_permission", sa.Column("method", sa.String(20), nullable=False, server_default="ambient_count"))
    op.add_column("wear_permission", sa.Column("limits", mysql.JSON(), nullable=False, server_default="[]"))


def downgrade() -> None:
    op.drop_column("wear_permission", "limits")
    op.drop_column("wear_permission", "method")
    op.drop_column("try_result", "method")
    for table in ("try_kit", "wearer_link", "caution", "nebuliser_check", "nebuliser_filling", "nebuliser", "lot"):
        op.drop_table(table)
