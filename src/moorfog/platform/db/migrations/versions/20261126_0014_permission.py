"""Who may wear what: the facts behind a pass, what ended one, kit found wrong afterwards, records under question."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None

ID = sa.Uuid(as_uuid=False)
MOMENT = mysql.DATETIME(fsp=3)


def upgrade() -> None:
    op.add_column("visit_summary", sa.Column("under_question", sa.Boolean, nullable=False, server_default=sa.false()))
    op.add_column("wear_permission", sa.Column("no", sa.Integer, nullable=False, server_default="0"))
    op.add_column("wear_permission", sa.Column("facts", sa.JSON, nullable=True))
    op.add_column("facepiece_version", sa.Column("withdrawn_at", MOMENT, nullable=True))
    op.create_table(
        "permission_end",
        sa.Column("visit_id", ID, primary_key=True),
        sa.Column("no", sa.Integer, primary_key=True, autoincrement=False),
        sa.Column("configuration", sa.String(64), primary_key=True),
        sa.Column("person_id", ID, primary_key=True),
        sa.Column("employer_id", ID, nullable=False),
        sa.Column("why", sa.String(250), nullable=False),
        sa.Column("ended_at", MOMENT, nullable=False),
        sa.Column("source_seq", sa.Integer, nullable=False),
        sa.Column("fold_version", sa.Integer, nullable=False),
    )
    op.create_index("ix_end_person", "permission_end", ["person_id", "configuration", "ended_at"])
    op.create_table(
        "kit_recall",
        sa.Column("id", ID, primary_key=True),
        sa.Column("kit_kind", sa.String(20), nullable=False),
        sa.Column("kit_id", ID, nullable=False),
        sa.Column("kit_name", sa.String(190), nullable=False),
        sa.Column("check_name", sa.String(30), nullable=False),
        sa.Column("what", sa.String(400), nullable=False),
        sa.Column("employer_id", ID, nullable=True),
        sa.Column("since", MOMENT, nullable=True),
        sa.Column("until", MOMENT, nullable=False),
        sa.Column("state", sa.String(12), nullable=False),
        sa.Column("opened_by", sa.String(80), nullable=False),
        sa.Column("settled_by", sa.String(190), nullable=False, server_default=""),
        sa.Column("settled_at", MOMENT, nullable=True),
        sa.Column("reason", sa.String(400), nullable=False, server_default=""),
        sa.Column("job_id", ID, nullable=True),
    )
    op.create_index("ix_recall_kit", "kit_recall", ["kit_id", "state"])
    op.create_index("ix_recall_state", "kit_recall", ["state", "until"])


def downgrade() -> None:
    op.drop_table("kit_recall")
    op.drop_table("permission_end")
    op.drop_column("facepiece_version", "withdrawn_at")
    op.drop_column("wear_permission", "facts")
    op.drop_column("wear_permission", "no")
    op.drop_column("visit_summary", "under_question")
