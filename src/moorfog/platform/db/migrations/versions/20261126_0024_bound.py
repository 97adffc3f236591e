"""A wearer's address is bound to the screen that opens it first."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0024"
down_revision = "0023"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add the screen's digest; an address that is open now is bound by whoever asks next."""
    op.add_column("wearer_link", sa.Column("screen", sa.String(64), nullable=True))


def downgrade() -> None:
    """Take it out."""
    op.drop_column("wearer_link", "screen")
