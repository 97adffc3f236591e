"""Read models."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "visit_summary",
        sa.Column("visit_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("employer_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("site_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("person_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("bench", sa.String(length=80), nullable=False),
        sa.Column("step", sa.String(length=20), nullable=False),
        sa.Column("doing", sa.String(length=190), nullable=False),
        sa.Column("verdict", sa.String(length=12), nullable=False),
        sa.Column("tries", sa.Integer(), nullable=False),
        sa.Column("facepiece", sa.String(length=190), nullable=False),
        sa.Column("loops_open", sa.Integer(), nullable=False),
        sa.Column("is_practice", sa.Boolean(), nullable=False),
        sa.Column("is_sealed", sa.Boolean(), nullable=False),
        sa.Column("closed", sa.String(length=12), nullable=False),
        sa.Column("opened_at", mysql.DATETIME(fsp=3), nullable=False),
        sa.Column("last_at", mysql.DATETIME(fsp=3), nullable=False),
        sa.Column("source_seq", sa.Integer(), nullable=False),
        sa.Column("fold_version", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("visit_id"),
    )
    op.create_index("ix_summary_today", "visit_summary", ["employer_id", "closed", "opened_at"], unique=False)
    op.create_index(("ix_visit_summary_person_id"), "visit_summary", ["person_id"], unique=False)
    op.create_table(
        "try_result",
        sa.Column("visit_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("no", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("run_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("employer_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("person_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("model_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("model", sa.String(length=250), nullable=False),
        sa.Column("size", sa.String(length=40), nullable=False),
        sa.Column("configuration", sa.String(length=64), nullable=False),
        sa.Column("outcome", sa.String(length=12), nullable=False),
        sa.Column("overall", sa.String(length=30), nullable=False),
        sa.Column("level", sa.String(length=30), nullable=False),
        sa.Column("is_practice", sa.Boolean(), nullable=False),
        sa.Column("is_sealed", sa.Boolean(), nullable=False),
        sa.Column("tested_at", mysql.DATETIME(fsp=3), nullable=False),
        sa.Column("source_seq", sa.Integer(), nullable=False),
        sa.Column("fold_version", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("visit_id", "no"),
    )
    op.create_index("ix_try_person", "try_result", ["person_id", "configuration", "tested_at"], unique=False)
    op.create_index(
        "ix_try_results", "try_result", ["employer_id", "is_practice", "is_sealed", "model_id", "size"], unique=False
    )
    op.create_table(
        "wear_permission",
        sa.Column("visit_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("configuration", sa.String(length=64), nullable=False),
        sa.Column("employer_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("person_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("model_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("model", sa.String(length=250), nullable=False),
        sa.Column("size", sa.String(length=40), nullable=False),
        sa.Column("setup", sa.String(length=250), nullable=False),
        sa.Column("overall", sa.String(length=30), nullable=False),
        sa.Column("tested_at", mysql.DATETIME(fsp=3), nullable=False),
        sa.Column("valid_from", sa.Date(), nullable=False),
        sa.Column("valid_until", sa.Date(), nullable=False),
        sa.Column("source_seq", sa.Integer(), nullable=False),
        sa.Column("fold_version", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("visit_id", "configuration"),
    )
    op.create_index(("ix_wear_permission_person_id"), "wear_permission", ["person_id"], unique=False)


def downgrade() -> None:
    op.drop_table("wear_permission")
    op.drop_table("try_result")
    op.drop_table("visit_summary")
