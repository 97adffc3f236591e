"""One row of each kind edited, taken out or put elsewhere in the database itself: it is found and named."""

from __future__ import annotations

import json
import shutil
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import Engine, delete, insert, select, text, update
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

from moorfog.core.events.chain import link_of_chain
from moorfog.core.rules.book import Rules
from moorfog.demo.seed import enter_facepieces
from moorfog.operations.records.verify import Fault, verify, verify_visit
from moorfog.serving.database import FAST_FLAGS
from moorfog.store.base import make_engine, new_id, run_in_transaction
from moorfog.store.log import BrokenLog, forget_states, load_rules, whole_log
from moorfog.store.models import (
    DocumentRow,
    EventRow,
    ReadingChunk,
    SignatureRow,
    TryResult,
    VisitHead,
    VisitSummary,
    WearPermission,
)
from tests.api.house import Client, House, Refused
from tests.api.test_runs import close, columns, readings_of
from tests.template import running_server
from tests.unguarded import unguarded


def measured(house: House, tester: Client) -> str:
    """A visit with readings of a counter, signed by both and released."""
    tester.check_counter()
    visit = tester.open()
    tester.until(visit, "run")
    run, readings = tester.start(visit), readings_of(house)
    for at in range(0, len(readings), 100):
        tester.link(f"runs/{run}/chunks", {"chunks": [columns(readings[at : at + 100], at)]})
    close(tester, run, readings)
    tester.until(visit, "release")
    tester.say(visit, {"kind": "released"})
    return visit


Edit = Callable[[Session, str], Any]


@pytest.fixture(scope="module")
def alone() -> Iterator[Engine]:
    """A database of this file's own: what is edited here must not lie about for others."""
    home = Path(tempfile.mkdtemp(prefix="mf"))
    home.chmod(0o755)
    server = running_server(home / "db", FAST_FLAGS)
    made = make_engine(server.url)
    run_in_transaction(made, enter_facepieces)
    yield made
    made.dispose()
    server.stop()
    shutil.rmtree(home, ignore_errors=True)


@pytest.fixture
def house(alone: Engine, rules: Rules) -> House:
    """The house of the other tests, on a database of its own."""
    return House(alone, rules)


def faults(house: House, visit: str) -> list[Fault]:
    with Session(house.engine) as db:
        head = db.get(VisitHead, visit)
        assert head is not None
        return verify_visit(db, head, {head.rules_digest: load_rules(db, head.rules_digest)})


def one(db: Session, visit: str, kind: str) -> EventRow:
    found = db.scalars(select(EventRow).where(EventRow.visit_id == visit, EventRow.kind == kind)).first()
    assert found is not None
    return found


def edit_payload(db: Session, visit: str) -> None:
    row = one(db, visit, "run_closed")
    row.payload = row.payload.replace('"complete"', '"stopped"')


def rechain(db: Session, visit: str) -> None:
    """Edit an entry and make its own link again, as somebody would who knows how."""
    row = one(db, visit, "donned")
    before = db.get(EventRow, (visit, row.seq - 1))
    assert before is not None
    content = {**json.loads(row.payload), "unaided": False}
    row.payload = json.dumps(content)
    row.chain = link_of_chain(before.chain, row.id, row.seq, row.version, row.occurred_at, row.actor, content)


def cut_the_end(db: Session, visit: str) -> None:
    head = db.get(VisitHead, visit)
    assert head is not None
    db.execute(delete(EventRow).where(EventRow.visit_id == visit, EventRow.seq == head.seq))


def other_bytes(db: Session, visit: str) -> None:
    row = db.scalars(select(SignatureRow).where(SignatureRow.visit_id == visit)).first()
    assert row is not None
    row.canonical = row.canonical.replace("pass", "fail")


def of(table: Any, **values: Any) -> Edit:
    return lambda db, visit: db.execute(update(table).where(table.visit_id == visit).values(**values))


def gone(table: Any) -> Edit:
    return lambda db, visit: db.execute(delete(table).where(table.visit_id == visit))


def chunks(db: Session, visit: str) -> list[ReadingChunk]:
    run = json.loads(one(db, visit, "run_closed").payload)["run_id"]
    return list(db.scalars(select(ReadingChunk).where(ReadingChunk.run_id == run)))


def edit_a_reading(db: Session, visit: str) -> None:
    row = chunks(db, visit)[1]
    columns = json.loads(row.columns)
    columns["counts"][0] += 1
    row.columns = json.dumps(columns)


EDITS: dict[str, tuple[Edit, str, str]] = {
    "an entry is edited": (edit_payload, "chain", "not what was written"),
    "an entry is edited and chained again": (rechain, "chain", "not what was written"),
    "the actor of an entry is another": (of(EventRow, actor="somebody"), "chain", "not what was written"),
    "an entry is no text any more": (of(EventRow, payload="{"), "chain", "cannot be read"),
    "an entry is taken out": (
        lambda db, visit: db.delete(one(db, visit, "donned")),
        "chain",
        "not what was written",
    ),
    "the end of a log is cut off": (cut_the_end, "chain", "its head says"),
    "a reading is edited": (edit_a_reading, "seal", "sealed"),
    "readings are taken out": (lambda db, visit: db.delete(chunks(db, visit)[-1]), "seal", "sealed"),
    "what was signed is edited": (other_bytes, "signature", "gone, or was changed"),
    "the name beside a signature is another": (of(SignatureRow, typed_name="Other"), "signature", "not the name"),
    "a signature is taken out": (gone(SignatureRow), "signature", "gone, or was changed"),
    "a report has other bytes": (of(DocumentRow, content=b"%PDF-"), "document", "not those that were issued"),
    "a result says pass where the log says fail": (of(TryResult, outcome="fail"), "read model", "try_result"),
    "a permission lasts longer": (of(WearPermission, valid_until="2099-01-01"), "read model", "wear_permission"),
    "a permission is gone": (gone(WearPermission), "read model", "wear_permission"),
    "a visit is somebody else's": (of(VisitSummary, bench="Bench Z"), "read model", "visit_summary"),
}


@pytest.mark.parametrize("what", list(EDITS))
def test_what_was_edited_in_the_database_is_found_and_named(house: House, what: str) -> None:
    edit, kind, words = EDITS[what]
    tester = house.client()
    visit = measured(house, tester)
    tester.post(f"/api/visits/{visit}/reports", {"page_size": "A4"})
    assert faults(house, visit) == []
    with unguarded(house.engine) as db:
        edit(db, visit)
    found = faults(house, visit)
    assert found and all(one.kind == kind and visit in one.where for one in found), found
    assert any(words in one.problem + one.where for one in found), found


def test_nothing_is_made_of_a_log_that_does_not_hold(house: House) -> None:
    tester = house.client()
    visit = measured(house, tester)
    with unguarded(house.engine) as db:
        edit_payload(db, visit)
    forget_states()
    with pytest.raises(Refused, match="log_broken"):
        tester.post(f"/api/visits/{visit}/reports", {"page_size": "A4"})
    with Session(house.engine) as db, pytest.raises(BrokenLog, match=visit):
        head = db.get(VisitHead, visit)
        assert head is not None
        whole_log(db, head)
    with house.engine.connect() as connection:
        assert connection.scalar(text("SELECT COUNT(*) FROM document WHERE visit_id = :v"), {"v": visit}) == 0


GUARDED = [
    ("UPDATE event SET actor = 'somebody' WHERE visit_id = :v", "event"),
    ("DELETE FROM event WHERE visit_id = :v AND seq = 1", "event"),
    ("UPDATE signature SET typed_name = 'Other' WHERE visit_id = :v", "signature"),
    ("DELETE FROM signature WHERE visit_id = :v", "signature"),
    ("UPDATE document SET content = '' WHERE visit_id = :v", "document"),
    ("DELETE FROM document WHERE visit_id = :v", "document"),
    ("UPDATE reading_chunk SET n = 0", "reading_chunk"),
    ("DELETE FROM reading_chunk", "reading_chunk"),
]


def test_the_database_itself_refuses_to_change_or_delete_what_was_written(house: House) -> None:
    tester = house.client()
    visit = measured(house, tester)
    tester.post(f"/api/visits/{visit}/reports", {"page_size": "A4"})
    for statement, table in GUARDED:
        with pytest.raises(DBAPIError, match=f"what stands in {table} is never"), house.engine.begin() as connection:
            connection.execute(text(statement), {"v": visit} if ":v" in statement else {})
    assert faults(house, visit) == []


def test_the_whole_store_is_gone_through_and_a_head_taken_away_is_found(house: House) -> None:
    """By name: what other tests of this file have edited is found too."""
    tester = house.client()
    whole, headless = measured(house, tester), tester.open(house.ours.people[1])
    told: list[tuple[int, int]] = []
    with unguarded(house.engine) as db:
        db.execute(text("SET FOREIGN_KEY_CHECKS = 0"))
        db.execute(delete(VisitHead).where(VisitHead.id == headless))
        db.execute(text("SET FOREIGN_KEY_CHECKS = 1"))
        made_up = db.scalars(select(WearPermission).where(WearPermission.visit_id == whole)).first()
        assert made_up is not None
        columns_of = {one.name: getattr(made_up, one.name) for one in WearPermission.__table__.columns}
        nowhere = new_id()
        db.execute(insert(WearPermission).values(**{**columns_of, "visit_id": nowhere}))
    found = verify(house.engine, lambda done, total: told.append((done, total)))
    assert any(headless in one.where and "head is gone" in one.problem for one in found)
    assert any(nowhere in one.where and "wear_permission" in one.where for one in found), "a permission from nowhere"
    assert not any(whole in one.where for one in found) and told[-1][0] == told[-1][1] > 0
