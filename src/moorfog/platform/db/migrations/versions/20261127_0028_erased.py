"""What a site says of itself besides, and how somebody's personal data are erased."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.mysql import DATETIME, MEDIUMTEXT

from moorfog.platform.db.guards import erasable, guards, no_guards

revision = "0028"
down_revision = "0027"
branch_labels = None
depends_on = None

MOMENT = DATETIME(fsp=3)
GUARDED = ("site_terms", "erased")
EMPTIED = {"signature": ("typed_name", "canonical"), "document": ("content",)}
KEPT = {
    "signature": ("id", "visit_id", "revision", "role", "signed_at"),
    "document": ("id", "visit_id", "revision", "page_size", "sha256", "issued_at"),
}


def upgrade() -> None:
    """Add the tables, and let what was signed or issued be emptied where its erasure stands written down."""
    op.add_column("site", sa.Column("notice_days", sa.Integer(), nullable=True))
    op.add_column("site", sa.Column("keep_months", sa.Integer(), nullable=True))
    op.add_column("person", sa.Column("erased_at", MOMENT, nullable=True))
    op.create_table(
        "site_terms",
        sa.Column("site_id", sa.Uuid(), sa.ForeignKey("site.id"), primary_key=True),
        sa.Column("no", sa.Integer(), primary_key=True, autoincrement=False),
        sa.Column("text", MEDIUMTEXT(), nullable=False),
        sa.Column("by_name", sa.String(190), nullable=False),
        sa.Column("entered_at", MOMENT, nullable=False),
    )
    op.create_table(
        "erased",
        sa.Column("row_id", sa.Uuid(), primary_key=True),
        sa.Column("kind", sa.String(20), nullable=False),
        sa.Column("person_id", sa.Uuid(), nullable=False, index=True),
        sa.Column("account_id", sa.Uuid(), nullable=False),
        sa.Column("erased_at", MOMENT, nullable=False),
    )
    for one in guards(GUARDED):
        op.execute(one)
    for table, emptied in EMPTIED.items():
        op.execute(f"DROP TRIGGER IF EXISTS {table}_no_update")
        op.execute(erasable(table, emptied, KEPT[table]))


def downgrade() -> None:
    """Take them out."""
    for table in EMPTIED:
        op.execute(f"DROP TRIGGER IF EXISTS {table}_no_update")
        op.execute(guards([table])[0])
    for one in no_guards(GUARDED):
        op.execute(one)
    for table in GUARDED:
        op.drop_table(table)
    op.drop_column("person", "erased_at")
    op.drop_column("site", "keep_months")
    op.drop_column("site", "notice_days")
