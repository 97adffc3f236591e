"""The daily checks of an instrument are called room air, clean air and clean-line ratio in what is stored, too."""

from __future__ import annotations

from alembic import op

revision = "0026"
down_revision = "0025"
branch_labels = None
depends_on = None

NAMES = {"particle": "room_air", "zero": "clean_air", "max_fit_factor": "clean_line_ratio"}


def _rename(names: dict[str, str]) -> None:
    for old, new in names.items():
        op.execute(f"UPDATE instrument_check SET name = '{new}' WHERE name = '{old}'")
        op.execute(f"UPDATE kit_recall SET check_name = '{new}' WHERE check_name = '{old}'")
        limit = f"JSON_EXTRACT(content, '$.limit_{old}')"
        op.execute(
            f"UPDATE instrument SET content = JSON_REMOVE(JSON_SET(content, '$.limit_{new}', {limit}), '$.limit_{old}') "
            f"WHERE {limit} IS NOT NULL"
        )


def upgrade() -> None:
    """Rename them in checks, recalls and the instruments' own limits."""
    _rename(NAMES)


def downgrade() -> None:
    """Give them back the names of before."""
    _rename({new: old for old, new in NAMES.items()})
