"""The worker's rounds, the order of days in an employer's tables, and where colleagues are written to."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.mysql import DATETIME

revision = "0031"
down_revision = "0030"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add them; a letter may be to a colleague, and says which visit its paper is of."""
    op.create_table(
        "worker_round",
        sa.Column("id", sa.SmallInteger(), primary_key=True, autoincrement=False),
        sa.Column("at", DATETIME(fsp=3), nullable=False),
    )
    op.add_column("employer", sa.Column("day_order", sa.String(3), nullable=False, server_default=""))
    op.add_column("account", sa.Column("address", sa.String(190), nullable=False, server_default=""))
    op.add_column("account", sa.Column("due_notice", sa.String(8), nullable=False, server_default=""))
    op.add_column("account", sa.Column("noticed_on", sa.Date(), nullable=True))
    op.alter_column("mail", "person_id", existing_type=sa.Uuid(), nullable=True)
    op.add_column("mail", sa.Column("visit_id", sa.Uuid(), nullable=True))


def downgrade() -> None:
    """Letters to colleagues go with it."""
    op.execute("DELETE FROM mail WHERE person_id IS NULL")
    op.drop_column("mail", "visit_id")
    op.alter_column("mail", "person_id", existing_type=sa.Uuid(), nullable=False)
    for name in ("noticed_on", "due_notice", "address"):
        op.drop_column("account", name)
    op.drop_column("employer", "day_order")
    op.drop_table("worker_round")
