"""Visits seen before: they count only as the very rows that were seen, sealed by a key that the database has not."""

from __future__ import annotations

import secrets
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import Any

import pytest
from sqlalchemy import JSON, Boolean, Date, Engine, Integer, LargeBinary, Uuid, select, text, update
from sqlalchemy.orm import Session

from moorfog.core.rules.book import Rules
from moorfog.platform.db.base import UtcDateTime, new_id
from moorfog.platform.log.ledger import seal_key
from moorfog.platform.log.readmodels import PermissionEnd
from moorfog.platform.log.summaries import VisitSummary
from moorfog.platform.log.tables import RuleSet, VisitHead
from moorfog.rooms.bench.tables import ReadingChunk
from moorfog.rooms.people.tables import Erased
from moorfog.rooms.proof import seen as room
from moorfog.rooms.proof import verify as checks
from moorfog.rooms.proof.seen import OF_A_VISIT, seen_before
from moorfog.rooms.proof.tables import VisitSeen
from moorfog.rooms.proof.verify import Extent, verify
from moorfog.secret_files import key_folder
from tests.rooms.house import House
from tests.rooms.proof.test_verify import lines, measured
from tests.unguarded import as_schema, no_guards, schema_engine, unguarded

NOON = datetime(2026, 1, 1, 12, tzinfo=UTC)
READ = {"isolation_level": "REPEATABLE READ"}


@pytest.fixture
def house(alone: Engine, rules: Rules) -> House:
    return House(alone, rules)


@pytest.fixture
def visit(house: House) -> str:
    """A visit with something in every table, looked at in full."""
    tester = house.client()
    made = measured(house, tester)
    tester.post(f"/api/visits/{made}/reports", {"page_size": "A4"})
    checked(house)
    assert still_seen(house, made)
    return made


def checked(house: House, **extent: Any) -> list[str]:
    return lines(verify(house.engine, keys=key_folder(), extent=Extent(**extent)))


def seen_in(db: Session, key: bytes | None = None) -> set[str]:
    visits = list(db.scalars(select(VisitHead.id)))
    return seen_before(db, key or seal_key(), visits, set(db.scalars(select(RuleSet.digest))))


def still_seen(house: House, visit: str, key: bytes | None = None) -> bool:
    with Session(house.engine.execution_options(**READ)) as db:
        return visit in seen_in(db, key)


@contextmanager
def undone(engine: Engine) -> Iterator[Session]:
    """A session that may change everything, and of which nothing stays."""
    with no_guards(engine):
        schema = schema_engine(engine)
        with Session(schema) as db:
            db.execute(text("SET FOREIGN_KEY_CHECKS = 0"))
            yield db
            db.rollback()
        schema.dispose()


def test_a_visit_that_was_seen_is_not_judged_again_and_one_that_went_on_is(
    house: House, visit: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    looked: list[str] = []

    def heard(db: Session, ids: Any, rules: Any) -> Any:
        looked.extend(ids)
        return look_at(db, ids, rules)

    look_at = checks.look_at
    monkeypatch.setattr(checks, "look_at", heard)
    assert checked(house) == [] and looked == []
    tester = house.client()
    going = tester.open(house.ours.people[1])
    assert checked(house) == [] and looked == [going]
    tester.until(going, "run")
    assert checked(house) == [] and looked == [going, going]
    assert checked(house, anew=True) == [] and visit in looked
    looked.clear()
    assert lines(verify(house.engine)) == [] and visit in looked, "without the key nothing counts as seen"
    assert checked(house, processes=2) == [], "other processes have the key, too"


def other(column: Any, value: Any) -> str:
    """SQL of a value of the same type that is another."""
    name, kind = f"`{column.name}`", column.type
    if isinstance(kind, JSON):
        return "'[0]'"
    if isinstance(kind, Boolean):
        return f"NOT COALESCE({name}, 0)"
    if isinstance(kind, Integer):
        return f"COALESCE({name}, 0) + 1"
    if isinstance(kind, Uuid):
        return f"'{new_id()}'"
    if isinstance(kind, Date):
        return f"COALESCE({name} + INTERVAL 1 DAY, '2026-01-01')"
    if isinstance(kind, UtcDateTime):
        return f"COALESCE({name} + INTERVAL 1000 MICROSECOND, '2026-01-01')"
    if isinstance(kind, LargeBinary):
        return f"CONCAT({name}, ' ')"
    return "'y'" if not value else f"INSERT({name}, 1, 1, IF(LEFT({name}, 1) = 'y', 'z', 'y'))"


def test_a_change_of_any_column_of_any_row_is_seen(house: House, visit: str) -> None:
    """Of every table a visit has rows in, and of its readings: one sign, one second, one row more or less."""
    tried, run = 0, ""
    with Session(house.engine) as db:
        kept = db.get(VisitSeen, visit)
        assert kept is not None
        run = kept.runs[0]
    empty = set()
    for table, key in (*OF_A_VISIT, (ReadingChunk, "run_id")):
        whose = run if key == "run_id" else visit
        where = f"FROM `{table.__tablename__}` WHERE `{key}` = '{whose}'"
        with undone(house.engine) as db:
            row = db.execute(text(f"SELECT * {where} LIMIT 1")).mappings().first()
            if row is None:
                empty.add(table)
                continue
            assert visit in seen_in(db)
            order = ", ".join(f"`{one.name}` DESC" for one in table.__table__.primary_key)
            last = f"`{key}` = '{whose}' ORDER BY {order} LIMIT 1"
            for column in table.__table__.columns:
                sets = f"`{column.name}` = {other(column, row[column.name])}"
                db.execute(text(f"UPDATE `{table.__tablename__}` SET {sets} WHERE {last}"))
                assert visit not in seen_in(db), f"{table.__tablename__}.{column.name}"
                db.rollback()
                db.execute(text("SET FOREIGN_KEY_CHECKS = 0"))
                tried += 1
            db.execute(text(f"DELETE {where} LIMIT 1"))
            assert visit not in seen_in(db), f"a row of {table.__tablename__} taken out"
    assert empty == {PermissionEnd} and tried > 100
    with undone(house.engine) as db:
        names = [one.name for one in PermissionEnd.__table__.columns if not one.nullable]
        values = [f"'{visit}'" if name == "visit_id" else _any(PermissionEnd.__table__.columns[name]) for name in names]
        db.execute(text(f"INSERT INTO permission_end ({', '.join(names)}) VALUES ({', '.join(values)})"))
        assert visit not in seen_in(db), "a row more"


def _any(column: Any) -> str:
    if isinstance(column.type, Uuid):
        return f"'{new_id()}'"
    return "1" if isinstance(column.type, Integer) else "'2026-01-01'"


def test_a_seal_that_somebody_with_the_database_makes_counts_for_nothing(
    house: House, visit: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Another key, another visit's seal, another program, a rule set that does not hold, something emptied."""
    assert not still_seen(house, visit, secrets.token_bytes(32))
    second = house.client().whole_visit(house.ours.people[1])
    assert checked(house) == [] and still_seen(house, second)
    with Session(house.engine) as db:
        assert seen_before(db, seal_key(), [visit, second], set()) == set(), "no rule set holds"
        theirs, ours = db.get(VisitSeen, second), db.get(VisitSeen, visit)
        assert theirs is not None and ours is not None
        right = theirs.seal
        db.execute(update(VisitSeen).where(VisitSeen.visit_id == second).values(seal=ours.seal, runs=ours.runs))
        assert visit in seen_in(db) and second not in seen_in(db)
        db.execute(
            update(VisitSeen).where(VisitSeen.visit_id == second).values(seal=right, runs=[*theirs.runs, new_id()])
        )
        assert second not in seen_in(db), "the seal holds which runs were read"
        db.rollback()
        db.execute(update(VisitSeen).where(VisitSeen.visit_id == visit).values(runs=[]))
        assert visit not in seen_in(db), "readings left out"
        db.rollback()
    with undone(house.engine) as db:
        db.add(Erased(row_id=visit, kind="words", person_id=new_id(), account_id=new_id(), erased_at=NOON))
        db.flush()
        assert visit not in seen_in(db), "something was emptied"
    monkeypatch.setattr(room, "program", lambda: "another")
    assert not still_seen(house, visit)


def test_two_checks_at_once_keep_what_both_have_seen(house: House) -> None:
    tester = house.client()
    made = [tester.open(person) for person in house.ours.people]
    with ThreadPoolExecutor(4) as pool:
        found = list(pool.map(lambda _: checked(house, anew=True), range(4)))
    assert found == [[]] * 4 and all(still_seen(house, one) for one in made)


def test_a_database_that_takes_nothing_is_checked_all_the_same(house: House, visit: str) -> None:
    """What was seen is not kept there; the next check looks again."""
    with as_schema(house.engine) as schema, schema.begin() as connection:
        connection.execute(text("RENAME TABLE visit_seen TO visit_seen_away"))
        connection.execute(text("CREATE VIEW visit_seen AS SELECT * FROM visit_seen_away WHERE 0 WITH CHECK OPTION"))
    try:
        assert checked(house, anew=True) == [] and not still_seen(house, visit)
    finally:
        with as_schema(house.engine) as schema, schema.begin() as connection:
            connection.execute(text("DROP VIEW visit_seen"))
            connection.execute(text("RENAME TABLE visit_seen_away TO visit_seen"))


def test_a_visit_with_a_fault_is_named_each_time_and_never_kept(house: House, visit: str) -> None:
    with unguarded(house.engine) as db:
        db.execute(update(VisitSummary).where(VisitSummary.visit_id == visit).values(bench="Bench Z"))
    first, again, anew = checked(house), checked(house), checked(house, anew=True)
    assert first == again == anew and any(visit in line for line in first)
    assert not still_seen(house, visit)


def test_what_is_too_long_to_be_worked_out_is_not_seen(
    house: House, visit: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The database cuts what it puts together without an error: a cut answer is none."""
    monkeypatch.setattr(room, "LONGEST", 70)
    assert not still_seen(house, visit)
