"""What somebody said has changed about a person, the codes of cards, and crews."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.mysql import DATETIME

revision = "0029"
down_revision = "0028"
branch_labels = None
depends_on = None

MOMENT = DATETIME(fsp=3)


def upgrade() -> None:
    """Add the tables."""
    op.create_table(
        "change_report",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("person_id", sa.Uuid(), sa.ForeignKey("person.id"), nullable=False),
        sa.Column("employer_id", sa.Uuid(), nullable=False),
        sa.Column("kind", sa.String(12), nullable=False),
        sa.Column("configuration", sa.String(64), nullable=False),
        sa.Column("setup", sa.String(250), nullable=False),
        sa.Column("on_day", sa.Date(), nullable=False),
        sa.Column("doubted_from", MOMENT, nullable=False),
        sa.Column("said_by", sa.String(12), nullable=False),
        sa.Column("words", sa.String(200), nullable=False),
        sa.Column("account_id", sa.Uuid(), nullable=False),
        sa.Column("entered_at", MOMENT, nullable=False),
        sa.Column("withdrawn_at", MOMENT, nullable=True),
        sa.Column("withdrawn_by", sa.String(190), nullable=False, server_default=""),
        sa.Column("withdrawn_why", sa.String(400), nullable=False, server_default=""),
        sa.Index("ix_change_report", "person_id", "entered_at"),
        sa.Index("ix_change_report_employer", "employer_id", "entered_at"),
    )
    op.create_table(
        "card_code",
        sa.Column("code", sa.String(16), primary_key=True),
        sa.Column("visit_id", sa.Uuid(), sa.ForeignKey("visit.id"), nullable=False, unique=True),
        sa.Column("made_at", MOMENT, nullable=False),
    )
    op.create_table(
        "code_try",
        sa.Column("id", sa.BigInteger(), primary_key=True, autoincrement=True),
        sa.Column("address", sa.String(64), nullable=False),
        sa.Column("at", MOMENT, nullable=False, index=True),
        sa.Index("ix_code_try", "address", "at"),
    )
    op.create_table(
        "crew",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("site_id", sa.Uuid(), sa.ForeignKey("site.id"), nullable=False),
        sa.Column("name", sa.String(190), nullable=False),
        sa.Column("people", sa.JSON(), nullable=False),
        sa.UniqueConstraint("site_id", "name", name="uq_crew"),
    )
    op.create_table(
        "calendar_feed",
        sa.Column("account_id", sa.Uuid(), sa.ForeignKey("account.id"), primary_key=True),
        sa.Column("site_id", sa.Uuid(), sa.ForeignKey("site.id"), primary_key=True),
        sa.Column("digest", sa.String(64), nullable=False, unique=True),
        sa.Column("made_at", MOMENT, nullable=False),
    )


def downgrade() -> None:
    """Take them out."""
    for one in ("calendar_feed", "crew", "code_try", "card_code", "change_report"):
        op.drop_table(one)
