"""Facepiece versions and counters."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "facepiece_version",
        sa.Column("id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("model_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("maker", sa.String(length=120), nullable=False),
        sa.Column("model", sa.String(length=120), nullable=False),
        sa.Column("kind", sa.String(length=40), nullable=False),
        sa.Column("content", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("model_id", "version", name="uq_model_version"),
    )
    op.create_index(("ix_facepiece_version_model_id"), "facepiece_version", ["model_id"], unique=False)
    op.create_table(
        "instrument",
        sa.Column("id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("employer_id", sa.Uuid(as_uuid=False), nullable=True),
        sa.Column("name", sa.String(length=80), nullable=False),
        sa.Column("content", sa.JSON(), nullable=False),
        sa.Column("is_simulated", sa.Boolean(), nullable=False),
        sa.Column("link_token_digest", sa.String(length=64), nullable=False),
        sa.Column("seen_at", mysql.DATETIME(fsp=3), nullable=True),
        sa.Column("live", sa.JSON(), nullable=True),
        sa.ForeignKeyConstraint(
            ["employer_id"],
            ["employer.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(("ix_instrument_link_token_digest"), "instrument", ["link_token_digest"], unique=False)
    op.create_table(
        "instrument_check",
        sa.Column("id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("instrument_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("name", sa.String(length=30), nullable=False),
        sa.Column("value", sa.String(length=30), nullable=False),
        sa.Column("limit", sa.String(length=30), nullable=False),
        sa.Column("passed", sa.Boolean(), nullable=False),
        sa.Column("checked_at", mysql.DATETIME(fsp=3), nullable=False),
        sa.Column("actor", sa.String(length=80), nullable=False),
        sa.ForeignKeyConstraint(
            ["instrument_id"],
            ["instrument.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_check_latest", "instrument_check", ["instrument_id", "checked_at"], unique=False)


def downgrade() -> None:
    op.drop_table("instrument_check")
    op.drop_table("instrument")
    op.drop_table("facepiece_version")
