"""What is counted and worked out beforehand, and the indexes of lists that a day is read from."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.mysql import DATETIME, LONGBLOB, MEDIUMTEXT

from moorfog.platform.log.touching import touching

revision = "0030"
down_revision = "0029"
branch_labels = None
depends_on = None

MOMENT = DATETIME(fsp=3)
NOW = sa.text("CURRENT_TIMESTAMP(3)")
READ_MODELS = ("visit_summary", "try_result", "try_kit", "permission_end", "wear_permission")
INDEXES = {
    "ix_summary_open": ("visit_summary", ("closed", "is_practice", "opened_at")),
    "ix_summary_last": ("visit_summary", ("last_at",)),
    "ix_summary_question": ("visit_summary", ("under_question", "last_at")),
    "ix_summary_notice": ("visit_summary", ("seal_open", "last_at")),
    "ix_summary_changed": ("visit_summary", ("changed_at",)),
    "ix_try_all": ("try_result", ("tested_at", "visit_id", "no")),
    "ix_try_employer": ("try_result", ("employer_id", "tested_at", "visit_id", "no")),
    "ix_try_site": ("try_result", ("site_id", "tested_at", "visit_id", "no")),
    "ix_try_model": ("try_result", ("model_id", "size", "tested_at", "visit_id", "no")),
    "ix_try_tester": ("try_result", ("tester_id", "tested_at", "visit_id", "no")),
    "ix_person_all": ("person", ("name", "id")),
    "ix_permission_model": ("wear_permission", ("model_id", "size", "valid_until")),
}
TOLD = {"tester_id": 80, "protocol_id": 60, "book": 60}
NO_MORE = {
    "ix_summary_today": ("visit_summary", ("employer_id", "closed", "opened_at")),
    "ix_summary_seal": ("visit_summary", ("employer_id", "seal_fails")),
    "ix_try_results": ("try_result", ("employer_id", "is_practice", "is_signed", "model_id", "size")),
}


def upgrade() -> None:
    """Add the tables; read models are refilled at the next start, as by a program that folds otherwise."""
    op.create_table(
        "standing",
        sa.Column("person_id", sa.Uuid(), primary_key=True),
        sa.Column("site_id", sa.Uuid(), nullable=False),
        sa.Column("is_here", sa.Boolean(), nullable=False),
        sa.Column("rev", sa.Integer(), nullable=False),
        sa.Column("is_stale", sa.Boolean(), nullable=False),
        sa.Column("has_passed", sa.Boolean(), nullable=False),
        sa.Column("until", sa.Date(), nullable=True),
        sa.Column("is_only", sa.Boolean(), nullable=False),
        sa.Column("look_again", sa.Date(), nullable=True),
        sa.Index("ix_standing_due", "site_id", "is_here", "has_passed", "until", "is_only", "person_id"),
        sa.Index("ix_standing_stale", "is_here", "is_stale", "site_id"),
        sa.Index("ix_standing_again", "is_here", "look_again", "site_id"),
    )
    op.create_table(
        "standing_by",
        sa.Column("id", sa.Integer(), primary_key=True, autoincrement=False),
        sa.Column("made_by", sa.String(64), nullable=False),
    )
    op.create_table(
        "result_unit",
        sa.Column("visit_id", sa.Uuid(), primary_key=True),
        sa.Column("model_id", sa.Uuid(), primary_key=True),
        sa.Column("size", sa.String(40), primary_key=True),
        sa.Column("method", sa.String(20), primary_key=True),
        sa.Column("employer_id", sa.Uuid(), nullable=False),
        sa.Column("site_id", sa.Uuid(), nullable=False),
        sa.Column("person_id", sa.Uuid(), nullable=False),
        sa.Column("model", sa.String(250), nullable=False),
        sa.Column("task", sa.String(190), nullable=False),
        sa.Column("day", sa.Date(), nullable=False),
        sa.Column("seq", sa.Integer(), nullable=False),
        sa.Column("outcome", sa.String(12), nullable=False),
        sa.Column("first", sa.String(12), nullable=False),
        sa.Column("overall", sa.String(30), nullable=False),
        sa.Column("is_sensed", sa.Boolean(), nullable=False),
        sa.Column("tested_at", MOMENT, nullable=False),
        sa.Column("source_seq", sa.Integer(), nullable=False),
        sa.Column("fold_version", sa.Integer(), nullable=False),
        sa.Index("ix_unit_counted", "model_id", "size", "method", "tested_at", "visit_id"),
        sa.Index("ix_unit_day", "day"),
        sa.Index("ix_unit_employer", "employer_id", "model_id", "size", "method", "tested_at", "visit_id"),
    )
    op.create_table(
        "result_count",
        sa.Column("place", sa.String(36), primary_key=True),
        sa.Column("method", sa.String(20), primary_key=True),
        sa.Column("period", sa.String(10), primary_key=True),
        sa.Column("model_id", sa.Uuid(), primary_key=True),
        sa.Column("size", sa.String(40), primary_key=True),
        sa.Column("model", sa.String(250), nullable=False),
        *(sa.Column(name, sa.Integer(), nullable=False) for name in ("tested", "passed", "passed_first", "sensed")),
    )
    op.create_table(
        "gate_link",
        sa.Column("digest", sa.String(64), primary_key=True),
        sa.Column("site_id", sa.Uuid(), sa.ForeignKey("site.id"), nullable=False),
        sa.Column("account_id", sa.Uuid(), sa.ForeignKey("account.id"), nullable=False),
        sa.Column("asked", MEDIUMTEXT(), nullable=False),
        sa.Column("expires_at", MOMENT, nullable=False, index=True),
    )
    op.create_table(
        "history_result",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("person_id", sa.Uuid(), sa.ForeignKey("person.id"), nullable=False),
        sa.Column("employer_id", sa.Uuid(), nullable=False),
        sa.Column("tested_on", sa.Date(), nullable=False),
        sa.Column("model", sa.String(190), nullable=False),
        sa.Column("size", sa.String(40), nullable=False),
        sa.Column("method", sa.String(190), nullable=False),
        sa.Column("result", sa.String(40), nullable=False),
        sa.Column("factor", sa.String(30), nullable=False),
        sa.Column("tester", sa.String(190), nullable=False),
        sa.Column("source", sa.String(190), nullable=False),
        sa.Column("digest", sa.String(64), nullable=False, unique=True),
        sa.Column("account_id", sa.Uuid(), nullable=False),
        sa.Column("entered_at", MOMENT, nullable=False),
        sa.Index("ix_history_person", "person_id", "tested_on"),
    )
    op.create_table(
        "mail",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("kind", sa.String(12), nullable=False),
        sa.Column("employer_id", sa.Uuid(), sa.ForeignKey("employer.id"), nullable=False),
        sa.Column("person_id", sa.Uuid(), sa.ForeignKey("person.id"), nullable=False),
        sa.Column("account_id", sa.Uuid(), nullable=False),
        sa.Column("to_address", sa.String(190), nullable=False),
        sa.Column("subject", sa.String(190), nullable=False),
        sa.Column("body", MEDIUMTEXT(), nullable=False),
        sa.Column("file_name", sa.String(120), nullable=False),
        sa.Column("file", LONGBLOB(), nullable=False),
        sa.Column("state", sa.String(8), nullable=False),
        sa.Column("attempts", sa.Integer(), nullable=False),
        sa.Column("problem", sa.String(400), nullable=False),
        sa.Column("made_at", MOMENT, nullable=False),
        sa.Column("next_at", MOMENT, nullable=False),
        sa.Column("sent_at", MOMENT, nullable=True),
        sa.Index("ix_mail_next", "state", "next_at"),
        sa.Index("ix_mail_employer", "employer_id", "made_at"),
        sa.Index("ix_mail_person", "person_id", "kind", "made_at"),
        sa.Index("ix_mail_made", "made_at"),
    )
    op.create_table(
        "job_file",
        sa.Column("job_id", sa.Uuid(), sa.ForeignKey("job.id"), primary_key=True),
        sa.Column("name", sa.String(120), nullable=False),
        sa.Column("media", sa.String(80), nullable=False),
        sa.Column("content", LONGBLOB(), nullable=False),
        sa.Column("made_at", MOMENT, nullable=False, index=True),
    )
    op.add_column("visit_summary", sa.Column("seal_open", sa.Boolean(), nullable=False, server_default=sa.text("0")))
    op.add_column("visit_summary", sa.Column("changed_at", MOMENT, nullable=False, server_default=NOW))
    op.add_column("try_result", sa.Column("site_id", sa.Uuid(), nullable=True))
    for name, length in TOLD.items():
        op.add_column("try_result", sa.Column(name, sa.String(length), nullable=False, server_default=""))
    for name, (table, columns) in INDEXES.items():
        op.create_index(name, table, list(columns))
    for name, (table, _) in NO_MORE.items():
        op.drop_index(name, table)
    for table in READ_MODELS:
        op.execute(f"UPDATE {table} SET fold_version = 0")
    op.execute(
        "INSERT INTO standing (person_id, site_id, is_here, rev, is_stale, has_passed, is_only) "
        "SELECT id, site_id, left_on IS NULL AND merged_into IS NULL AND erased_at IS NULL, 0, 1, 0, 0 FROM person"
    )
    for statement in touching().values():
        op.execute(statement)


def downgrade() -> None:
    """Take them out."""
    for name in touching():
        op.execute(f"DROP TRIGGER IF EXISTS {name}")
    for name, (table, columns) in NO_MORE.items():
        op.create_index(name, table, list(columns))
    for name, (table, _) in INDEXES.items():
        op.drop_index(name, table)
    for name in ("site_id", *TOLD):
        op.drop_column("try_result", name)
    op.drop_column("visit_summary", "changed_at")
    op.drop_column("visit_summary", "seal_open")
    for table in (
        "history_result",
        "mail",
        "gate_link",
        "job_file",
        "result_count",
        "result_unit",
        "standing_by",
        "standing",
    ):
        op.drop_table(table)
