"""Words that people type into a log stand beside it, so that they can be taken out with the person."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.mysql import MEDIUMTEXT

from moorfog.platform.db.guards import guards, no_guards

revision = "0035"
down_revision = "0034"
branch_labels = None
depends_on = None

TAKEN_OUT = (
    "CREATE TRIGGER event_words_no_delete BEFORE DELETE ON event_words FOR EACH ROW BEGIN IF NOT EXISTS ("
    "SELECT 1 FROM erased WHERE erased.row_id = OLD.visit_id AND erased.kind = 'words') THEN "
    "SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'what stands in event_words is never deleted'; END IF; END"
)


def upgrade() -> None:
    """Make the table and its guards. Words of before stay in the log itself: its chain is over them."""
    op.create_table(
        "event_words",
        sa.Column("visit_id", sa.Uuid(), sa.ForeignKey("visit.id"), primary_key=True),
        sa.Column("sign", sa.String(70), primary_key=True),
        sa.Column("salt", sa.String(32), nullable=False),
        sa.Column("text", MEDIUMTEXT(), nullable=False),
    )
    (no_update, _) = guards(["event_words"])
    op.execute(no_update)
    op.execute(TAKEN_OUT)


def downgrade() -> None:
    """Take it out; a log of this version cannot be read without it."""
    for one in no_guards(["event_words"]):
        op.execute(one)
    op.drop_table("event_words")
