"""Ledgers: what was done and every fact that came of it, by value. What stands here from before is taken over next."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.mysql import DATETIME, MEDIUMTEXT

from moorfog.platform.db.guards import guards, no_guards

revision = "0034"
down_revision = "0033"
branch_labels = None
depends_on = None

MOMENT = DATETIME(fsp=3)
ONCE = ("ledger_entry", "anchored_ledger")
TAKEN_OUT = (
    "CREATE TRIGGER ledger_value_no_delete BEFORE DELETE ON ledger_value FOR EACH ROW BEGIN IF NOT EXISTS ("
    "SELECT 1 FROM ledger_entry e JOIN ledger_entry x ON x.subject = e.subject AND x.ledger = e.ledger AND x.no > e.no "
    "AND x.action = 'erased' AND x.kind = IF(e.action = 'deed', 'deed', e.kind) "
    "WHERE e.ledger = OLD.ledger AND e.no = OLD.no) THEN "
    "SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'what stands in ledger_value is never deleted'; END IF; END"
)

JOURNAL = (
    "CREATE TABLE IF NOT EXISTS journal_head (id INTEGER PRIMARY KEY, no BIGINT NOT NULL, chain VARCHAR(64) NOT NULL)",
    f"INSERT IGNORE INTO journal_head VALUES (1, 0, '{'0' * 64}')",
    "CREATE TABLE IF NOT EXISTS journal (no BIGINT PRIMARY KEY, at DATETIME(3) NOT NULL, account_id VARCHAR(36) "
    "NOT NULL, deed VARCHAR(60) NOT NULL, subject_kind VARCHAR(20) NOT NULL, subject_id VARCHAR(64) NOT NULL, "
    "employer_id VARCHAR(36) NOT NULL, detail VARCHAR(64) NOT NULL, chain VARCHAR(64) NOT NULL, "
    "KEY ix_journal_subject (subject_id, no), KEY ix_journal_account (account_id, no), "
    "KEY ix_journal_employer (employer_id, no))",
    "CREATE TABLE IF NOT EXISTS journal_detail (no BIGINT PRIMARY KEY, salt VARCHAR(32) NOT NULL, "
    "content MEDIUMTEXT NOT NULL)",
)
"""The journal of before, empty: what has become of it stands in the ledgers."""


def upgrade() -> None:
    """Make the tables and their guards; an anchor names the heads of the ledgers too."""
    op.create_table(
        "ledger_head",
        sa.Column("ledger", sa.String(36), primary_key=True),
        sa.Column("no", sa.BigInteger(), nullable=False),
        sa.Column("chain", sa.String(64), nullable=False),
    )
    op.create_table(
        "ledger_entry",
        sa.Column("id", sa.BigInteger(), primary_key=True, autoincrement=True),
        sa.Column("ledger", sa.String(36), nullable=False),
        sa.Column("no", sa.BigInteger(), nullable=False),
        sa.Column("at", MOMENT, nullable=False),
        sa.Column("account_id", sa.String(36), nullable=False),
        sa.Column("deed", sa.String(60), nullable=False),
        sa.Column("action", sa.String(6), nullable=False),
        sa.Column("kind", sa.String(40), nullable=False),
        sa.Column("subject", sa.String(80), nullable=False),
        sa.Column("digest", sa.String(64), nullable=False),
        sa.Column("chain", sa.String(64), nullable=False),
        sa.Column("seal", sa.String(64), nullable=False),
        sa.UniqueConstraint("ledger", "no", name="uq_ledger_entry"),
    )
    op.create_index("ix_ledger_subject", "ledger_entry", ["subject", "kind", "id"])
    op.create_index("ix_ledger_action", "ledger_entry", ["ledger", "action", "id"])
    op.create_index("ix_ledger_account", "ledger_entry", ["account_id", "action", "id"])
    op.create_table(
        "ledger_value",
        sa.Column("ledger", sa.String(36), primary_key=True),
        sa.Column("no", sa.BigInteger(), primary_key=True, autoincrement=False),
        sa.Column("salt", sa.String(32), nullable=False),
        sa.Column("content", MEDIUMTEXT(), nullable=False),
    )
    op.create_table(
        "anchored_ledger",
        sa.Column("ledger", sa.String(36), primary_key=True),
        sa.Column("seq", sa.BigInteger(), primary_key=True, autoincrement=False),
        sa.Column("no", sa.Integer(), nullable=False),
        sa.Column("chain", sa.String(64), nullable=False),
    )
    op.create_index("ix_anchored_ledger_no", "anchored_ledger", ["no"])
    for one in guards(ONCE):
        op.execute(one)
    (no_update, _) = guards(["ledger_value"])
    op.execute(no_update)
    op.execute(TAKEN_OUT)
    op.alter_column("anchor", "content", existing_type=sa.String(400), type_=sa.String(600), existing_nullable=False)


def downgrade() -> None:
    """Take them out; the journal that was taken over does not come back."""
    op.alter_column("anchor", "content", existing_type=sa.String(600), type_=sa.String(400), existing_nullable=False)
    for one in no_guards((*ONCE, "ledger_value")):
        op.execute(one)
    for name in ("anchored_ledger", "ledger_value", "ledger_entry", "ledger_head"):
        op.drop_table(name)
    for one in JOURNAL:
        op.execute(one)
