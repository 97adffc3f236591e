"""A browser is found by an index among all places that somebody has signed in from."""

from __future__ import annotations

from alembic import op

revision = "0038"
down_revision = "0037"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Sign-in asks whether anybody has used a browser before, whoever that was."""
    op.create_index("ix_known_address_address", "known_address", ["address"])


def downgrade() -> None:
    """It reads the whole table again."""
    op.drop_index("ix_known_address_address", "known_address")
