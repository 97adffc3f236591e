"""What was done to a sampling part says in which visit."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("sampling_part_act", sa.Column("visit_id", sa.Uuid(as_uuid=False), nullable=True))
    op.create_foreign_key("fk_part_act_visit", "sampling_part_act", "visit", ["visit_id"], ["id"])


def downgrade() -> None:
    op.drop_constraint("fk_part_act_visit", "sampling_part_act", type_="foreignkey")
    op.drop_column("sampling_part_act", "visit_id")
