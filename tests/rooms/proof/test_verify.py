"""One row of each kind edited, taken out or put elsewhere in the database itself: it is found and named."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from sqlalchemy import Engine, delete, func, insert, select, text, update
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

from moorfog.core.events.chain import link_of_chain
from moorfog.core.rules.book import Rules
from moorfog.platform.db.accounts import ERASABLE
from moorfog.platform.db.base import new_id, run_in_transaction
from moorfog.platform.keys import public_hex, signing_key
from moorfog.platform.log.fault import Fault
from moorfog.platform.log.log import BrokenLog, forget_states, load_rules, load_visit, whole_log
from moorfog.platform.log.readmodels import refresh
from moorfog.platform.log.summaries import TryResult, VisitSummary, WearPermission
from moorfog.platform.log.tables import EventRow, LedgerEntry, LedgerHead, VisitHead
from moorfog.rooms.bench.tables import ReadingChunk, SignatureRow
from moorfog.rooms.papers.tables import DocumentRow
from moorfog.rooms.proof.anchors import check_anchors, make_anchor, printed
from moorfog.rooms.proof.tables import Anchor, Anchored
from moorfog.rooms.proof.verify import Extent, verify
from moorfog.rooms.proof.verify_visits import verify_visits
from tests.rooms.bench.test_runs import close, columns, readings_of
from tests.rooms.house import Client, House, Refused
from tests.unguarded import as_schema, unguarded


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


@pytest.fixture
def house(alone: Engine, rules: Rules) -> House:
    """The house of the other tests, on a database of its own."""
    return House(alone, rules)


def faults(house: House, visit: str) -> list[Fault]:
    with Session(house.engine) as db:
        head = db.get(VisitHead, visit)
        assert head is not None
        return verify_visits(db, [head.id], {head.rules_digest: load_rules(db, head.rules_digest)})


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
    with as_schema(house.engine) as schema:
        for statement, table in GUARDED:
            given = {"v": visit} if ":v" in statement else {}
            refused = f"what stands in {table} is never"
            # what may be emptied where its erasure is written down is kept by the guard, the rest by the account too
            own = refused if statement.startswith("UPDATE") and table in ERASABLE else "command denied"
            for engine, words in ((house.engine, own), (schema, refused)):
                with pytest.raises(DBAPIError, match=words), engine.begin() as connection:
                    connection.execute(text(statement), given)
    assert faults(house, visit) == []


@pytest.mark.parametrize(
    "statement",
    ["DROP TRIGGER event_no_update", "ALTER TABLE event ADD x INT", "TRUNCATE event", "CREATE TABLE x (i INT)"],
)
def test_the_programs_own_account_takes_no_guard_down(house: House, statement: str) -> None:
    with pytest.raises(DBAPIError, match="denied"), house.engine.begin() as connection:
        connection.execute(text(statement))


def cut(house: House, visit: str) -> None:
    """Cut a log off before it was signed, so that what is left holds: head and read models say what it says."""
    with unguarded(house.engine) as db:
        head = db.get_one(VisitHead, visit)
        signed = select(func.min(EventRow.seq)).where(EventRow.visit_id == visit, EventRow.kind == "signed")
        keep = (db.scalar(signed) or 0) - 1
        for table in (SignatureRow, DocumentRow):
            db.execute(delete(table).where(table.visit_id == visit))
        chain = db.scalar(select(EventRow.chain).where(EventRow.visit_id == visit, EventRow.seq == keep))
        db.execute(delete(EventRow).where(EventRow.visit_id == visit, EventRow.seq > keep))
        head.seq, head.chain = keep, chain or ""
        db.flush()
        forget_states()
        refresh(db, head, load_visit(db, head))


def anchored(house: House, key: Ed25519PrivateKey) -> Anchor:
    """An anchor of a day of its own."""
    with Session(house.engine) as db:
        last = db.scalar(select(func.max(Anchor.day))) or ""
    house.clock.pass_by(86_400)
    while house.clock.at.date().isoformat() <= last:
        house.clock.pass_by(86_400)
    made = run_in_transaction(house.engine, lambda db: make_anchor(db, house.clock, key))
    assert made is not None
    return made


def about(house: House, key: Ed25519PrivateKey, kept: tuple[str, ...] = ()) -> list[str]:
    """What the anchors say is wrong, in words."""
    with Session(house.engine) as db:
        found = check_anchors(db, public_hex(key.public_key()), kept)
        return [f"{one.where}: {one.problem}" for one in found]


def test_a_log_cut_together_with_its_head_is_found_by_its_anchor(house: House, tmp_path: Path) -> None:
    key, tester = signing_key(tmp_path), house.client()
    assert signing_key(tmp_path).private_bytes_raw() == key.private_bytes_raw(), "made once"
    assert (tmp_path / "anchors.pem").stat().st_mode & 0o777 == 0o600
    visits = [measured(house, tester), measured(house, tester)]
    first = anchored(house, key)
    assert run_in_transaction(house.engine, lambda db: make_anchor(db, house.clock, key)) is None, "once a day"
    grown = tester.open(house.ours.people[1])
    second = anchored(house, key)
    before = set(about(house, key))
    assert not any(one in words for one in (*visits, grown, f"anchor {second.no}") for words in before)
    kept = (printed(first), printed(second))
    cut(house, visits[0])
    assert faults(house, visits[0]) == [], "by itself it holds"
    (found,) = set(about(house, key, kept)) - before
    assert visits[0] in found and "its log was cut" in found
    # somebody who has the database but not the key makes another anchor in its place
    other = Ed25519PrivateKey.generate()
    with unguarded(house.engine) as db:
        row = db.get_one(Anchor, second.no)
        row.signature, row.public_key = other.sign(row.content.encode()).hex(), public_hex(other.public_key())
    assert any(f"anchor {second.no} " in one and "signature" in one for one in about(house, key))
    with unguarded(house.engine) as db:
        db.execute(delete(Anchored).where(Anchored.no == second.no))
        db.execute(delete(Anchor).where(Anchor.no == second.no))
    assert any(f"anchor {second.no} " in one and "printed" in one for one in about(house, key, kept))
    with unguarded(house.engine) as db:
        db.execute(update(Anchored).where(Anchored.no == first.no, Anchored.visit_id == visits[0]).values(seq=1))
    assert any(f"anchor {first.no} " in one and "heads" in one for one in about(house, key))


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


def lines(found: list[Fault]) -> list[str]:
    return sorted(f"{one.kind} {one.where} {one.problem}" for one in found)


def test_a_check_that_was_broken_off_goes_on_where_it_was_and_finds_the_same(
    house: House, monkeypatch: pytest.MonkeyPatch
) -> None:
    """By one process or two, at one go or with a stop after any batch."""
    tester = house.client()
    for person in house.ours.people:
        tester.open(person)
    with unguarded(house.engine) as db:
        db.connection().execute(update(VisitSummary).values(doing="nothing at all"))
    monkeypatch.setattr("moorfog.rooms.proof.verify.BATCH", 2)
    whole = verify(house.engine)
    assert sum(one.kind == "read model" for one in whole) >= 3
    assert lines(verify(house.engine, extent=Extent(processes=2))) == lines(whole)
    kept: list[tuple[str, list[Fault]]] = []

    def done(visit: str, found: list[Fault]) -> None:
        kept.append((visit, list(found)))
        if len(kept) == 2:
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        verify(house.engine, done=done)
    after, before = kept[-1]
    rest = verify(house.engine, extent=Extent(after=after))
    assert lines([*before, *rest]) == lines(whole) and rest


def test_since_the_last_anchor_only_what_came_after_it_is_looked_at(house: House, tmp_path: Path) -> None:
    tester = house.client()
    old = tester.open()
    anchored(house, signing_key(tmp_path))
    new = tester.open(house.ours.people[1])
    since = Extent(since_anchor=True)
    assert [one for one in verify(house.engine, extent=since) if old in one.where or new in one.where] == []
    with unguarded(house.engine) as db:
        db.connection().execute(update(VisitSummary).where(VisitSummary.visit_id.in_([old, new])).values(doing="x"))
    found = " ".join(lines(verify(house.engine, extent=since)))
    assert new in found and old not in found
    assert old in " ".join(lines(verify(house.engine)))


def test_a_head_that_names_another_site_than_its_log_is_found(house: House) -> None:
    visit = house.client().open()
    with unguarded(house.engine) as db:
        db.connection().execute(update(VisitHead).where(VisitHead.id == visit).values(site_id=house.theirs.site))
    assert "another employer, site or rule set" in faults(house, visit)[0].problem


def test_a_ledger_cut_off_after_it_was_anchored_is_found(house: House, tmp_path: Path) -> None:
    """Cut with all its rows put back, it holds by itself: only the anchor knows that it was longer."""
    key = signing_key(tmp_path)
    anchored(house, key)
    with unguarded(house.engine) as db:
        head = db.get_one(LedgerHead, house.ours.employer)
        for table in ("ledger_entry", "ledger_value"):
            db.execute(text(f"DELETE FROM {table} WHERE ledger = :l AND no = :n"), {"l": head.ledger, "n": head.no})
        last = select(LedgerEntry.chain).where(LedgerEntry.ledger == head.ledger, LedgerEntry.no == head.no - 1)
        head.no, head.chain = head.no - 1, db.scalars(last).one()
    found = [one for one in about(house, key) if house.ours.employer in one]
    assert found and "it was cut" in found[0]
