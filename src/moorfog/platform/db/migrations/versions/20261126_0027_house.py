"""An installation of one's own: set-up, invitations, second factor, competence, calibrations, tokens, the journal."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.mysql import DATETIME, MEDIUMTEXT

from moorfog.platform.db.guards import guards, no_guards

revision = "0027"
down_revision = "0026"
branch_labels = None
depends_on = None

MOMENT = DATETIME(fsp=3)
TABLES = (
    "organisation",
    "setup_code",
    "invitation",
    "recovery_code",
    "competence",
    "calibration",
    "journal_head",
    "journal",
    "journal_detail",
    "api_token",
)
FIRST = "0" * 64


def upgrade() -> None:
    """Add the tables, and what accounts, places, people and instruments need besides."""
    op.create_table(
        "organisation",
        sa.Column("id", sa.Integer(), primary_key=True, autoincrement=False),
        sa.Column("name", sa.String(190), nullable=False),
        sa.Column("by_senses_only", sa.Boolean(), nullable=False),
        sa.Column("made_at", MOMENT, nullable=False),
    )
    op.create_table(
        "setup_code",
        sa.Column("id", sa.Integer(), primary_key=True, autoincrement=False),
        sa.Column("digest", sa.String(64), nullable=False),
    )
    op.create_table(
        "invitation",
        sa.Column("digest", sa.String(64), primary_key=True),
        sa.Column("account_id", sa.Uuid(), sa.ForeignKey("account.id"), nullable=False, index=True),
        sa.Column("expires_at", MOMENT, nullable=False, index=True),
    )
    op.create_table(
        "recovery_code",
        sa.Column("digest", sa.String(64), primary_key=True),
        sa.Column("account_id", sa.Uuid(), sa.ForeignKey("account.id"), nullable=False, index=True),
    )
    op.create_table(
        "competence",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("account_id", sa.Uuid(), sa.ForeignKey("account.id"), nullable=False),
        sa.Column("method", sa.String(20), nullable=False),
        sa.Column("begins", sa.Date(), nullable=False),
        sa.Column("ends", sa.Date(), nullable=True),
        sa.Column("shown_by", sa.String(190), nullable=False),
        sa.Column("is_withdrawn", sa.Boolean(), nullable=False),
        sa.Column("entered_at", MOMENT, nullable=False),
        sa.Index("ix_competence", "account_id", "method", "entered_at"),
    )
    op.create_table(
        "calibration",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("instrument_id", sa.Uuid(), sa.ForeignKey("instrument.id"), nullable=False),
        sa.Column("done_on", sa.Date(), nullable=False),
        sa.Column("good_until", sa.Date(), nullable=False),
        sa.Column("certificate", sa.String(190), nullable=False),
        sa.Column("by_whom", sa.String(190), nullable=False),
        sa.Column("account_id", sa.Uuid(), nullable=False),
        sa.Column("entered_at", MOMENT, nullable=False),
        sa.Index("ix_calibration", "instrument_id", "entered_at"),
    )
    head = op.create_table(
        "journal_head",
        sa.Column("id", sa.Integer(), primary_key=True, autoincrement=False),
        sa.Column("no", sa.BigInteger(), nullable=False),
        sa.Column("chain", sa.String(64), nullable=False),
    )
    op.bulk_insert(head, [{"id": 1, "no": 0, "chain": FIRST}])
    op.create_table(
        "journal",
        sa.Column("no", sa.BigInteger(), primary_key=True, autoincrement=False),
        sa.Column("at", MOMENT, nullable=False),
        sa.Column("account_id", sa.String(36), nullable=False),
        sa.Column("deed", sa.String(60), nullable=False),
        sa.Column("subject_kind", sa.String(20), nullable=False),
        sa.Column("subject_id", sa.String(64), nullable=False),
        sa.Column("employer_id", sa.String(36), nullable=False),
        sa.Column("detail", sa.String(64), nullable=False),
        sa.Column("chain", sa.String(64), nullable=False),
        sa.Index("ix_journal_subject", "subject_id", "no"),
        sa.Index("ix_journal_account", "account_id", "no"),
        sa.Index("ix_journal_employer", "employer_id", "no"),
    )
    op.create_table(
        "journal_detail",
        sa.Column("no", sa.BigInteger(), primary_key=True, autoincrement=False),
        sa.Column("salt", sa.String(32), nullable=False),
        sa.Column("content", MEDIUMTEXT(), nullable=False),
    )
    op.create_table(
        "api_token",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("digest", sa.String(64), nullable=False, unique=True),
        sa.Column("name", sa.String(80), nullable=False),
        sa.Column("employer_id", sa.Uuid(), sa.ForeignKey("employer.id"), nullable=False, index=True),
        sa.Column("made_by", sa.Uuid(), nullable=False),
        sa.Column("made_at", MOMENT, nullable=False),
        sa.Column("expires_at", MOMENT, nullable=False),
        sa.Column("ended_at", MOMENT, nullable=True),
        sa.Column("used_at", MOMENT, nullable=True),
    )
    op.add_column("account", sa.Column("off_at", MOMENT, nullable=True))
    op.add_column("account", sa.Column("totp_secret", sa.String(64), nullable=True))
    op.add_column("account", sa.Column("totp_on", sa.Boolean(), nullable=False, server_default=sa.text("0")))
    op.add_column("account", sa.Column("totp_step", sa.BigInteger(), nullable=False, server_default=sa.text("0")))
    op.add_column("sign_in_session", sa.Column("address", sa.String(64), nullable=False, server_default=""))
    op.add_column("sign_in_session", sa.Column("agent", sa.String(160), nullable=False, server_default=""))
    op.add_column("employer", sa.Column("archived_at", MOMENT, nullable=True))
    op.add_column("site", sa.Column("archived_at", MOMENT, nullable=True))
    op.add_column("person", sa.Column("left_on", sa.Date(), nullable=True))
    op.add_column("person", sa.Column("merged_into", sa.Uuid(), nullable=True))
    op.create_index("ix_person_merged", "person", ["merged_into"])
    op.add_column("instrument", sa.Column("retired_at", MOMENT, nullable=True))
    op.add_column("instrument", sa.Column("line", sa.String(190), nullable=False, server_default=""))
    op.add_column("instrument", sa.Column("local_token_digest", sa.String(64), nullable=False, server_default=""))
    op.create_index("ix_instrument_local_token_digest", "instrument", ["local_token_digest"])
    for one in guards(["journal"]):
        op.execute(one)


def downgrade() -> None:
    """Take them out."""
    for one in no_guards(["journal"]):
        op.execute(one)
    op.drop_index("ix_instrument_local_token_digest", "instrument")
    op.drop_index("ix_person_merged", "person")
    for table, columns in {
        "instrument": ("retired_at", "line", "local_token_digest"),
        "person": ("left_on", "merged_into"),
        "site": ("archived_at",),
        "employer": ("archived_at",),
        "sign_in_session": ("address", "agent"),
        "account": ("off_at", "totp_secret", "totp_on", "totp_step"),
    }.items():
        for column in columns:
            op.drop_column(table, column)
    for table in reversed(TABLES):
        op.drop_table(table)
