"""A job counts how often it was taken up, so that one that ends its worker is not tried for ever."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add the count; jobs of before begin at none."""
    op.add_column("job", sa.Column("attempts", sa.Integer(), nullable=False, server_default="0"))
    op.alter_column("job", "attempts", server_default=None, existing_type=sa.Integer(), existing_nullable=False)


def downgrade() -> None:
    """Take it out again."""
    op.drop_column("job", "attempts")
