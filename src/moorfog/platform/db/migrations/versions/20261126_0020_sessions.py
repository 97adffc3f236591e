"""Sessions end when nobody does anything; addresses an account has signed in from are known."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.mysql import DATETIME

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add the moment and the table; sessions of before were active when they began."""
    op.add_column("sign_in_session", sa.Column("active_at", DATETIME(fsp=3), nullable=True))
    op.execute("UPDATE sign_in_session SET active_at = created_at")
    op.alter_column("sign_in_session", "active_at", existing_type=DATETIME(fsp=3), nullable=False)
    op.create_table(
        "known_address",
        sa.Column("account_id", sa.Uuid(), sa.ForeignKey("account.id"), primary_key=True),
        sa.Column("address", sa.String(64), primary_key=True),
        sa.Column("at", DATETIME(fsp=3), nullable=False),
    )


def downgrade() -> None:
    """Take both out."""
    op.drop_table("known_address")
    op.drop_column("sign_in_session", "active_at")
