"""Accounts, employers, sites, people."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "employer",
        sa.Column("id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("name", sa.String(length=190), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "account",
        sa.Column("id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("login", sa.String(length=190), nullable=False),
        sa.Column("name", sa.String(length=190), nullable=False),
        sa.Column("password_hash", sa.String(length=255), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("login"),
    )
    op.create_table(
        "site",
        sa.Column("id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("employer_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("name", sa.String(length=190), nullable=False),
        sa.Column("zone", sa.String(length=64), nullable=False),
        sa.Column("benches", sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(
            ["employer_id"],
            ["employer.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(("ix_site_employer_id"), "site", ["employer_id"], unique=False)
    op.create_table(
        "person",
        sa.Column("id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("employer_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("site_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("name", sa.String(length=190), nullable=False),
        sa.Column("number", sa.String(length=40), nullable=False),
        sa.Column("job", sa.String(length=190), nullable=False),
        sa.Column("task", sa.String(length=190), nullable=False),
        sa.Column("face_length", sa.Integer(), nullable=True),
        sa.Column("face_width", sa.Integer(), nullable=True),
        sa.ForeignKeyConstraint(
            ["employer_id"],
            ["employer.id"],
        ),
        sa.ForeignKeyConstraint(
            ["site_id"],
            ["site.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("employer_id", "number", name="uq_person_number"),
    )
    op.create_index("ix_person_name", "person", ["employer_id", "name"], unique=False)
    op.create_table(
        "account_grant",
        sa.Column("id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("account_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("role", sa.String(length=20), nullable=False),
        sa.Column("employer_id", sa.Uuid(as_uuid=False), nullable=True),
        sa.ForeignKeyConstraint(
            ["account_id"],
            ["account.id"],
        ),
        sa.ForeignKeyConstraint(
            ["employer_id"],
            ["employer.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(("ix_account_grant_account_id"), "account_grant", ["account_id"], unique=False)
    op.create_table(
        "sign_in_session",
        sa.Column("digest", sa.String(length=64), nullable=False),
        sa.Column("account_id", sa.Uuid(as_uuid=False), nullable=False),
        sa.Column("csrf", sa.String(length=64), nullable=False),
        sa.Column("created_at", mysql.DATETIME(fsp=3), nullable=False),
        sa.Column("expires_at", mysql.DATETIME(fsp=3), nullable=False),
        sa.Column("password_at", mysql.DATETIME(fsp=3), nullable=False),
        sa.ForeignKeyConstraint(
            ["account_id"],
            ["account.id"],
        ),
        sa.PrimaryKeyConstraint("digest"),
    )
    op.create_index(("ix_sign_in_session_account_id"), "sign_in_session", ["account_id"], unique=False)
    op.create_index(("ix_sign_in_session_expires_at"), "sign_in_session", ["expires_at"], unique=False)
    op.create_table(
        "sign_in_attempt",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("login", sa.String(length=190), nullable=False),
        sa.Column("address", sa.String(length=64), nullable=False),
        sa.Column("at", mysql.DATETIME(fsp=3), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_attempt_address", "sign_in_attempt", ["address", "at"], unique=False)
    op.create_index("ix_attempt_login", "sign_in_attempt", ["login", "at"], unique=False)


def downgrade() -> None:
    op.drop_table("sign_in_attempt")
    op.drop_table("sign_in_session")
    op.drop_table("account_grant")
    op.drop_table("person")
    op.drop_table("site")
    op.drop_table("account")
    op.drop_table("employer")
