"""What a counter's link may do, and what becomes of a run when anything goes wrong on the way."""

from __future__ import annotations

import csv
import io
import json
from datetime import timedelta
from fractions import Fraction
from threading import Thread
from typing import Any

import pytest
from sqlalchemy import delete, select, update
from sqlalchemy.orm import Session

from moorfog.core.kernel.arithmetic import cut
from moorfog.core.kernel.codec import encode
from moorfog.core.measuring.readings import Reading, chunk_of, seal_digest
from moorfog.core.record.record import recompute
from moorfog.platform.db.base import new_id
from moorfog.platform.log.tables import Lease
from moorfog.rooms.bench import runs
from moorfog.rooms.bench.proofs import simulated_break_ms
from moorfog.rooms.bench.readings import AT_ONCE, load_chunks, store_next
from moorfog.rooms.bench.tables import ReadingChunk
from tests.core.bench import BAD_FACTORS, GOOD, broken_seal, simulate
from tests.rooms.house import Client, House, Refused
from tests.unguarded import unguarded


def void_stale_runs(house: House) -> None:
    """Void what the worker would void."""
    with Session(house.engine) as db:
        for visit, run in runs.stale_runs(db, house.clock):
            runs.give_up_run(db, house.clock, visit, run)
        db.commit()


def columns(readings: list[Reading], first: int = 0) -> dict[str, Any]:
    """Return readings as the link sends them."""
    return dict(encode(chunk_of(first, readings)))


@pytest.fixture
def at_run(house: House) -> tuple[Client, str, str]:
    """A client, a visit at its run on our counter, and the run."""
    tester = house.client()
    tester.check_counter()
    visit = tester.open()
    tester.until(visit, "run")
    return tester, visit, tester.start(visit)


def readings_of(house: House, factors: tuple[int, ...] = GOOD) -> list[Reading]:
    protocol = next(one for one in house.rules.protocols if one.id == "fast-count-elastomeric")
    return simulate(protocol, factors)


def close(tester: Client, run: str, readings: list[Reading], end: str = "complete", **more: Any) -> Any:
    tester.house.clock.pass_by(155)
    at = tester.house.clock.at.isoformat()
    body = {"end": end, "count": len(readings), "sha256": seal_digest(readings), "occurred_at": at, **more}
    return tester.link(f"runs/{run}/close", body)


def test_a_run_read_by_the_link_is_judged_and_its_lease_let_go(house: House, at_run: tuple[Client, str, str]) -> None:
    tester, visit, run = at_run
    plan = tester.link("status", {"state": "reading", "ambient": "5300"})["plan"]
    assert plan["run_id"] == run and plan["total_ms"] == 149_000 and plan["windows"][0] == [0, 4000, "OUT"]
    readings = readings_of(house)
    for at in range(0, len(readings), 4):
        assert tester.link(f"runs/{run}/chunks", {"chunks": [columns(readings[at : at + 4], at)]})["stored"] > 0
    close(tester, run, readings)
    (one,) = tester.get(f"/api/visits/{visit}")["visit"]["tries"]
    assert one["overall"] and all(row["counts"] is not None and row["bound"] != "unknown" for row in one["exercises"])
    assert tester.link("status", {"state": "reading", "ambient": "5300"})["plan"] is None


def test_readings_sent_again_in_other_chunks_are_stored_once(house: House, at_run: tuple[Client, str, str]) -> None:
    tester, visit, run = at_run
    readings = readings_of(house)
    path = f"runs/{run}/chunks"
    assert tester.link(path, {"chunks": [columns(readings[:10])]})["stored"] == 10
    assert tester.link(path, {"chunks": [columns(readings[:10])]})["stored"] == 0
    assert tester.link(path, {"chunks": [columns(readings[:25])]})["stored"] == 15, "its answer was lost, more came"
    assert tester.link(path, {"chunks": [columns(readings[5:40], 5)]})["stored"] == 15
    with pytest.raises(Refused) as refused:
        tester.link(path, {"chunks": [columns(readings[60:70], 60)]})
    assert refused.value.code == "readings_missing" and refused.value.body["detail"] == {"stored": 40}
    with pytest.raises(Refused, match="readings_missing"):
        close(tester, run, readings)
    tester.link(path, {"chunks": [columns(readings)]})
    close(tester, run, readings)
    with Session(house.engine) as db:
        stored = [one for chunk in load_chunks(db, run) for one in chunk.readings()]
    assert stored == readings
    assert tester.get(f"/api/visits/{visit}")["visit"]["tries"][0]["outcome"] == "unfinished", (
        "comfort is not asked yet"
    )


def test_readings_that_follow_on_are_stored_in_one_question_and_nothing_else_is(
    house: House, at_run: tuple[Client, str, str]
) -> None:
    _, _, run = at_run
    readings = readings_of(house)
    token = house.ours.token

    def store(first: int, end: int, **wrong: str) -> tuple[int, bool] | None:
        chunks = tuple(chunk_of(n, readings[n : n + 4]) for n in range(first, end, 4))
        given = {"token": token, "run": run, **wrong}
        return store_next(house.engine, given["token"], given["run"], chunks)

    assert store(0, 8) == (8, False) and store(8, 12) == (4, False)
    assert store(8, 12) is None, "stored already"
    assert store(16, 20) is None, "a gap before it"
    assert store(12, 16, token="another") is None and store(12, 16, run=new_id()) is None
    assert store(12, 12) is None and store(12, 12 + 4 * (AT_ONCE + 1)) is None
    assert store(12, 16) == (4, False)
    with Session(house.engine) as db:
        assert [one for chunk in load_chunks(db, run) for one in chunk.readings()] == readings[:16]


def test_one_batch_from_two_links_at_the_same_time_is_stored_once(
    house: House, at_run: tuple[Client, str, str]
) -> None:
    """Both answers acknowledge; whoever cuts the readings otherwise, or comes second, stores nothing twice."""
    _, _, run = at_run
    readings = readings_of(house)
    links = [house.client(), house.client()]
    trouble: list[Exception] = []

    def send(link: Client, size: int) -> None:
        try:
            for at in range(0, 240, size):
                chunks = [columns(readings[n : n + 4], n) for n in range(at, at + size, 4)]
                link.link(f"runs/{run}/chunks", {"chunks": chunks})
        except Exception as error:
            trouble.append(error)

    for sizes in ((12, 12), (8, 24), (4, 120)):
        threads = [Thread(target=send, args=pair) for pair in zip(links, sizes, strict=True)]
        for one in threads:
            one.start()
        for one in threads:
            one.join()
        assert not trouble
        with Session(house.engine) as db:
            assert [one for chunk in load_chunks(db, run) for one in chunk.readings()] == readings[:240]
        with unguarded(house.engine) as db:
            db.execute(delete(ReadingChunk).where(ReadingChunk.run_id == run))


def test_a_chunk_that_makes_no_sense_stores_nothing(house: House, at_run: tuple[Client, str, str]) -> None:
    tester, _, run = at_run
    good = columns(readings_of(house)[:4])
    for change, status in (
        ({"counts": [-1, 0, 0, 0]}, 422),
        ({"dt": [250]}, 422),
        ({"valve": "OOXX"}, 422),
        ({"counts": ["1", 0, 0, 0]}, 422),
        ({"counts": [1.5, 0, 0, 0]}, 422),
        ({"surplus": 1}, 422),
    ):
        with pytest.raises(Refused) as refused:
            tester.link(f"runs/{run}/chunks", {"chunks": [good, {**good, "first": 4, **change}]})
        assert refused.value.status == status and refused.value.body["message"]
    with Session(house.engine) as db:
        assert db.scalars(select(ReadingChunk).where(ReadingChunk.run_id == run)).all() == []


@pytest.mark.parametrize(
    ("spoil", "end", "code"),
    [
        (lambda all_: all_[:200], "lost", "lost"),
        (lambda all_: all_[:200] + all_[206:], "complete", "gap"),
        (
            lambda all_: [*all_[:-1], Reading(all_[-1].t, 250, 9, all_[-1].volume_nl, "O", "F")],
            "complete",
            "flow_alarm",
        ),
    ],
)
def test_a_broken_run_is_void_and_keeps_its_readings(
    house: House, at_run: tuple[Client, str, str], spoil: Any, end: str, code: str
) -> None:
    tester, visit, run = at_run
    readings = spoil(readings_of(house))
    tester.link(f"runs/{run}/chunks", {"chunks": [columns(readings)]})
    close(tester, run, readings, end)
    (one,) = tester.get(f"/api/visits/{visit}")["visit"]["tries"]
    assert one["outcome"] == "void" and code in [reason["code"] for reason in one["reasons"]]
    with Session(house.engine) as db:
        assert sum(len(one.t) for one in load_chunks(db, run)) == len(readings)


def test_readings_other_than_those_sealed_void_the_run(house: House, at_run: tuple[Client, str, str]) -> None:
    tester, visit, run = at_run
    readings = readings_of(house)
    tester.link(f"runs/{run}/chunks", {"chunks": [columns(readings)]})
    close(tester, run, readings, sha256="0" * 64)
    (one,) = tester.get(f"/api/visits/{visit}")["visit"]["tries"]
    assert one["outcome"] == "void" and one["reasons"][0]["code"] == "digest"


@pytest.mark.parametrize("speed", [1, 5, 10, 20, 60])
def test_a_practice_shows_the_seal_whole_before_it_is_broken_however_fast_it_runs(speed: int) -> None:
    """A link begins within a second; by then the seal must still be whole, and time be left to read the rise."""
    total_ms = 120_000
    broken = simulated_break_ms(speed, total_ms)
    assert broken > 1_000 * speed + 5_000 and total_ms - broken >= 10_000
    assert simulated_break_ms(1, total_ms) == 14_000


@pytest.fixture
def held(house: House, at_run: tuple[Client, str, str]) -> tuple[Client, str, dict[str, Any]]:
    """A run that read nothing inside: its link is told to read on."""
    tester, visit, run = at_run
    readings = [one._replace(counts=0) if one.valve == "I" else one for one in readings_of(house)]
    tester.link(f"runs/{run}/chunks", {"chunks": [columns(readings)]})
    close(tester, run, readings)
    plan = tester.link("status", {"state": "reading", "ambient": "5300"})["plan"]
    assert plan["proof_of"] == run and plan["windows"] == [[0, plan["total_ms"], "IN"]] and plan["total_ms"] <= 120_000
    return tester, visit, plan


@pytest.mark.parametrize(
    ("fault", "wait", "outcome"), [("", 22, "unfinished"), ("blocked hose", 22, "void"), ("", 130, "void")]
)
def test_the_link_reads_the_proof_itself_and_a_record_binds_its_readings(
    house: House, held: tuple[Client, str, dict[str, Any]], fault: str, wait: int, outcome: str
) -> None:
    """A rise leaves the questions at the end to be answered; no rise, or one too late, is void."""
    tester, visit, plan = held
    protocol = next(one for one in house.rules.protocols if one.id == "fast-count-elastomeric")
    readings = broken_seal(protocol, fault)
    stream = plan["run_id"]
    tester.link(f"runs/{stream}/chunks", {"chunks": [columns(readings)]})
    house.clock.pass_by(wait)
    body = {"end": "complete", "count": len(readings), "sha256": seal_digest(readings)}
    tester.link(f"runs/{stream}/close", {**body, "occurred_at": house.clock.at.isoformat()})
    shown = tester.get(f"/api/visits/{visit}")["visit"]
    assert shown["tries"][0]["outcome"] == outcome and shown["proof"] is None
    assert tester.link("status", {"state": "reading", "ambient": "5300"})["plan"] is None
    record = tester.get(f"/api/visits/{visit}/record.json")
    assert not recompute(record).differences
    record["readings"][stream][0]["counts"][-1] += 1
    assert any("sha256" in one.where for one in recompute(record).differences)


@pytest.mark.parametrize("how", ["doffed", "did not rise", "nobody seals it"])
def test_a_proof_that_can_no_more_be_had_lets_the_instrument_go(
    house: House, held: tuple[Client, str, dict[str, Any]], how: str
) -> None:
    tester, visit, plan = held
    with pytest.raises(Refused) as refused:
        tester.say(visit, {"kind": "proof_given", "run_id": plan["proof_of"], "rose": True, "seen": "9000"})
    assert refused.value.code == "read_by_link", "nobody types what the instrument reads"
    if how == "doffed":
        tester.say(visit, {"kind": "doffed", "why": "lifted"}, expects=None)
    elif how == "did not rise":
        tester.say(visit, {"kind": "proof_given", "run_id": plan["proof_of"], "rose": False, "seen": ""})
    else:
        house.clock.pass_by(121 + runs.GRACE.total_seconds() + runs.AWAY.total_seconds())
        void_stale_runs(house)
    with Session(house.engine) as db:
        assert db.get(Lease, house.ours.counter) is None
    if how != "doffed":
        assert tester.get(f"/api/visits/{visit}")["visit"]["tries"][0]["outcome"] == "void"


@pytest.mark.parametrize("heard", [True, False])
def test_a_run_nobody_seals_is_void_and_its_counter_free(
    house: House, at_run: tuple[Client, str, str], heard: bool
) -> None:
    """A link that speaks but does not seal is waited for briefly; one not heard may hold the readings of an outage."""
    tester, visit, run = at_run
    house.clock.pass_by(149 + 5 + 1)
    if heard:
        tester.link("status", {"state": "reading", "ambient": None})
    for wait in (runs.GRACE, runs.AWAY):
        house.clock.pass_by(wait.total_seconds() + 1)
        void_stale_runs(house)
        (one,) = tester.get(f"/api/visits/{visit}")["visit"]["tries"]
        assert (one["outcome"] == "void") == (heard or wait == runs.AWAY)
    with Session(house.engine) as db:
        assert db.get(Lease, house.ours.counter) is None
    with pytest.raises(Refused, match="no_lease"):
        tester.link(f"runs/{run}/chunks", {"chunks": []})


def test_a_link_that_has_the_run_in_hand_is_waited_for_like_one_that_is_away(
    house: House, at_run: tuple[Client, str, str]
) -> None:
    """It answers, and has readings of an outage to send: it is catching up."""
    tester, visit, run = at_run
    house.clock.pass_by(149 + 5 + runs.GRACE.total_seconds() + 1)
    tester.link("status", {"state": "reading", "ambient": None, "run_id": run})
    void_stale_runs(house)
    assert tester.get(f"/api/visits/{visit}")["visit"]["tries"][0]["outcome"] != "void"
    tester.link("status", {"state": "reading", "ambient": None, "run_id": ""})
    void_stale_runs(house)
    assert tester.get(f"/api/visits/{visit}")["visit"]["tries"][0]["outcome"] == "void", "it has lost that run"


def test_no_run_is_void_while_its_readings_come(house: House, at_run: tuple[Client, str, str]) -> None:
    tester, visit, run = at_run
    readings = readings_of(house)
    tester.link(f"runs/{run}/chunks", {"chunks": [columns(readings[:40])]})
    house.clock.pass_by(149 + 5 + (runs.GRACE + runs.AWAY).total_seconds() + 1)
    with Session(house.engine) as db:
        assert runs.stale_runs(db, house.clock, run) == [(visit, run)]
    with unguarded(house.engine) as work:  # the database's clock is not the one of this house
        work.connection().execute(update(ReadingChunk).values(received_at=house.clock.at - timedelta(seconds=3)))
    void_stale_runs(house)
    assert tester.get(f"/api/visits/{visit}")["visit"]["tries"][0]["outcome"] != "void"
    tester.link(f"runs/{run}/chunks", {"chunks": [columns(readings[40:], 40)]})
    close(tester, run, readings)
    assert tester.get(f"/api/visits/{visit}")["visit"]["tries"][0]["outcome"] != "void"


def test_what_comes_as_the_worker_gives_a_run_up_keeps_it(house: House, at_run: tuple[Client, str, str]) -> None:
    """The worker had found it stale, and then waited for whoever was taking the readings in."""
    tester, visit, run = at_run
    house.clock.pass_by(149 + 5 + (runs.GRACE + runs.AWAY).total_seconds() + 1)
    with Session(house.engine) as db:
        assert runs.stale_runs(db, house.clock, run) == [(visit, run)]
    tester.link(f"runs/{run}/chunks", {"chunks": [columns(readings_of(house)[:40])]})
    with unguarded(house.engine) as work:
        work.connection().execute(update(ReadingChunk).values(received_at=house.clock.at))
    with Session(house.engine) as db, db.begin():
        runs.give_up_run(db, house.clock, visit, run)
    assert tester.get(f"/api/visits/{visit}")["visit"]["tries"][0]["outcome"] != "void"


def test_an_outage_past_the_runs_end_loses_nothing(house: House, at_run: tuple[Client, str, str]) -> None:
    tester, visit, run = at_run
    readings = readings_of(house)
    house.clock.pass_by(149 + 5 + 100)
    void_stale_runs(house)
    tester.link(f"runs/{run}/chunks", {"chunks": [columns(readings)]})
    close(tester, run, readings)
    assert tester.get(f"/api/visits/{visit}")["visit"]["tries"][0]["outcome"] != "void"


def test_two_benches_cannot_read_one_counter(house: House, at_run: tuple[Client, str, str]) -> None:
    tester, _, _ = at_run
    other = tester.open(house.ours.people[1], bench="Bench B")
    tester.until(other, "run")
    with pytest.raises(Refused) as refused:
        tester.start(other)
    assert refused.value.status == 409 and refused.value.code == "counter_busy"
    assert tester.get(f"/api/visits/{other}")["visit"]["tries"] == [], "the refused start left nothing behind"


def test_stopping_tells_the_link_and_an_early_stop_is_no_fail(house: House, at_run: tuple[Client, str, str]) -> None:
    tester, visit, run = at_run
    readings = readings_of(house)[:100]
    tester.link(f"runs/{run}/chunks", {"chunks": [columns(readings)]})
    tester.say(visit, {"kind": "stopped", "why": ""}, 30, expects=None)
    assert tester.link("status", {"state": "in_run", "ambient": None})["plan"]["stop"] is True
    assert tester.link(f"runs/{run}/chunks", {"chunks": [columns(readings)]}) == {"stored": 0, "stop": True}
    close(tester, run, readings, "stopped")
    assert tester.get(f"/api/visits/{visit}")["visit"]["tries"][0]["outcome"] == "unfinished"


def test_a_run_stopped_when_it_could_not_pass_any_more_is_a_fail(house: House, at_run: tuple[Client, str, str]) -> None:
    tester, visit, run = at_run
    readings = [one for one in readings_of(house, tuple(one // 10 or 1 for one in BAD_FACTORS)) if one.t <= 100_000]
    tester.link(f"runs/{run}/chunks", {"chunks": [columns(readings)]})
    tester.say(visit, {"kind": "stopped", "why": ""}, 100, expects=None)
    close(tester, run, readings, "stopped")
    (one,) = tester.get(f"/api/visits/{visit}")["visit"]["tries"]
    assert (one["outcome"], one["reasons"][0]["code"]) == ("fail", "cannot_pass")


def test_without_todays_checks_or_calibration_no_run_is_permitted(house: House) -> None:
    tester = house.client()
    visit = tester.open()
    tester.until(visit, "run")
    with pytest.raises(Refused, match="check_room_air"):
        tester.start(visit)
    tester.check_counter()
    tester.post(f"/api/counters/{house.ours.counter}/checks", {"name": "clean_air", "value": "7"})
    with pytest.raises(Refused, match="check_clean_air"):
        tester.start(visit)
    counter = next(one for one in tester.get("/api/counters")["rows"] if one["id"] == house.ours.counter)
    assert counter["blocked_by"] == ["Clean air: failed today with 7"]
    house.clock.at += timedelta(days=1)
    tester = house.client()
    assert len(tester.get("/api/counters")["rows"][0]["blocked_by"]) == 4, "yesterday's checks and charge do not count"


@pytest.mark.parametrize("value", ["nan", "inf", "-1", "1e5", "", "lots"])
def test_a_check_is_a_number_or_nothing(house: House, value: str) -> None:
    with pytest.raises(Refused) as refused:
        house.client().post(f"/api/counters/{house.ours.counter}/checks", {"name": "clean_air", "value": value})
    assert refused.value.status == 422 and "Clean air" in refused.value.body["message"]


def test_the_full_count_is_chosen_at_the_start_and_judged_by_its_own_windows(house: House) -> None:
    tester = house.client()
    tester.check_counter()
    visit = tester.open()
    shown = tester.until(visit, "run")
    offered = {one["id"]: one["seconds"] for one in shown["protocols"]}
    assert offered == {"fast-count-elastomeric": 149, "full-count-us": 435}
    run = new_id()
    body = {"kind": "start_run", "run_id": run, "instrument_id": house.ours.counter, "source": "counter"}
    for wrong in ("full-count-gb", "fast-count-disposable", "nothing"):
        with pytest.raises(Refused, match="not_permitted"):
            tester.say(visit, {**body, "run_id": new_id(), "protocol_id": wrong})
    tester.say(visit, {**body, "protocol_id": "full-count-us"})
    protocol = house.rules.protocol("full-count-us")
    assert protocol is not None
    readings = simulate(protocol, (900,) * 8)
    tester.link(f"runs/{run}/chunks", {"chunks": [columns(readings)]})
    house.clock.pass_by(290)
    close(tester, run, readings)
    made = tester.get(f"/api/visits/{visit}")["visit"]["tries"][-1]
    assert [one["name"] for one in made["exercises"]].count("Grimace") == 0 and len(made["exercises"]) == 7
    finish = tester.until(visit, "release")
    assert finish["verdict"] == "pass" and finish["tries"][-1]["protocol_title"].startswith("Ambient count")


def test_seven_typed_figures_make_a_full_count(house: House) -> None:
    tester = house.client()
    tester.check_counter()
    visit = tester.open()
    tester.until(visit, "run")
    run = new_id()
    body = {"kind": "start_run", "run_id": run, "instrument_id": house.ours.counter, "source": "typed"}
    tester.say(visit, {**body, "protocol_id": "full-count-us"})
    house.clock.pass_by(290)
    with pytest.raises(Refused, match="exercise_missing"):
        tester.type_numbers(visit, run, ("4",) * 8)
    tester.type_numbers(visit, run, ("4", "6", "3", "5", "4", "7", "5"))
    assert tester.get(f"/api/visits/{visit}")["visit"]["tries"][-1]["overall"]


def test_what_is_exported_computes_again_to_what_the_screen_says(house: House) -> None:
    tester = house.client()
    tester.check_counter()
    visit = tester.open()
    for number, factors in enumerate((BAD_FACTORS, GOOD)):
        tester.until(visit, "run")
        run = tester.start(visit)
        readings = readings_of(house, factors)
        tester.link(f"runs/{run}/chunks", {"chunks": [columns(readings)]})
        close(tester, run, readings)
        if number == 0:
            tester.say(visit, {"kind": "decided", "next": "same_again"})
    tester.until(visit, "release")
    tester.say(visit, {"kind": "released"})
    record = json.loads(tester.call("GET", f"/api/visits/{visit}/record.json", raw=True))
    done = recompute(record)
    assert done.differences == ()
    shown = tester.get(f"/api/visits/{visit}")["visit"]["tries"]
    assert [(one.outcome, cut(Fraction(one.overall or "0"))) for one in done.verdict.tries] == [
        (one["outcome"], one["overall"]) for one in shown
    ]
    text = json.dumps({key: one for key, one in record.items() if key != "statements"}, ensure_ascii=False)
    assert "Åsa Tarn" not in text and "tester ours" not in text, "persons are ids"
    assert "Åsa Tarn" in json.dumps(record["statements"], ensure_ascii=False), "what was signed holds what was typed"
    readings_csv = tester.call("GET", f"/api/visits/{visit}/readings.csv").decode()
    assert len(readings_csv.splitlines()) == 1 + sum(len(readings_of(house, one)) for one in (BAD_FACTORS, GOOD))
    results = list(csv.reader(io.StringIO(tester.call("GET", f"/api/visits/{visit}/results.csv").decode())))
    assert len(results) == 1 + 2 * 5 and results[-1][5] == "overall" and results[-1][9] == shown[-1]["overall"]
