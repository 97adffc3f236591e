"""Every fact outside a visit is entered by value: whatever is changed past its ledger is found and named.

The lie of this room would be a fact that nobody entered and "Everything holds". So rows of every table that matters are
edited, taken out, put in and swapped, and the ledgers themselves are edited, cut and chained anew.
"""

from __future__ import annotations

import json
import random
from collections.abc import Callable, Iterator
from datetime import UTC, date, datetime, timedelta
from importlib import import_module
from typing import Any

import pytest
from sqlalchemy import Engine, Table, delete, func, insert, select, text, update
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import instant
from moorfog.core.kernel.canonical import canonical_bytes, digest
from moorfog.core.rules.book import Rules
from moorfog.demo import seed
from moorfog.demo.before import seed_before
from moorfog.platform.db.base import UtcDateTime, make_engine, new_id, run_in_transaction
from moorfog.platform.db.clock import DatabaseClock
from moorfog.platform.log.deeds import Note, write
from moorfog.platform.log.facts import FACTS, Fact
from moorfog.platform.log.fault import Fault
from moorfog.platform.log.ledger import FIRST, Doing, at_work, chain_of, erase_from_ledger, seal_key, value_digest
from moorfog.platform.log.ledger_check import check_ledgers
from moorfog.platform.log.tables import LedgerEntry, LedgerHead, LedgerValue, VisitHead
from moorfog.platform.log.take_over import BEFORE, begin_ledgers
from moorfog.rooms.people.tables import ClearanceRow, Person
from moorfog.rooms.sites.tables import Site
from tests.template import own_server
from tests.unguarded import as_schema, no_guards, schema_engine


@pytest.fixture(scope="module")
def filled(rules: Rules) -> Iterator[Engine]:
    """A database of this file's own with a row at least in every table of facts, all of them through sessions."""
    with own_server() as server:
        made = make_engine(server.url)
        run_in_transaction(made, lambda db: seed.seed_places(db, rules, "heather-and-peat", "a-token-of-the-tests"))
        seed.seed_history(made, rules, lambda done, total: None, 3)
        seed.seed_open_visits(made, rules)
        seed_before(made)
        run_in_transaction(made, _the_rest)
        yield made
        made.dispose()


def _the_rest(db: Session) -> None:
    """Fill the tables that the demo leaves empty."""
    person = db.scalars(select(Person)).first()
    site, visit = db.scalars(select(Site)).first(), db.scalars(select(VisitHead)).first()
    assert person is not None and site is not None and visit is not None
    for name, fact in FACTS.items():
        if db.scalar(select(func.count()).select_from(fact.table)):
            continue
        values = {column.name: _some(column.type, n) for n, column in enumerate(fact.table.columns)}
        known = {"site_id": site.id, "person_id": person.id, "visit_id": visit.id, "employer_id": site.employer_id}
        for column in fact.table.columns:
            for key in column.foreign_keys:
                values[column.name] = db.scalar(select(key.column).limit(1)) or new_id()
        db.add(fact.model(**{**values, **{key: value for key, value in known.items() if key in values}}))
        db.flush()
        assert db.scalar(select(func.count()).select_from(fact.table)), name


def _some(kind: Any, number: int) -> Any:
    """A value of a column's type."""
    python = datetime if isinstance(kind, UtcDateTime) else kind.python_type
    length = getattr(kind, "length", None) or 12
    made: dict[type, Any] = {
        str: (new_id() if type(kind).__name__ == "Uuid" else f"v{number}"[:length]),
        int: number + 1,
        bool: False,
        dict: {"some": number},
        list: [],
        bytes: b"%PDF",
        object: new_id(),
        datetime: datetime(2026, 5, 4, 9, 30, tzinfo=UTC),
        date: date(2026, 5, 4),
    }
    return made[python]


def faults(engine: Engine, change: Callable[[Session], Any] | None = None) -> list[Fault]:
    """What is wrong after a change by the account that may do all, which is then taken back."""
    with as_schema(engine) as schema, schema.connect() as connection, connection.begin() as trial:
        db = Session(bind=connection)
        if change is not None:
            connection.execute(text("SET FOREIGN_KEY_CHECKS = 0"))
            change(db)
        found = list(check_ledgers(db, seal_key()))
        trial.rollback()
        return found


@pytest.fixture
def defenceless(filled: Engine) -> Iterator[None]:
    """The guards of what is written once taken down, as who has the whole database can."""
    with no_guards(filled):
        yield


def heads_of(db: Session) -> dict[str, int]:
    """How many entries each ledger has."""
    return {one.ledger: one.no for one in db.scalars(select(LedgerHead))}


def test_nothing_is_wrong_where_all_went_through_sessions(filled: Engine) -> None:
    assert faults(filled) == []
    with Session(filled) as db:
        empty = [name for name, fact in FACTS.items() if not db.scalar(select(func.count()).select_from(fact.table))]
    assert empty == []


def _other(value: Any) -> Any:
    """A value of the same sort that is another one."""
    if isinstance(value, bool):
        return not value
    if isinstance(value, int):
        return value + 1
    if isinstance(value, datetime):
        return value + timedelta(hours=1)
    if isinstance(value, date):
        return value + timedelta(days=1)
    if isinstance(value, dict):
        return {**value, "more": 1}
    if isinstance(value, list):
        return [*value, "more"]
    return f"{value}"[:-1] + ("x" if not str(value).endswith("x") else "y") if value else "x"


def _names(fault: Fault, table: str, key: str) -> bool:
    """Whether a fault names a row; one that belongs to an employer without a ledger is named by that."""
    return table in fault.where and (key in fault.where or "employer" in fault.where)


def cells() -> list[tuple[str, str]]:
    keys = {name: {one.name for one in fact.keys} for name, fact in FACTS.items()}
    return [(name, column) for name, fact in FACTS.items() for column in fact.names if column not in keys[name]]


@pytest.mark.usefixtures("defenceless")
@pytest.mark.parametrize("name", sorted(FACTS))
def test_an_edited_cell_of_any_table_is_named(filled: Engine, name: str) -> None:
    fact, dice = FACTS[name], random.Random(name)
    with Session(filled) as db:
        rows = db.execute(select(fact.table)).mappings().all()
    for column in [column for table, column in cells() if table == name]:
        row = dice.choice(rows)
        value = new_id() if type(fact.table.columns[column].type).__name__ == "Uuid" else _other(row[column])
        if value == "x" and row[column] is None:
            value = _some(fact.table.columns[column].type, 7)
        where = [key == row[key.name] for key in fact.keys]
        edit = update(fact.table).where(*where).values({column: value})
        found = faults(filled, lambda db, edit=edit: db.connection().execute(edit))
        key = ":".join(str(row[one.name]) for one in fact.keys)
        assert any(name in one.where and (key in one.where or "employer" in one.where) for one in found), (
            column,
            found,
        )


@pytest.mark.usefixtures("defenceless")
@pytest.mark.parametrize("name", sorted(FACTS))
def test_a_row_of_any_table_that_is_taken_out_put_in_or_swapped_is_named(filled: Engine, name: str) -> None:
    fact = FACTS[name]
    with Session(filled) as db:
        row = dict(db.execute(select(fact.table)).mappings().first() or {})
    key = ":".join(str(row[one.name]) for one in fact.keys)
    gone = delete(fact.table).where(*[one == row[one.name] for one in fact.keys])
    assert any(key in one.where for one in faults(filled, lambda db: db.connection().execute(gone)))
    more = {**row, **{one: _fresh(fact.table, one, row[one]) for one in _unique(fact)}}
    key = ":".join(str(more[one.name]) for one in fact.keys)
    found = faults(filled, lambda db: db.connection().execute(insert(fact.table).values(more)))
    assert any(_names(one, name, key) for one in found), found


def _unique(fact: Fact) -> list[str]:
    """The columns that must be others in another row."""
    told = {one.name for one in fact.keys}
    for one in fact.table.columns:
        told |= {one.name} if one.unique else set()
    told |= {"number", "name", "code", "login", "digest", "visit_id", "version", "page_size"} & set(fact.names)
    return sorted(told)


def _fresh(table: Table, name: str, value: Any) -> Any:
    if type(table.columns[name].type).__name__ == "Uuid":
        return new_id()
    return _other(value) if not isinstance(value, str) else new_id()[: getattr(table.columns[name].type, "length", 36)]


def a_row(db: Session, kind: str = "person") -> LedgerEntry:
    """An entry of a row in the middle of its ledger."""
    asked = select(LedgerEntry).where(LedgerEntry.kind == kind, LedgerEntry.action == "row")
    found = db.scalars(asked.order_by(LedgerEntry.no)).first()
    assert found is not None
    return found


def rechain(db: Session, ledger: str, key: bytes | None) -> None:
    """Chain a ledger anew from its first entry on, as somebody would who has the database and not the key."""
    before = FIRST
    for one in db.execute(select(LedgerEntry.__table__).where(LedgerEntry.ledger == ledger).order_by(LedgerEntry.no)):
        chain = chain_of(dict(one._mapping), before)
        db.connection().execute(
            text("UPDATE ledger_entry SET chain = :chain WHERE id = :id"), {"chain": chain, "id": one.id}
        )
        before = chain
    head = update(LedgerHead).where(LedgerHead.ledger == ledger)
    db.connection().execute(head.values(chain=before))


FORGED: dict[str, Callable[[Session], Any]] = {}


def forging(fn: Callable[[Session], Any]) -> Callable[[Session], Any]:
    FORGED[fn.__name__] = fn
    return fn


def run(db: Session, sql: str, **values: Any) -> None:
    db.connection().execute(text(sql), values)


@forging
def an_entry_edited(db: Session) -> None:
    run(db, "UPDATE ledger_entry SET account_id = 'x' WHERE id = :id", id=a_row(db).id)


@forging
def an_entry_edited_and_all_chained_anew(db: Session) -> None:
    one = a_row(db)
    run(db, "UPDATE ledger_entry SET account_id = 'x' WHERE id = :id", id=one.id)
    rechain(db, one.ledger, None)


@forging
def a_seal_with_signs_that_no_seal_has(db: Session) -> None:
    run(db, "UPDATE ledger_entry SET seal = 'gefälscht' WHERE id = :id", id=a_row(db).id)


@forging
def a_value_edited_with_its_row_and_all_chained_anew(db: Session) -> None:
    one = a_row(db)
    said = db.get_one(LedgerValue, (one.ledger, one.no))
    content = said.content.replace('"job":"', '"job":"chief ')
    where = {"ledger": one.ledger, "no": one.no}
    run(db, "UPDATE person SET job = CONCAT('chief ', job) WHERE id = :id", id=one.subject)
    run(db, "UPDATE ledger_value SET content = :c WHERE ledger = :ledger AND no = :no", c=content, **where)
    fresh = value_digest(said.salt, content)
    run(db, "UPDATE ledger_entry SET digest = :d WHERE ledger = :ledger AND no = :no", d=fresh, **where)
    rechain(db, one.ledger, None)


@forging
def a_value_taken_out(db: Session) -> None:
    one = a_row(db)
    run(db, "DELETE FROM ledger_value WHERE ledger = :ledger AND no = :no", ledger=one.ledger, no=one.no)


@forging
def an_entry_taken_out(db: Session) -> None:
    run(db, "DELETE FROM ledger_entry WHERE id = :id", id=a_row(db).id)


@forging
def an_entry_taken_out_and_the_others_moved_up(db: Session) -> None:
    one = a_row(db)
    for table in ("ledger_entry", "ledger_value"):
        run(db, f"DELETE FROM {table} WHERE ledger = :l AND no = :n", l=one.ledger, n=one.no)
        run(db, f"UPDATE {table} SET no = no - 1 WHERE ledger = :l AND no > :n ORDER BY no", l=one.ledger, n=one.no)
    run(db, "UPDATE ledger_head SET no = no - 1 WHERE ledger = :l", l=one.ledger)
    rechain(db, one.ledger, None)


@forging
def the_end_cut_off(db: Session) -> None:
    one = a_row(db)
    run(db, "DELETE FROM ledger_entry WHERE ledger = :l AND no > :n", l=one.ledger, n=one.no)
    run(db, "UPDATE ledger_head SET no = :n, chain = :c WHERE ledger = :l", n=one.no, c=one.chain, l=one.ledger)


@forging
def the_head_put_back(db: Session) -> None:
    run(db, "UPDATE ledger_head SET no = no - 1 WHERE ledger = :l", l=a_row(db).ledger)


@forging
def two_entries_swapped(db: Session) -> None:
    one = a_row(db)
    run(db, "UPDATE ledger_entry SET no = -1 WHERE ledger = :l AND no = :n", l=one.ledger, n=one.no)
    run(db, "UPDATE ledger_entry SET no = :n WHERE ledger = :l AND no = :m", l=one.ledger, n=one.no, m=one.no + 1)
    run(db, "UPDATE ledger_entry SET no = :m WHERE ledger = :l AND no = -1", l=one.ledger, m=one.no + 1)


@forging
def an_erasure_made_up_to_excuse_a_forged_row(db: Session) -> None:
    one = a_row(db, "clearance")
    head = db.get_one(LedgerHead, one.ledger)
    values = {
        "ledger": one.ledger,
        "no": head.no + 1,
        "at": datetime.now(UTC),
        "account_id": "",
        "deed": "erase_person",
    }
    values |= {"action": "erased", "kind": "clearance", "subject": one.subject, "digest": value_digest("s", "null")}
    chain = chain_of(values, head.chain)
    db.connection().execute(insert(LedgerEntry), {**values, "chain": chain, "seal": one.seal})
    said = {"ledger": one.ledger, "no": head.no + 1, "salt": "s", "content": "null"}
    db.connection().execute(insert(LedgerValue), said)
    run(db, "UPDATE ledger_head SET no = no + 1, chain = :c WHERE ledger = :l", c=chain, l=one.ledger)
    run(db, "DELETE FROM clearance WHERE id = :id", id=one.subject)
    run(db, "DELETE FROM ledger_value WHERE ledger = :l AND no = :n", l=one.ledger, n=one.no)


@forging
def all_ledgers_emptied(db: Session) -> None:
    for table in ("ledger_entry", "ledger_value", "ledger_head"):
        run(db, f"DELETE FROM {table}")


@forging
def a_ledger_of_one_employer_emptied(db: Session) -> None:
    ledger = a_row(db).ledger
    for table in ("ledger_entry", "ledger_value", "ledger_head"):
        run(db, f"DELETE FROM {table} WHERE ledger = :l", l=ledger)


@forging
def a_row_moved_to_an_employer_that_is_not_there(db: Session) -> None:
    run(db, "UPDATE person SET employer_id = :new WHERE id = :id", new=new_id(), id=a_row(db).subject)


@pytest.mark.usefixtures("defenceless")
@pytest.mark.parametrize("how", sorted(FORGED))
def test_a_ledger_that_was_changed_is_named(filled: Engine, how: str) -> None:
    found = faults(filled, FORGED[how])
    assert found, how
    assert faults(filled) == [], "and the trial was taken back"


def test_who_can_chain_anew_still_cannot_seal(filled: Engine, defenceless: None) -> None:
    found = faults(filled, an_entry_edited_and_all_chained_anew)
    assert found and all("seal is not ours" in one.problem for one in found)


def test_the_programs_own_account_only_adds_to_the_ledgers(filled: Engine) -> None:
    for table in ("ledger_entry", "ledger_value"):
        for sql in (f"UPDATE {table} SET no = no WHERE no = 1", f"DELETE FROM {table} WHERE no = 1"):
            with pytest.raises(DBAPIError), filled.begin() as connection:
                connection.execute(text(sql))


def test_a_deed_and_its_facts_stand_together_with_who_did_it(filled: Engine) -> None:
    account, clearance = new_id(), new_id()
    with Session(filled) as db:
        person = db.scalars(select(Person)).first()
        assert person is not None

    def work(db: Session) -> None:
        common = {"person_id": person.id, "account_id": account, "entered_at": datetime.now(UTC)}
        filed = {"status": "cleared", "limits": [], "valid_from": date(2026, 5, 4), "valid_until": None, "by_whom": "x"}
        db.add(ClearanceRow(id=clearance, **common, **filed))
        write(db, DatabaseClock(), account, "record_clearance", Note("person", person.id, person.employer_id))

    run_in_transaction(filled, work)
    with Session(filled) as db:
        last = db.scalars(select(LedgerEntry).where(LedgerEntry.account_id == account).order_by(LedgerEntry.id)).all()
        assert [(one.action, one.kind, one.deed) for one in last] == [
            ("row", "clearance", "record_clearance"),
            ("deed", "person", "record_clearance"),
        ]
        assert {one.ledger for one in last} == {person.employer_id} and last[1].no == last[0].no + 1
        said = json.loads(db.get_one(LedgerValue, (last[0].ledger, last[0].no)).content)
        assert said["status"] == "cleared" and said["valid_from"] == "2026-05-04"
    run_in_transaction(filled, lambda db: db.execute(delete(ClearanceRow).where(ClearanceRow.id == clearance)))
    assert faults(filled) == []


def test_what_is_taken_back_is_entered_nowhere(filled: Engine) -> None:
    with Session(filled) as db:
        before = heads_of(db)
    with pytest.raises(ZeroDivisionError), Session(filled) as db, db.begin():
        db.execute(update(Person).values(job="nobody"))
        raise ZeroDivisionError
    with Session(filled) as db:
        assert heads_of(db) == before


@pytest.mark.parametrize("by", ["objects", "statement", "list"])
def test_however_a_fact_is_written_it_is_entered(filled: Engine, by: str) -> None:
    with Session(filled) as db:
        ids = [one.id for one in db.scalars(select(Person).order_by(Person.id).limit(3))]

    def work(db: Session) -> None:
        if by == "objects":
            for one in db.scalars(select(Person).where(Person.id.in_(ids))):
                one.job = f"rigger {by}"
        elif by == "statement":
            db.execute(update(Person).where(Person.id.in_(ids)).values(job=f"rigger {by}"))
        else:
            db.execute(update(Person), [{"id": one, "job": f"rigger {by}"} for one in ids])

    with at_work(Doing("somebody", "change_person")):
        run_in_transaction(filled, work)
    with Session(filled) as db:
        for one in ids:
            asked = select(LedgerEntry).where(LedgerEntry.subject == one, LedgerEntry.action == "row")
            last = db.scalars(asked.order_by(LedgerEntry.id.desc())).first()
            assert last is not None and (last.account_id, last.deed) == ("somebody", "change_person")
            assert f"rigger {by}" in db.get_one(LedgerValue, (last.ledger, last.no)).content
    assert faults(filled) == []


def test_an_erasure_takes_out_what_was_said_and_says_so_itself(filled: Engine) -> None:
    """The marker stands in no table of the ledger any more; the chain holds; nothing else is excused by it."""
    person = new_id()

    def enter(db: Session) -> None:
        site = db.scalars(select(Site)).first()
        assert site is not None
        common = {"employer_id": site.employer_id, "site_id": site.id, "number": person[:8], "task": ""}
        db.add(Person(id=person, name="Marker Erased-Soon", job="", **common, face_length=None, face_width=None))

    run_in_transaction(filled, enter)

    def rename(db: Session) -> None:
        one = db.get_one(Person, person)
        one.name = "Marker Renamed-Soon"
        write(
            db,
            DatabaseClock(),
            "x",
            "change_person",
            Note("person", person, one.employer_id, {"name": ["Marker", "a"]}),
        )

    run_in_transaction(filled, rename)

    def erase(db: Session) -> None:
        one = db.get_one(Person, person)
        one.name = "Erased person"
        erase_from_ledger(db, "person", [person])
        erase_from_ledger(db, "deed", [person])

    run_in_transaction(filled, erase)
    with Session(filled) as db:
        assert db.scalar(select(func.count()).where(LedgerValue.content.contains("Marker"))) == 0
    assert faults(filled) == []


@pytest.fixture
def before(rules: Rules) -> Iterator[tuple[Engine, Engine]]:
    """A house of before: rows that no ledger knows. The program's engine, and one that may change the schema."""
    with own_server() as server:
        engine = make_engine(server.url)
        run_in_transaction(engine, lambda db: seed.seed_places(db, rules, "heather-and-peat", "a-token-of-the-tests"))
        schema = schema_engine(engine)
        with no_guards(engine), schema.begin() as connection:
            for table in ("ledger_entry", "ledger_value", "ledger_head"):
                connection.execute(text(f"DELETE FROM {table}"))
        assert faults(engine), "in no ledger"
        yield engine, schema
        for one in (engine, schema):
            one.dispose()


def test_the_beginning_takes_over_what_stands_there_and_happens_once(before: tuple[Engine, Engine]) -> None:
    engine, schema = before
    with Session(engine) as db:
        employer = db.scalars(select(Person.employer_id)).first() or ""
    deeds = [("a", "change_person", "p1", employer), ("a", "signed_in", "a", ""), ("b", "erase_person", "p1", employer)]
    _journal_of_before(schema, deeds)
    with pytest.raises(KeyboardInterrupt):
        begin_ledgers(schema, _broken_off(30))
    assert begin_ledgers(schema) > 0
    assert faults(engine) == [] and begin_ledgers(schema) == 0
    with Session(engine) as db:
        rows = select(func.count()).where(LedgerEntry.action == "row", LedgerEntry.kind == "person")
        assert db.scalar(rows) == db.scalar(select(func.count()).select_from(Person))
        told = db.scalars(select(LedgerEntry).where(LedgerEntry.kind == "of-before").order_by(LedgerEntry.id)).all()
        assert [(one.account_id, one.deed, one.subject, one.ledger) for one in told] == deeds
        assert [one.at.minute for one in told] == [0, 1, 2], "when it was done, not when it was taken over"
        said = [db.get_one(LedgerValue, (one.ledger, one.no)).content for one in told]
        assert json.loads(said[0]) == {"changes": {"no": 0}} and json.loads(said[2]) == {"erased": True}
    with schema.connect() as connection:
        assert not [name for name in BEFORE if connection.dialect.has_table(connection, name)]


def _journal_of_before(schema: Engine, deeds: list[tuple[str, str, str, str]]) -> None:
    """The journal as it was until there were ledgers, with its chain; what its last entry said is erased."""
    told = import_module("moorfog.platform.db.migrations.versions.20261201_0034_ledger")
    with schema.begin() as connection:
        for statement in told.JOURNAL:
            connection.execute(text(statement))
        chain = FIRST
        for no, (account, deed, subject, employer) in enumerate(deeds):
            at, content = datetime(2026, 5, 4, 9, no, tzinfo=UTC), json.dumps({"changes": {"no": no}})
            said = {"no": no + 1, "at": instant(at), "account": account, "deed": deed, "kind": "of-before"}
            said |= {"subject": subject, "employer": employer, "detail": digest("salt" + content), "before": chain}
            chain = digest(canonical_bytes(said).decode())
            values = {**said, "at": at.replace(tzinfo=None), "chain": chain}
            del values["before"]
            slots = ":no, :at, :account, :deed, :kind, :subject, :employer, :detail, :chain"
            connection.execute(text(f"INSERT INTO journal VALUES ({slots})"), values)
            if no < len(deeds) - 1:
                detail = {"no": no + 1, "content": content}
                connection.execute(text("INSERT INTO journal_detail VALUES (:no, 'salt', :content)"), detail)


def test_a_program_that_keeps_more_enters_rows_again_but_none_that_was_forged(
    before: tuple[Engine, Engine], monkeypatch: pytest.MonkeyPatch
) -> None:
    engine, schema = before
    with monkeypatch.context() as of_before:
        of_before.setitem(FACTS, "person", Fact(Person, left_out=frozenset({"contact"})))
        begin_ledgers(schema)
        assert faults(engine, lambda db: run(db, "UPDATE person SET contact = 'x'")) == [], "nothing held it yet"
    with Session(engine) as db:
        one, other = db.scalars(select(Person.id).limit(2))
    with schema.begin() as connection:
        connection.execute(text("UPDATE person SET job = 'forged' WHERE id = :id"), {"id": one})
    assert begin_ledgers(schema) > 0
    assert [found.where for found in faults(engine)] == [f"person {one}"], "the forged one is still found"
    found = faults(engine, lambda db: run(db, "UPDATE person SET contact = 'x' WHERE id = :id", id=other))
    assert f"person {other}" in [one.where for one in found]


def _broken_off(after: int) -> Callable[[int], None]:
    def progress(done: int) -> None:
        if done >= after:
            raise KeyboardInterrupt

    return progress


def test_only_what_came_since_is_looked_at_where_that_is_asked(filled: Engine) -> None:
    with Session(filled) as db:
        since = heads_of(db)
        person = db.scalars(select(Person)).first()
        assert person is not None

    def rename(db: Session) -> None:
        db.get_one(Person, person.id).job = "since"

    run_in_transaction(filled, rename)

    def look(change: str) -> list[Fault]:
        with as_schema(filled) as schema, schema.connect() as connection, connection.begin() as trial:
            connection.execute(text(change), {"id": person.id})
            found = list(check_ledgers(Session(bind=connection), seal_key(), since=since))
            trial.rollback()
            return found

    assert look("DO 0") == []
    assert "job" in look("UPDATE person SET job = 'forged' WHERE id = :id")[0].problem
    assert look("UPDATE training SET what = 'forged'") == [], "written before: that is for the whole check"
