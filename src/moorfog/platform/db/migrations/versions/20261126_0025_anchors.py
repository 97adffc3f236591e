"""Anchors: the heads of all logs, signed once a day; written once like the logs themselves."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

from moorfog.platform.db.guards import guards, no_guards

revision = "0025"
down_revision = "0024"
branch_labels = None
depends_on = None

TABLES = ("anchor", "anchored", "rule_set")


def upgrade() -> None:
    """Add the two tables and their guards; what the rules were is never changed either."""
    op.create_table(
        "anchor",
        sa.Column("no", sa.Integer(), primary_key=True, autoincrement=False),
        sa.Column("day", sa.String(10), nullable=False),
        sa.Column("content", sa.String(400), nullable=False),
        sa.Column("signature", sa.String(128), nullable=False),
        sa.Column("public_key", sa.String(64), nullable=False),
    )
    op.create_table(
        "anchored",
        sa.Column("visit_id", sa.Uuid(), primary_key=True),
        sa.Column("seq", sa.Integer(), primary_key=True, autoincrement=False),
        sa.Column("no", sa.Integer(), nullable=False),
        sa.Column("chain", sa.String(64), nullable=False),
    )
    op.create_index("ix_anchored_no", "anchored", ["no"])
    for one in guards(TABLES):
        op.execute(one)


def downgrade() -> None:
    """Take them out."""
    for one in no_guards(TABLES):
        op.execute(one)
    op.drop_table("anchored")
    op.drop_table("anchor")
