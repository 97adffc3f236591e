"""The store on a real MariaDB: read models and logs agree, transactions repeat, retried work is stored once."""

from __future__ import annotations

import random
import threading
from collections.abc import Iterator
from typing import Any

import pytest
from sqlalchemy import Engine, select, text, update
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

from moorfog.core.events.chain import check_chain
from moorfog.core.rules.book import Rules
from moorfog.core.transitions.fold import fold
from moorfog.core.visit.outcomes import outcome
from moorfog.core.visit.state import FOLD_VERSION
from moorfog.core.visit.steps import is_signed
from moorfog.platform.db.base import DUPLICATE_KEY, error_code, new_id, run_in_transaction
from moorfog.platform.log.log import forget_states, load_events, load_rules
from moorfog.platform.log.readmodels import TABLES, foreign_fold_version, rebuild, rebuild_foreign
from moorfog.platform.log.summaries import TryResult, VisitSummary, WearPermission
from moorfog.platform.log.tables import EventRow, VisitHead
from moorfog.rooms.sites.tables import Employer
from tests.rooms.house import Client, House, Refused


def rows(engine: Engine) -> dict[str, list[dict[str, Any]]]:
    """Return every read-model row, in key order, but for when it was written."""
    with engine.connect() as db:
        return {
            table.__tablename__: [
                {key: value for key, value in one._mapping.items() if key != "changed_at"}
                for one in db.execute(select(table.__table__).order_by(*table.__table__.primary_key))
            ]
            for table in TABLES
        }


PRESSES: list[dict[str, Any]] = [
    {"kind": "adjusted", "what": "strap"},
    {"kind": "doffed", "why": "refit"},
    {"kind": "decided", "next": "same_again"},
    {"kind": "decided", "next": "other_size"},
    {"kind": "decided", "next": "end"},
    {"kind": "touched", "moved": True},
    {"kind": "stopped", "why": ""},
    {"kind": "turned_away", "reason": "Enough for today.", "come_back_on": None},
    {"kind": "seal_checked", "check": "negative", "wearer": "leaks", "tester": "leaks", "place": "chin"},
    {"kind": "released"},
]


def wander(tester: Client, visit: str, dice: random.Random) -> None:
    """Press keys as they come: mostly what is asked, now and then something else."""
    for _ in range(dice.randint(20, 110)):
        view = tester.get(f"/api/visits/{visit}")["visit"]
        if view["closed"]:
            return
        try:
            if view["run"]:
                inside = dice.choice([("4", "6", "3", "5"), ("400", "60", "30", "50"), ("0", "0", "0", "0")])
                tester.type_numbers(visit, view["run"]["run_id"], inside)
            elif dice.random() < 0.06:
                press = dice.choice(PRESSES)
                is_seen = press["kind"] in ("touched", "stopped", "doffed")
                tester.say(visit, press, **({"expects": None} if is_seen else {}))
            elif view["queue"]:
                card = view["queue"][0]
                if card["act"] == "run":
                    tester.start(visit, "typed")
                else:
                    tester.do(visit, card, view)
            else:
                tester.house.clock.pass_by(60)
        except Refused as refused:
            assert refused.status in (409, 422), refused


@pytest.mark.parametrize("seed", range(4))
def test_rebuilt_read_models_are_the_live_ones_row_by_row(house: House, seed: int) -> None:
    dice, tester = random.Random(seed), house.client()
    tester.check_counter()
    for person in house.ours.people:
        wander(tester, tester.open(person), dice)
    before = rows(house.engine)
    forget_states()
    assert rebuild(house.schema) >= 3
    after = rows(house.engine)
    for table in before:
        assert after[table] == before[table], table
    assert len(before["visit_summary"]) >= 3


def test_read_models_of_another_fold_are_refilled_once(house: House) -> None:
    house.client().whole_visit()
    before = rows(house.engine)
    assert rebuild_foreign(house.schema) == 0
    with house.engine.begin() as connection:
        connection.execute(update(VisitSummary).values(fold_version=FOLD_VERSION - 1))
    assert rebuild_foreign(house.schema) > 0 and rebuild_foreign(house.schema) == 0
    assert rows(house.engine) == before


def test_read_models_say_what_the_logs_say(house: House, rules: Rules) -> None:
    tester = house.client()
    visit = tester.whole_visit()
    with Session(house.engine) as db:
        events = load_events(db, visit)
        state = fold(events, rules)
        assert check_chain(events) is None
        summary = db.get(VisitSummary, visit)
        result = db.get(TryResult, (visit, 1))
        permission = db.scalar(select(WearPermission).where(WearPermission.visit_id == visit))
        head = db.get(VisitHead, visit)
        assert summary and result and permission and head
        assert (summary.source_seq, summary.fold_version, head.seq) == (state.seq, FOLD_VERSION, state.seq)
        assert result.outcome == outcome(state, state.tries[0])[0] == "pass" and is_signed(state)
        assert permission.valid_until.year == permission.valid_from.year + 1
        assert load_rules(db, head.rules_digest).digest == rules.digest


def test_another_fold_version_in_the_read_models_is_found(house: House) -> None:
    visit = house.client().open()
    with Session(house.engine) as db, db.begin():
        assert foreign_fold_version(db) is None
        db.execute(update(VisitSummary).where(VisitSummary.visit_id == visit).values(fold_version=FOLD_VERSION + 1))
        assert foreign_fold_version(db) == FOLD_VERSION + 1
        db.rollback()


def test_a_transaction_is_repeated_on_deadlock(house: House) -> None:
    first, second = house.ours.employer, house.theirs.employer
    meet = threading.Barrier(2, timeout=10)
    runs: list[str] = []

    def swap(one: str, other: str, mark: str) -> None:
        tries = iter(range(9))

        def work(db: Session) -> None:
            runs.append(mark)
            db.execute(update(Employer).where(Employer.id == one).values(name=f"{mark} {house.mark}"))
            if next(tries) == 0:
                meet.wait()
            db.execute(update(Employer).where(Employer.id == other).values(name=f"{mark} {house.mark}"))

        run_in_transaction(house.engine, work)

    threads = [threading.Thread(target=swap, args=pair) for pair in ((first, second, "a"), (second, first, "b"))]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(20)
    assert len(runs) == 3, "one of the two was repeated, once"
    with Session(house.engine) as db:
        names = set(db.scalars(select(Employer.name).where(Employer.id.in_([first, second]))))
    assert len(names) == 1, "both rows are from the same transaction"


@pytest.fixture
def duplicate(house: House) -> Iterator[Any]:
    def work(db: Session) -> None:
        db.add(Employer(id=house.ours.employer, name="again"))
        db.flush()

    yield work


def test_a_duplicate_key_is_tried_twice_and_then_said(house: House, duplicate: Any) -> None:
    calls: list[int] = []

    def work(db: Session) -> None:
        calls.append(1)
        duplicate(db)

    with pytest.raises(DBAPIError) as raised:
        run_in_transaction(house.engine, work)
    assert error_code(raised.value) == DUPLICATE_KEY and len(calls) == 2


def test_two_pages_that_press_at_once_store_one_of_the_two(house: House) -> None:
    tester = house.client()
    visit = tester.open()
    card = tester.get(f"/api/visits/{visit}")["visit"]["queue"][0]
    answer = {"kind": "answered", "question": card["id"], "facts": card["facts"]}
    proposals = [tester.proposal(visit, {**answer, "answer": one}) for one in ("fine", "not_fine")]
    clients, codes = [house.client(), house.client()], []
    meet = threading.Barrier(2, timeout=10)

    def press(client: Client, proposal: dict[str, Any]) -> None:
        meet.wait()
        try:
            client.post(f"/api/visits/{visit}/events", proposal)
            codes.append("stored")
        except Refused as refused:
            codes.append(str(refused.code))

    threads = [threading.Thread(target=press, args=pair) for pair in zip(clients, proposals, strict=True)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(20)
    assert sorted(codes) == ["moved_on", "stored"]
    assert len(tester.get(f"/api/visits/{visit}/log")["events"]) == 2


def test_the_store_itself_refuses_two_events_in_one_place_and_one_id_twice(house: House) -> None:
    visit = house.client().open()
    with Session(house.engine) as db:
        first = db.get(EventRow, (visit, 1))
        assert first is not None
        columns = {one.key: getattr(first, one.key) for one in EventRow.__table__.columns}
    for change in ({"id": new_id()}, {"seq": 2}):
        with pytest.raises(DBAPIError), Session(house.engine) as db, db.begin():
            db.add(EventRow(**{**columns, **change}))
            db.flush()


def test_events_are_clustered_by_visit(house: House) -> None:
    visit = house.client().open()
    with house.engine.connect() as db:
        plan = (
            db.execute(text("EXPLAIN SELECT * FROM event WHERE visit_id = :v ORDER BY seq"), {"v": visit})
            .mappings()
            .all()
        )
        assert plan[0]["key"] == "PRIMARY" and "filesort" not in (plan[0]["Extra"] or "")
