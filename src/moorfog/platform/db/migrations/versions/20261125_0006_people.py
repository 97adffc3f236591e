"""Contact, words to search by, clearance, training and measurements of people."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("person", sa.Column("contact", sa.String(190), nullable=False, server_default=""))
    op.create_table(
        "person_word",
        sa.Column("employer_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("word", sa.String(60, collation="utf8mb4_bin"), nullable=False),
        sa.Column("person_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.PrimaryKeyConstraint("employer_id", "word", "person_id"),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], ondelete="CASCADE"),
    )
    op.create_index("ix_person_word", "person_word", ["person_id"])
    op.create_index("ix_word", "person_word", ["word"])
    for name, columns in (
        (
            "clearance",
            (
                sa.Column("status", sa.String(20), nullable=False),
                sa.Column("limits", sa.JSON(), nullable=False),
                sa.Column("valid_from", sa.Date(), nullable=False),
                sa.Column("valid_until", sa.Date(), nullable=True),
                sa.Column("by_whom", sa.String(190), nullable=False),
            ),
        ),
        (
            "training",
            (sa.Column("trained_on", sa.Date(), nullable=False), sa.Column("what", sa.String(190), nullable=False)),
        ),
        (
            "measurement",
            (
                sa.Column("readings", sa.JSON(), nullable=False),
                sa.Column("face_length", sa.Integer(), nullable=True),
                sa.Column("face_width", sa.Integer(), nullable=True),
                sa.Column("lip_length", sa.Integer(), nullable=True),
            ),
        ),
    ):
        op.create_table(
            name,
            sa.Column("id", sa.Uuid(as_uuid=False), nullable=False),
            sa.Column("person_id", sa.Uuid(as_uuid=False), nullable=False),
            *columns,
            sa.Column("account_id", sa.Uuid(as_uuid=False), nullable=False),
            sa.Column("entered_at", mysql.DATETIME(fsp=3), nullable=False),
            sa.PrimaryKeyConstraint("id"),
            sa.ForeignKeyConstraint(["person_id"], ["person.id"]),
        )
        op.create_index(f"ix_{name}_person", name, ["person_id", "entered_at"])


def downgrade() -> None:
    for name in ("measurement", "training", "clearance", "person_word"):
        op.drop_table(name)
    op.drop_column("person", "contact")
