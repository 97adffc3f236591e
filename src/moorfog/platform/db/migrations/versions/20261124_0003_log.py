"""The log of visits, readings, signatures, documents."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "rule_set",
        sa.Column("digest", sa.String(length=64), nullable=False),
        sa.Column("content", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("digest"),
    )
    op.create_table(
        "visit",
        sa.Column("id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("employer_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("site_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("rules_digest", sa.String(length=64), nullable=False),
        sa.Column("origin", sa.String(length=10), nullable=False),
        sa.Column("seq", sa.Integer(), nullable=False),
        sa.Column("chain", sa.String(length=64), nullable=False),
        sa.ForeignKeyConstraint(
            ["employer_id"],
            ["employer.id"],
        ),
        sa.ForeignKeyConstraint(
            ["rules_digest"],
            ["rule_set.digest"],
        ),
        sa.ForeignKeyConstraint(
            ["site_id"],
            ["site.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(("ix_visit_employer_id"), "visit", ["employer_id"], unique=False)
    op.create_table(
        "event",
        sa.Column("visit_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("seq", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("kind", sa.String(length=40), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("occurred_at", mysql.DATETIME(fsp=3), nullable=False),
        sa.Column("recorded_at", mysql.DATETIME(fsp=3), nullable=False),
        sa.Column("actor", sa.String(length=80), nullable=False),
        sa.Column("payload", mysql.MEDIUMTEXT(), nullable=False),
        sa.Column("proposal_digest", sa.String(length=64), nullable=False),
        sa.Column("chain", sa.String(length=64), nullable=False),
        sa.ForeignKeyConstraint(
            ["visit_id"],
            ["visit.id"],
        ),
        sa.PrimaryKeyConstraint("visit_id", "seq"),
        sa.UniqueConstraint("id"),
    )
    op.create_table(
        "instrument_lease",
        sa.Column("instrument_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("run_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("visit_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("plan", sa.JSON(), nullable=False),
        sa.Column("ends_at", mysql.DATETIME(fsp=3), nullable=False),
        sa.ForeignKeyConstraint(
            ["instrument_id"],
            ["instrument.id"],
        ),
        sa.ForeignKeyConstraint(
            ["visit_id"],
            ["visit.id"],
        ),
        sa.PrimaryKeyConstraint("instrument_id"),
        sa.UniqueConstraint("run_id"),
    )
    op.create_index(("ix_instrument_lease_ends_at"), "instrument_lease", ["ends_at"], unique=False)
    op.create_table(
        "reading_chunk",
        sa.Column("run_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("first", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("n", sa.Integer(), nullable=False),
        sa.Column("instrument_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("columns", mysql.MEDIUMTEXT(), nullable=False),
        sa.Column("received_at", mysql.DATETIME(fsp=3), nullable=False),
        sa.PrimaryKeyConstraint("run_id", "first"),
    )
    op.create_table(
        "signature",
        sa.Column("id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("visit_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("revision", sa.Integer(), nullable=False),
        sa.Column("role", sa.String(length=10), nullable=False),
        sa.Column("typed_name", sa.String(length=190), nullable=False),
        sa.Column("canonical", mysql.MEDIUMTEXT(), nullable=False),
        sa.Column("signed_at", mysql.DATETIME(fsp=3), nullable=False),
        sa.ForeignKeyConstraint(
            ["visit_id"],
            ["visit.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(("ix_signature_visit_id"), "signature", ["visit_id"], unique=False)
    op.create_table(
        "document",
        sa.Column("id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("visit_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("revision", sa.Integer(), nullable=False),
        sa.Column("page_size", sa.String(length=10), nullable=False),
        sa.Column("sha256", sa.String(length=64), nullable=False),
        sa.Column(
            "content",
            sa.LargeBinary().with_variant(mysql.LONGBLOB(), "mariadb").with_variant(mysql.LONGBLOB(), "mysql"),
            nullable=False,
        ),
        sa.Column("issued_at", mysql.DATETIME(fsp=3), nullable=False),
        sa.ForeignKeyConstraint(
            ["visit_id"],
            ["visit.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("visit_id", "revision", "page_size", name="uq_document"),
    )


def downgrade() -> None:
    op.drop_table("document")
    op.drop_table("signature")
    op.drop_table("reading_chunk")
    op.drop_table("instrument_lease")
    op.drop_table("event")
    op.drop_table("visit")
    op.drop_table("rule_set")
