"""A task is chosen from a site's list and kept by its id; rules have a day; a training can be withdrawn."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.mysql import DATETIME

revision = "0033"
down_revision = "0032"
branch_labels = None
depends_on = None

MOMENT = DATETIME(fsp=3)
TRIGGER = "training_stale_update"


def upgrade() -> None:
    """Give every task the id of its first version, and people the task whose very name they have; others have none."""
    op.add_column("site_task", sa.Column("task_id", sa.Uuid(), nullable=True))
    op.execute(
        "UPDATE site_task t JOIN (SELECT id, FIRST_VALUE(id) OVER (PARTITION BY site_id, BINARY name ORDER BY "
        "entered_at, id) AS first FROM site_task) f ON f.id = t.id SET t.task_id = f.first"
    )
    op.alter_column("site_task", "task_id", existing_type=sa.Uuid(), nullable=False)
    op.create_index("ix_site_task_id", "site_task", ["task_id"])
    op.add_column("person", sa.Column("task_id", sa.Uuid(), nullable=True))
    op.execute(
        "UPDATE person p JOIN site_task t ON t.site_id = p.site_id AND t.is_current = 1 "
        "AND BINARY t.name = BINARY p.task SET p.task_id = t.task_id"
    )
    op.add_column("site_rule", sa.Column("begins_on", sa.Date(), nullable=True))
    op.add_column("training", sa.Column("withdrawn_at", MOMENT, nullable=True))
    op.add_column("training", sa.Column("withdrawn_by", sa.String(190), nullable=False, server_default=""))
    op.add_column("training", sa.Column("withdrawn_why", sa.String(400), nullable=False, server_default=""))
    op.execute(
        f"CREATE TRIGGER {TRIGGER} AFTER UPDATE ON training FOR EACH ROW UPDATE standing s JOIN person p ON "
        "s.person_id = COALESCE(p.merged_into, p.id) SET s.rev = s.rev + 1, s.is_stale = 1 WHERE p.id = NEW.person_id"
    )
    op.execute("UPDATE standing SET rev = rev + 1, is_stale = 1")


def downgrade() -> None:
    """People have the name of their task again, and nothing else."""
    op.execute(f"DROP TRIGGER IF EXISTS {TRIGGER}")
    for name in ("withdrawn_why", "withdrawn_by", "withdrawn_at"):
        op.drop_column("training", name)
    op.drop_column("site_rule", "begins_on")
    op.drop_column("person", "task_id")
    op.drop_index("ix_site_task_id", "site_task")
    op.drop_column("site_task", "task_id")
    op.execute("UPDATE standing SET rev = rev + 1, is_stale = 1")
