"""What a site says in writing of results of before."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.mysql import DATETIME

from moorfog.platform.log.touching import touching_before

revision = "0032"
down_revision = "0031"
branch_labels = None
depends_on = None

MOMENT = DATETIME(fsp=3)


def upgrade() -> None:
    """Add it; whom it is about is marked stale by triggers, as with every other fact."""
    op.create_table(
        "history_word",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("site_id", sa.Uuid(), sa.ForeignKey("site.id"), nullable=False),
        sa.Column("model", sa.String(190), nullable=False),
        sa.Column("size", sa.String(40), nullable=False),
        sa.Column("piece", sa.JSON(), nullable=False),
        sa.Column("setup", sa.String(250), nullable=False),
        sa.Column("why", sa.String(400), nullable=False),
        sa.Column("said_by", sa.String(190), nullable=False),
        sa.Column("said_on", sa.Date(), nullable=False),
        sa.Column("said_at", MOMENT, nullable=False),
        sa.Column("account_id", sa.Uuid(), nullable=False),
        sa.Column("withdrawn_at", MOMENT, nullable=True),
        sa.Column("withdrawn_by", sa.String(190), nullable=False, server_default=""),
        sa.Column("withdrawn_why", sa.String(400), nullable=False, server_default=""),
        sa.Index("ix_history_word", "site_id", "said_at"),
    )
    for statement in touching_before().values():
        op.execute(statement)


def downgrade() -> None:
    """Nobody wears anything on the strength of history any more."""
    for name in touching_before():
        op.execute(f"DROP TRIGGER IF EXISTS {name}")
    op.drop_table("history_word")
    op.execute("UPDATE standing SET rev = rev + 1, is_stale = 1")
