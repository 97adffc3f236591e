"""A token says whether a program only reads by it, or enters people and papers, too."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0037"
down_revision = "0036"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Every token that there is only reads."""
    op.add_column("api_token", sa.Column("may", sa.String(8), nullable=False, server_default="read"))


def downgrade() -> None:
    """All only read again; those that wrote, too."""
    op.drop_column("api_token", "may")
