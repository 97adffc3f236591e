"""Kit belongs to an employer or is lent to named ones: what nobody owned was everybody's, and is lent to each of them."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.mysql import DATETIME

revision = "0023"
down_revision = "0022"
branch_labels = None
depends_on = None

KIT = ("instrument", "lot", "nebuliser", "sampling_part")


def upgrade() -> None:
    """Add the table; lend what nobody owned to the employers there are."""
    op.create_table(
        "kit_lent",
        sa.Column("kit_id", sa.Uuid(), primary_key=True),
        sa.Column("employer_id", sa.Uuid(), sa.ForeignKey("employer.id"), primary_key=True),
        sa.Column("lent_by", sa.String(190), nullable=False),
        sa.Column("lent_at", DATETIME(fsp=3), nullable=False),
    )
    op.create_index("ix_lent_to", "kit_lent", ["employer_id"])
    for table in KIT:
        op.execute(
            "INSERT INTO kit_lent (kit_id, employer_id, lent_by, lent_at) "
            f"SELECT k.id, e.id, 'as before', UTC_TIMESTAMP(3) FROM {table} k CROSS JOIN employer e "
            "WHERE k.employer_id IS NULL"
        )


def downgrade() -> None:
    """Take it out: what nobody owns is everybody's again."""
    op.drop_table("kit_lent")
