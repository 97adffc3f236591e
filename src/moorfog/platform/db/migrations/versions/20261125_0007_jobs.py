"""Long jobs with progress and cancelling, and acknowledged seal failures."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "job",
        sa.Column("id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("kind", sa.String(30), nullable=False),
        sa.Column("state", sa.String(12), nullable=False),
        sa.Column("done", sa.Integer(), nullable=False),
        sa.Column("total", sa.Integer(), nullable=False),
        sa.Column("wants_cancel", sa.Boolean(), nullable=False),
        sa.Column("message", sa.String(400), nullable=False),
        sa.Column("employer_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("account_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("content", mysql.LONGTEXT(), nullable=False),
        sa.Column("made_at", mysql.DATETIME(fsp=3), nullable=False),
        sa.Column("heartbeat_at", mysql.DATETIME(fsp=3), nullable=True),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_job_state", "job", ["state", "made_at"])
    op.create_table(
        "seal_notice",
        sa.Column("visit_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("account_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("acknowledged_at", mysql.DATETIME(fsp=3), nullable=False),
        sa.Column("fails", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("visit_id"),
        sa.ForeignKeyConstraint(["visit_id"], ["visit.id"]),
    )
    op.add_column("visit_summary", sa.Column("seal_fails", sa.Integer(), nullable=False, server_default="0"))
    op.add_column("visit_summary", sa.Column("ready_at", mysql.DATETIME(fsp=3), nullable=True))
    op.create_index("ix_summary_seal", "visit_summary", ["employer_id", "seal_fails"])


def downgrade() -> None:
    op.drop_index("ix_summary_seal", "visit_summary")
    op.drop_column("visit_summary", "ready_at")
    op.drop_column("visit_summary", "seal_fails")
    op.drop_table("seal_notice")
    op.drop_table("job")
