"""What somebody who watches an installation sees: whether it is well, and lines of a log that a program reads."""

from __future__ import annotations

import json
import logging
from collections.abc import Iterator
from datetime import timedelta

import pytest
from sqlalchemy import delete, text
from sqlalchemy.orm import Session

from moorfog.logs import log_formatter
from moorfog.platform.db.base import make_engine, run_in_transaction
from moorfog.platform.jobs.rounds import SILENT, tell_round
from moorfog.platform.jobs.tables import WorkerRound
from moorfog.serving.database import PrivateServer
from tests.rooms.house import House, Refused


@pytest.fixture
def lines(monkeypatch: pytest.MonkeyPatch) -> Iterator[list[str]]:
    """What is logged, line by line, as a part that nobody watches writes it."""
    monkeypatch.setenv("MOORFOG_LOGS", "json")
    written: list[str] = []
    formatter = log_formatter()

    class Keep(logging.Handler):
        def emit(self, record: logging.LogRecord) -> None:
            written.append(formatter.format(record))

    handler = Keep()
    root = logging.getLogger()
    root.addHandler(handler)
    before = root.level
    root.setLevel(logging.INFO)
    yield written
    root.setLevel(before)
    root.removeHandler(handler)


def test_health_says_how_the_worker_fares(house: House) -> None:
    client = house.client()
    with Session(house.engine) as db, db.begin():
        db.execute(delete(WorkerRound))
    assert client.get("/api/health")["worker"] == "not_seen"
    run_in_transaction(house.engine, lambda db: tell_round(db, house.clock))
    found = client.get("/api/health")
    assert (found["ok"], found["worker"]) == (True, "at_work") and found["worker_seen"]
    house.clock.at += SILENT + timedelta(seconds=1)
    assert client.get("/api/health")["worker"] == "silent"


def test_health_refuses_a_schema_of_another_program(house: House, server: PrivateServer) -> None:
    client, engine = house.client(), make_engine(server.schema_url)
    with engine.begin() as connection:
        was = connection.scalar(text("SELECT version_num FROM alembic_version"))
        connection.execute(text("UPDATE alembic_version SET version_num = '0001'"))
    try:
        with pytest.raises(Refused, match="other_schema"):
            client.get("/api/health")
    finally:
        with engine.begin() as connection:
            connection.execute(text("UPDATE alembic_version SET version_num = :was"), {"was": was})
        engine.dispose()
    assert client.get("/api/health")["ok"]


def test_a_line_of_the_log_is_json_and_names_nobody(house: House, lines: list[str]) -> None:
    tester = house.client()
    person = house.ours.people[0]
    tester.open(person)
    tester.get(f"/api/people/{person}")
    logging.getLogger("moorfog.worker").warning("no anchor: %s", "the key is away")
    said = [json.loads(one) for one in lines]
    (answered,) = [one for one in said if one["said"] == "answered" and one["route"] == "/api/visits"]
    assert (answered["method"], answered["status"], answered["level"]) == ("POST", 200, "info")
    assert len(answered["request"]) == 10 and answered["ms"] >= 0 and answered["at"].endswith("Z")
    assert {one["said"] for one in said} >= {"no anchor: the key is away"}
    assert not [one for one in said if one.get("route", "").startswith("/api/people")], "what is only read is no line"
    with Session(house.engine) as db:
        name = db.scalar(text("SELECT name FROM person WHERE id = :id"), {"id": person})
    assert name and not any(name in one or person in one for one in lines)


def test_what_went_wrong_is_found_by_its_number(
    house: House, lines: list[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    def broken(*_: object) -> None:
        raise RuntimeError("a fault of ours")

    monkeypatch.setattr("moorfog.serving.routes.last_round", broken)
    with pytest.raises(Refused) as told:
        house.client().get("/api/health")
    (unexpected,) = [json.loads(one) for one in lines if "a fault of ours" in one]
    assert unexpected["request"] in str(told.value) and "RuntimeError" in unexpected["exception"]
