"""What is stored under the names of before is renamed where it stands; the database of an older program goes on."""

from __future__ import annotations

import importlib
from datetime import timedelta

from alembic.migration import MigrationContext
from alembic.operations import Operations
from sqlalchemy import select, update
from sqlalchemy.orm import Session

from moorfog.platform.db.base import new_id
from moorfog.rooms.kit.tables import InstrumentCheckRow, InstrumentRow, KitRecall
from tests.rooms.house import House
from tests.unguarded import as_schema

CHECKS = importlib.import_module("moorfog.platform.db.migrations.versions.20261126_0026_checks")


def test_daily_checks_recalls_and_limits_are_renamed_and_given_back_their_names(house: House) -> None:
    counter = house.ours.counter
    old = {"limit_zero": "0.1", "limit_max_fit_factor": "20000", "serial_number": "A-1"}
    with Session(house.engine) as db, db.begin():
        at = house.clock.at - timedelta(days=400)
        for name in CHECKS.NAMES:
            row = {"id": new_id(), "instrument_id": counter, "value": "1", "limit": "2", "passed": True, "actor": "t"}
            db.add(InstrumentCheckRow(**row, name=name, checked_at=at))
        kept = db.get_one(InstrumentRow, counter).content
        db.execute(update(InstrumentRow).where(InstrumentRow.id == counter).values(content={**kept, **old}))
    try:
        assert renamed(house, CHECKS.upgrade) == set(CHECKS.NAMES.values())
        with Session(house.engine) as db:
            content = db.get_one(InstrumentRow, counter).content
        assert (content["limit_clean_air"], content["limit_clean_line_ratio"]) == ("0.1", "20000")
        assert "limit_zero" not in content and content["serial_number"] == "A-1"
        assert renamed(house, CHECKS.downgrade) == set(CHECKS.NAMES)
    finally:
        renamed(house, CHECKS.upgrade)
        with Session(house.engine) as db, db.begin():
            db.execute(update(InstrumentRow).where(InstrumentRow.id == counter).values(content=kept))


def renamed(house: House, change: object) -> set[str]:
    """Make a change as the account of the schema does; the names that this house's checks of long ago have then."""
    with (
        as_schema(house.engine) as schema,
        schema.begin() as connection,
        Operations.context(MigrationContext.configure(connection)),
    ):
        change()  # type: ignore[operator]
    with Session(house.engine) as db:
        assert not set(db.scalars(select(KitRecall.check_name))) & set(CHECKS.NAMES) or change is CHECKS.downgrade
        long_ago = house.clock.at - timedelta(days=399)
        names = select(InstrumentCheckRow.name).where(
            InstrumentCheckRow.instrument_id == house.ours.counter, InstrumentCheckRow.checked_at < long_ago
        )
        return set(db.scalars(names))
