"""What is fitted for a test only is called an alteration; where practice differs a site follows a policy."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None

POLICIES = ("shave", "seal_check")


def _rename(column: str, to: str, of: str, becomes: str) -> None:
    op.alter_column("visit_summary", column, new_column_name=to, existing_type=sa.Integer(), existing_nullable=False)
    rule = sa.table("site_rule", sa.column("key", sa.String))
    for one in POLICIES:
        op.execute(rule.update().where(rule.c.key == f"{one}.{of}").values(key=f"{one}.{becomes}"))


def upgrade() -> None:
    """Rename the column, and the keys of what sites entered."""
    _rename("loops_open", "alterations_open", "school", "policy")


def downgrade() -> None:
    """Rename them back."""
    _rename("alterations_open", "loops_open", "policy", "school")
