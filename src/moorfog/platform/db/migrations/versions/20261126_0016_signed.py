"""What both have signed is called signed; sealed are the readings of a run."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None

TABLES = ("visit_summary", "try_result")


def upgrade() -> None:
    """Rename the columns."""
    for table in TABLES:
        op.alter_column(
            table, "is_sealed", new_column_name="is_signed", existing_type=sa.Boolean(), existing_nullable=False
        )


def downgrade() -> None:
    """Rename them back."""
    for table in TABLES:
        op.alter_column(
            table, "is_signed", new_column_name="is_sealed", existing_type=sa.Boolean(), existing_nullable=False
        )
