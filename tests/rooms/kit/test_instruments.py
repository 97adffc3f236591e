"""Instruments of every kind through the API: checks, charges, runs, files, reopening, a site's own protocols."""

from __future__ import annotations

import json
import re
from datetime import timedelta
from importlib.resources import files
from typing import Any
from urllib.parse import quote

import pytest
from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.kernel.codec import encode
from moorfog.core.measuring.readings import Reading, chunk_of, seal_digest
from moorfog.core.record.record import recompute
from moorfog.core.simulation.faults import DRAWN, KIT_FAULTS, drawn
from moorfog.core.simulation.wearer import SimulatedWearer, simulate
from moorfog.demo import scenario
from moorfog.platform.db.base import new_id, run_in_transaction
from moorfog.platform.log.tables import EventRow
from moorfog.rooms.kit.entering import create_instrument
from moorfog.rooms.records.csv_tables import readings_csv
from tests.rooms.bench.test_qualitative import work_off
from tests.rooms.house import Client, House, Refused

FIGURES = {kind: {**figures, "kind": kind} for _, kind, _, figures in scenario.INSTRUMENTS}
METHODS = {"photometer": "aerosol", "pressure": "negative_pressure"}


def enter(house: House, kind: str, name: str = "") -> str:
    """Enter an instrument of a kind at our employer; return its id. Its link's token is its kind and our mark."""
    more = {"serial_number": house.mark, "calibrated_until": "2099-01-01", "zone": house.zone}
    return run_in_transaction(
        house.engine,
        lambda db: create_instrument(
            db,
            name=name or f"{kind} {house.mark}",
            employer_id=house.ours.employer,
            is_simulated=True,
            token=f"{name or kind}-{house.mark}",
            content={**FIGURES[kind], **more},
        ),
    )


def checked(tester: Client, instrument: str, kind: str) -> None:
    for name, value in scenario.GOOD_CHECKS[kind].items():
        tester.post(f"/api/counters/{instrument}/checks", {"name": name, "value": value})


def view(tester: Client, instrument: str) -> dict[str, Any]:
    found: dict[str, Any] = next(one for one in tester.get("/api/counters")["rows"] if one["id"] == instrument)
    return found


def started(tester: Client, visit: str, instrument: str, **more: Any) -> str:
    run = new_id()
    body = {"kind": "start_run", "run_id": run, "instrument_id": instrument, "source": "counter", **more}
    tester.say(visit, body)
    return run


def wearer_of(house: House, protocol_id: str, factor: int = 3000) -> list[Reading]:
    protocol = house.rules.protocol(protocol_id)
    assert protocol is not None
    wearer = SimulatedWearer(5, (factor,) * len(protocol.exercises()), protocol.starts_ms())
    return simulate(protocol, wearer)


def send(tester: Client, run: str, readings: list[Reading], token: str, end: str = "complete") -> None:
    tester.link(f"runs/{run}/chunks", {"chunks": [encode(chunk_of(0, readings))]}, token)
    tester.house.clock.pass_by(readings[-1].t / 1000 + 6)
    at = tester.house.clock.at.isoformat()
    body = {"end": end, "count": len(readings), "sha256": seal_digest(readings), "occurred_at": at}
    tester.link(f"runs/{run}/close", body, token)


@pytest.mark.parametrize(
    ("kind", "protocol"),
    [
        ("photometer", "aerosol-us"),
        ("photometer", "aerosol-us-continuous"),
        ("pressure", "pressure-full"),
        ("pressure", "pressure-short"),
    ],
)
def test_a_run_on_each_kind_of_instrument_to_a_record_that_holds(house: House, kind: str, protocol: str) -> None:
    tester = house.client()
    instrument = enter(house, kind)
    tester.method = METHODS[kind]
    visit = tester.open()
    tester.until(visit, "run")
    with pytest.raises(Refused, match="check_"):
        started(tester, visit, instrument, protocol_id=protocol)
    checked(tester, instrument, kind)
    tester.check_counter()
    with pytest.raises(Refused, match="instrument"):
        started(tester, visit, house.ours.counter, protocol_id=protocol)
    run = started(tester, visit, instrument, protocol_id=protocol)
    plan = tester.link("status", {"state": "reading", "ambient": None}, f"{kind}-{house.mark}")["plan"]
    assert plan["mode"] == kind and plan["may_end_early"] and plan["protocol"]["id"] == protocol
    send(tester, run, wearer_of(house, protocol), f"{kind}-{house.mark}")
    tester.until(visit, "release")
    (one,) = tester.get(f"/api/visits/{visit}")["visit"]["tries"]
    assert one["outcome"] == "pass" and one["bound"] == "unknown"
    assert one["unit"] == {"photometer": "µg/m³", "pressure": "ml/min"}[kind]
    record = tester.get(f"/api/visits/{visit}/record.json")
    assert recompute(record).differences == ()
    readings = record["readings"][run][0]
    readings["signal"][500] += 1
    assert any("sha256" in one.where for one in recompute(record).differences), "one changed reading is found"


def test_what_a_visit_did_to_the_counter_stands_on_its_page(house: House) -> None:
    """A hose that was blown dry after somebody is blown dry on the Kit page; a practice does nothing to it."""
    tester, counter = house.client(), house.ours.counter

    def dried() -> str | None:
        acts = {one["name"]: one["done_at"] for one in view(tester, counter)["acts"]}
        return acts["hose_dry"]

    tester.check_counter()
    before = dried()
    tester.whole_visit(house.ours.people[0], is_practice=True)
    assert dried() == before
    tester.whole_visit(house.ours.people[1])
    after = dried()
    assert after and after != before


def test_the_alcohol_must_have_been_charged_within_its_hours(house: House) -> None:
    tester = house.client()
    counter = house.ours.counter
    for name, value in scenario.GOOD_CHECKS["counter"].items():
        tester.post(f"/api/counters/{counter}/checks", {"name": name, "value": value})
    visit = tester.open()
    tester.until(visit, "run")
    assert view(tester, counter)["blocked_by"] == ["Alcohol: not charged today"]
    with pytest.raises(Refused, match="alcohol"):
        started(tester, visit, counter)
    tester.post(f"/api/counters/{counter}/acts", {"name": "alcohol"})
    assert view(tester, counter)["blocked_by"] == [] and view(tester, counter)["charge_until"]
    house.clock.at += timedelta(hours=8, seconds=1)
    tester = house.client()
    assert "Alcohol: charge it again" in view(tester, counter)["blocked_by"]
    with pytest.raises(Refused, match="no_such_act"):
        tester.post(f"/api/counters/{counter}/acts", {"name": "polished"})


@pytest.mark.parametrize(
    ("kind", "name", "value", "passed"),
    [
        ("pressure", "reference", "0.285", True),
        ("pressure", "reference", "0.284", False),
        ("pressure", "reference", "0.316", False),
        ("pressure", "tightness", "0.002", True),
        ("photometer", "span", "4999", False),
        ("photometer", "clean_air", "1", True),
    ],
)
def test_a_value_on_its_limit_passes_and_one_beyond_does_not(
    house: House, kind: str, name: str, value: str, passed: bool
) -> None:
    tester = house.client()
    instrument = enter(house, kind)
    made = tester.post(f"/api/counters/{instrument}/checks", {"name": name, "value": value})
    assert next(one for one in made["checks"] if one["name"] == name)["passed"] is passed
    trend = tester.get(f"/api/counters/{instrument}/trend/{name}")
    assert [(one["value"], one["passed"]) for one in trend["points"]] == [(value, passed)]
    with pytest.raises(Refused, match="no_such_check"):
        tester.post(f"/api/counters/{instrument}/checks", {"name": "clean_line_ratio", "value": "1"})


def test_a_later_failed_check_lists_and_reopens_the_tests_since_the_last_good_one(house: House) -> None:
    tester = house.client()
    counter = house.ours.counter
    before = tester.whole_visit(house.ours.people[0])
    house.clock.pass_by(60)
    tester.check_counter()
    after = [tester.whole_visit(one) for one in house.ours.people[1:3]]
    assert tester.get("/api/recalls")["rows"] == []
    house.clock.pass_by(60)
    tester.post(f"/api/counters/{counter}/checks", {"name": "clean_line_ratio", "value": "900"})
    (entry,) = tester.get("/api/recalls")["rows"]
    assert (entry["state"], entry["check_name"], entry["tests"]) == ("open", "clean_line_ratio", 1)
    listed = tester.get(f"/api/recalls/{entry['id']}/tests")
    assert [one["visit_id"] for one in listed["rows"]] == after[-1:], "each whole visit began with checks of its own"
    (held,) = tester.get(f"/api/people/{house.ours.people[2]}")["permissions"]["rows"]
    assert not held["may"] and [one["code"] for one in held["reasons"]] == ["suspended"], "at once, nothing pressed"
    with pytest.raises(Refused, match="reason_missing"):
        tester.post(f"/api/recalls/{entry['id']}/settle", {"decision": "confirm", "reason": " "})
    settled = tester.post(f"/api/recalls/{entry['id']}/settle", {"decision": "confirm", "reason": "wet wick"})
    work_off(house)
    assert tester.get(f"/api/jobs/{settled['job_id']}")["state"] == "done"
    outcomes = [tester.get(f"/api/visits/{one}")["visit"]["tries"][-1] for one in (before, *after)]
    assert [one["outcome"] for one in outcomes] == ["pass", "pass", "void"]
    assert "Clean-line ratio failed with 900" in outcomes[-1]["reasons"][0]["sentence"]
    with pytest.raises(Refused, match="settled"):
        tester.post(f"/api/recalls/{entry['id']}/settle", {"decision": "clear", "reason": "no"})


def test_each_check_has_its_own_ledger_and_one_act_clears_it(house: House) -> None:
    tester, counter = house.client(), house.ours.counter
    tester.whole_visit(house.ours.people[0])
    for name, bad, good in (("clean_air", "7", "0"), ("room_air", "3", "5240")):
        house.clock.pass_by(30)
        tester.post(f"/api/counters/{counter}/checks", {"name": name, "value": bad})
        tester.post(f"/api/counters/{counter}/checks", {"name": name, "value": good})
    entries = tester.get("/api/recalls?only_open=true")["rows"]
    assert {one["check_name"] for one in entries} == {"clean_air", "room_air"}, "a good check later clears nothing"
    for number, one in enumerate(entries, start=1):
        tester.post(f"/api/recalls/{one['id']}/settle", {"decision": "clear", "reason": "the hose was wet"})
        (held,) = tester.get(f"/api/people/{house.ours.people[0]}")["permissions"]["rows"]
        assert held["may"] is (number == 2), "every one of them suspends until it is settled"


def waiting_for_numbers(house: House) -> tuple[Client, str, str]:
    tester = house.client()
    tester.check_counter()
    visit = tester.open()
    tester.until(visit, "run")
    return tester, visit, tester.start(visit, "typed")


def test_readings_from_a_file_are_judged_as_those_of_a_link(house: House) -> None:
    tester, visit, run = waiting_for_numbers(house)
    readings = wearer_of(house, "fast-count-elastomeric")
    text = readings_csv((1, one) for one in readings)
    path = f"/api/visits/{visit}/runs/{run}/file"
    with pytest.raises(Refused, match="too_early"):
        tester.post(path, {"text": text})
    house.clock.pass_by(160)
    shown = tester.post(path, {"text": text})["visit"]
    assert all(one["counts"] is not None and one["bound"] != "unknown" for one in shown["tries"][0]["exercises"])
    with pytest.raises(Refused, match="run_over"):
        tester.post(path, {"text": text})
    tester.until(visit, "release")
    assert tester.get(f"/api/visits/{visit}")["visit"]["tries"][0]["outcome"] == "pass"
    assert recompute(tester.get(f"/api/visits/{visit}/record.json")).differences == ()


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda text: "", "column 't_ms' is missing"),
        (lambda text: text.replace("counts", "count", 1), "column 'counts' is missing"),
        (lambda text: text.splitlines()[0], "no reading"),
        (lambda text: text.replace(",O,", ",HALF,", 1), "line 2, valve"),
        (lambda text: text.replace("1,500,250,", "1,5e2,250,", 1), "line 3, t_ms"),
        (lambda text: text.replace("1,500,250,", "1,500,0,", 1), "line 3, dt_ms"),
    ],
)
def test_a_file_that_makes_no_sense_is_named_by_line_and_column_and_loses_nothing(
    house: House, change: Any, words: str
) -> None:
    tester, visit, run = waiting_for_numbers(house)
    house.clock.pass_by(160)
    text = readings_csv((1, one) for one in wearer_of(house, "fast-count-elastomeric"))
    with pytest.raises(Refused) as refused:
        tester.post(f"/api/visits/{visit}/runs/{run}/file", {"text": change(text)})
    assert words in refused.value.body["message"]
    assert tester.get(f"/api/visits/{visit}")["visit"]["run"], "the run still waits"


def test_half_a_file_is_a_gap_and_void(house: House) -> None:
    tester, visit, run = waiting_for_numbers(house)
    house.clock.pass_by(160)
    half = wearer_of(house, "fast-count-elastomeric")[:300]
    text = readings_csv((1, one) for one in half)
    shown = tester.post(f"/api/visits/{visit}/runs/{run}/file", {"text": text})["visit"]
    assert shown["tries"][0]["outcome"] == "void" and shown["tries"][0]["reasons"][0]["code"] == "gap"


def test_faults_are_for_practice_on_a_simulated_instrument_only(house: House) -> None:
    tester = house.client()
    tester.check_counter()
    cases = ((False, "stubble", True), (True, "nonsense", True), (True, "stubble", False))
    for person, (practice, fault, refused) in zip(house.ours.people, cases, strict=False):
        visit = tester.open(person, is_practice=practice)
        tester.until(visit, "run")
        if refused:
            with pytest.raises(Refused, match="fault"):
                started(tester, visit, house.ours.counter, fault=fault)
        else:
            started(tester, visit, house.ours.counter, fault=fault)
            plan = tester.link("status", {"state": "reading", "ambient": None})["plan"]
            factors = plan["simulated"]["factors"]
            assert factors.index(min(factors)) == 1, "jogging takes the place of talking on an elastomeric one"


def test_practice_may_hide_what_is_drawn_by_chance_and_told_at_the_end(house: House) -> None:
    tester = house.client()
    tester.check_counter()
    visit = tester.open(is_practice=True)
    tester.until(visit, "run")
    run = started(tester, visit, house.ours.counter, fault=DRAWN)
    log = tester.get(f"/api/visits/{visit}/log")["events"]
    hidden = next(one["payload"]["hidden"] for one in log if one["payload"]["kind"] == "run_started")
    assert hidden == drawn(run)
    plan = tester.link("status", {"state": "reading", "ambient": None})["plan"]
    assert plan["simulated"]["kit_fault"] == (hidden if hidden in KIT_FAULTS else "")
    assert tester.get(f"/api/visits/{visit}")["visit"]["tries"][0]["hidden"] == "", "not told before it is closed"


SHIPPED = files("moorfog.data").joinpath("protocols/fast-count-elastomeric.toml").read_text()
OURS = SHIPPED.replace('id = "fast-count-elastomeric"', 'id = "ours"', 1).replace("Fast ambient-count", "Our own", 1)


def test_a_protocol_of_the_site_is_pinned_to_its_visits_and_run(house: House) -> None:
    chief, path = house.client("administrator"), f"/api/sites/{house.ours.site}/protocols"
    tried = chief.post(f"{path}/try", {"text": OURS})
    assert tried["problems"] == [] and "reached" in tried["good"] and "below" in tried["bad"]
    assert chief.get(path) == [], "trying stores nothing"
    assert chief.post(path, {"text": OURS})["is_stored"]
    tester = house.client()
    tester.check_counter()
    visit = tester.open()
    tester.until(visit, "run")
    offered = [one["id"] for one in tester.get(f"/api/visits/{visit}")["visit"]["protocols"]]
    assert offered[0] == "fast-count-elastomeric" and offered[-1] == "ours"
    chief.call("POST", f"{path}/ours/withdraw")
    run = started(tester, visit, house.ours.counter, protocol_id="ours")
    send(tester, run, wearer_of(house, "fast-count-elastomeric"), house.ours.token)
    tester.until(visit, "release")
    (one,) = tester.get(f"/api/visits/{visit}")["visit"]["tries"]
    assert one["outcome"] == "pass" and one["protocol_title"].startswith("Our own"), "pinned before it was withdrawn"
    assert recompute(tester.get(f"/api/visits/{visit}/record.json")).differences == (), "the record carries it"
    later = tester.open(house.ours.people[1])
    tester.until(later, "run")
    assert "ours" not in [one["id"] for one in tester.get(f"/api/visits/{later}")["visit"]["protocols"]]


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda text: text.replace("seconds = 50", "seconds = 51", 1), "make them equal"),
        (lambda text: text.replace("count_in_s", "countdown_s", 1), "unknown key"),
        (lambda text: text.replace('family = "fast_count"', 'family = "slow_count"', 1), "is not one of"),
        (lambda text: text + "\n[[exercise", "not readable as TOML"),
    ],
)
def test_a_file_that_is_no_protocol_is_named_by_key(house: House, change: Any, words: str) -> None:
    chief = house.client("administrator")
    with pytest.raises(Refused) as refused:
        chief.post(f"/api/sites/{house.ours.site}/protocols", {"text": change(OURS)})
    assert words in refused.value.body["message"]
    assert chief.get(f"/api/sites/{house.ours.site}/protocols") == []


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda text: SHIPPED, "shipped protocol"),
        (lambda text: re.sub(r"(kinds = \[\s*)", r'\1"halff", ', text, count=1), "no kind of facepiece"),
        (lambda text: text.replace('use = "inside", valve = "IN"', 'use = "inside", valve = "OUT"'), "good seal"),
    ],
)
def test_a_protocol_that_cannot_work_is_found_out_by_the_dry_run(house: House, change: Any, words: str) -> None:
    """Sampled inside with the valve outside: it parses, and only running it shows that nobody could ever pass it."""
    chief, path = house.client("administrator"), f"/api/sites/{house.ours.site}/protocols"
    assert any(words in one for one in chief.post(f"{path}/try", {"text": change(OURS)})["problems"])
    with pytest.raises(Refused, match="bad_protocol"):
        chief.post(path, {"text": change(OURS)})


def test_instruments_are_paged_and_found_by_kind_and_name(house: House) -> None:
    for number in range(26):
        enter(house, "photometer", name=f"Photometer {number:02d} {house.mark}")
    tester = house.client()
    first, second = tester.get("/api/counters?page=1"), tester.get("/api/counters?page=2")
    assert first["pages"] == second["pages"] and len(first["rows"]) == 25
    ids = [one["id"] for one in (*first["rows"], *second["rows"])]
    assert len(set(ids)) == len(ids)
    assert tester.get("/api/counters?page=9")["page"] == first["pages"], "past the last is the last"
    assert {one["kind"] for one in tester.get("/api/counters?kind=photometer")["rows"]} == {"photometer"}
    assert house.ours.counter in [one["id"] for one in tester.get("/api/counters?kind=counter")["rows"]]
    found = tester.get(f"/api/counters?name={quote(f'Photometer 25 {house.mark}')}")
    assert [one["name"] for one in found["rows"]] == [f"Photometer 25 {house.mark}"]


def test_a_part_taken_for_a_test_is_used_by_it_and_stands_in_its_record(house: House) -> None:
    """Moved to another facepiece of the same person it need not be cleaned; nobody else gets it before it is."""
    tester = house.client()
    tester.check_counter()
    entry = {"employer_id": house.ours.employer, "kind": "probe", "fits": "Sedge", "once_only": False}
    part = tester.post("/api/parts", {**entry, "name": f"Probe {house.mark}"})["id"]
    cached = tester.post("/api/parts", {**entry, "name": f"Once {house.mark}", "once_only": True})["id"]
    other = tester.post("/api/parts", {**entry, "name": f"Manifold {house.mark}", "kind": "manifold"})["id"]

    def at_the_probe(person: int, **more: Any) -> str:
        visit = tester.open(house.ours.people[person], **more)
        tester.until(visit, "fit_probe")
        return visit

    visit = at_the_probe(0)
    shown = [one["id"] for one in tester.get(f"/api/visits/{visit}/parts")]
    assert {part, cached} <= set(shown[:2]) and other not in shown, "those entered for the model come first"
    with pytest.raises(Refused, match="never cleaned"):
        tester.say(visit, {"kind": "fit_probe", "part_ids": [part]})
    tester.post(f"/api/parts/{part}/acts", {"name": "cleaned"})
    tester.say(visit, {"kind": "fit_probe", "part_ids": [part, cached]})
    tester.choose(visit, "Sedge", "S")
    tester.until(visit, "fit_probe")
    with pytest.raises(Refused, match="used once already"):
        tester.say(visit, {"kind": "fit_probe", "part_ids": [cached]})
    tester.say(visit, {"kind": "fit_probe", "part_ids": [part]})
    log = tester.get(f"/api/visits/{visit}/log")["events"]
    fitted = [one["payload"]["parts"] for one in log if one["payload"]["kind"] == "probe_fitted"]
    assert [[each["name"] for each in one] for one in fitted] == [
        [f"Probe {house.mark}", f"Once {house.mark}"],
        [f"Probe {house.mark}"],
    ]
    practice = at_the_probe(1, is_practice=True, speed=1)
    with pytest.raises(Refused, match="not cleaned since"):
        tester.say(practice, {"kind": "fit_probe", "part_ids": [part]})
    tester.post(f"/api/parts/{part}/acts", {"name": "cleaned"})
    tester.say(practice, {"kind": "fit_probe", "part_ids": [part]})
    assert not next(one for one in tester.get("/api/parts")["rows"] if one["id"] == part)["blocked_by"]


def test_a_part_is_cleaned_before_it_is_used_again_and_a_once_only_one_never_is(house: House) -> None:
    tester = house.client()
    entry = {
        "employer_id": house.ours.employer,
        "name": f"Adapter {house.mark}",
        "kind": "adapter",
        "fits": "Bracken",
        "once_only": False,
    }
    part = tester.post("/api/parts", entry)
    assert part["blocked_by"] == ["never cleaned here"]
    path = f"/api/parts/{part['id']}/acts"
    with pytest.raises(Refused, match="never cleaned"):
        tester.post(path, {"name": "used"})
    for deed, blocking in (("cleaned", []), ("used", ["not cleaned since it was used"]), ("cleaned", [])):
        house.clock.pass_by(60)
        assert tester.post(path, {"name": deed})["blocked_by"] == blocking
    cached = tester.post("/api/parts", {**entry, "name": f"Once {house.mark}", "once_only": True})
    assert tester.post(f"/api/parts/{cached['id']}/acts", {"name": "used"})["blocked_by"]
    with pytest.raises(Refused, match="used once already"):
        tester.post(f"/api/parts/{cached['id']}/acts", {"name": "used"})
    before = tester.get("/api/parts")["total"]
    tester.post(f"/api/parts/{cached['id']}/acts", {"name": "away"})
    assert tester.get("/api/parts")["total"] == before - 1
    with pytest.raises(Refused, match="bad_part"):
        tester.post("/api/parts", {**entry, "name": " "})


def test_the_instrument_on_the_link_is_the_one_on_file_or_nothing_is_measured_with_it(house: House) -> None:
    """Another counter on the cable gave checks and results under the calibration of the one on file."""
    tester, counter, known = house.client(), house.ours.counter, house.mark

    def heard(serial: str | None) -> dict[str, Any]:
        said = {"state": "reading", "ambient": "5300"} | ({} if serial is None else {"serial": serial})
        tester.call("POST", "/api/link/status", said, {"Authorization": f"Bearer {house.ours.token}"})
        return view(tester, counter)

    other = heard("SIM-9999")
    assert any("SIM-9999" in one and known in one for one in other["blocked_by"]), "both are named"
    with pytest.raises(Refused, match="other_instrument"):
        tester.check_counter()
    heard(f" {known.upper()} ")  # as somebody may have typed it from the plate
    tester.check_counter()
    assert heard(known)["blocked_by"] == []
    assert heard("SIM-9999")["blocked_by"], "changed after the checks of the day"
    visit = tester.open()
    tester.until(visit, "run")
    heard("SIM-9999")
    with pytest.raises(Refused, match="other_instrument"):
        tester.start(visit)
    for unknown in (None, ""):
        shown = heard(unknown)
        assert shown["checks"][-1]["name"] == "plate" and "not read today" in shown["blocked_by"][0]
        with pytest.raises(Refused, match="check_plate"):
            tester.start(visit)
    plate = f"/api/counters/{counter}/checks"
    for wrong in (" ", "9" * 31):
        with pytest.raises(Refused, match="no_serial"):
            tester.post(plate, {"name": "plate", "value": wrong})
    tester.post(plate, {"name": "plate", "value": "SIM-9999"})
    assert "another one than on file" in heard("")["blocked_by"][0]
    tester.post(plate, {"name": "plate", "value": known})
    assert heard("")["blocked_by"] == []
    tester.start(visit)
    with Session(house.engine) as db:
        log = db.scalars(select(EventRow).where(EventRow.visit_id == visit, EventRow.kind == "run_started"))
        frozen = json.loads(next(iter(log)).payload)["instrument"]
    assert "plate" in frozen["required"], "the record says how it was known"
    assert [one["value"] for one in frozen["checks"] if one["name"] == "plate"] == [known]


@pytest.mark.parametrize(("serial", "reason"), [("SIM-9999", "SIM-9999"), ("", "plate")])
def test_an_instrument_that_is_plugged_in_after_the_run_began_gives_no_pass(
    house: House, serial: str, reason: str
) -> None:
    """The run is started while the link is silent, or another counter is put on the cable afterwards."""
    tester = house.client()
    tester.check_counter()
    visit = tester.open()
    tester.until(visit, "run")
    run = tester.start(visit)
    tester.link("status", {"state": "in_run", "ambient": "5300", "serial": serial})
    send(tester, run, wearer_of(house, "fast-count-elastomeric"), house.ours.token)
    (one,) = tester.get(f"/api/visits/{visit}")["visit"]["tries"]
    assert one["outcome"] == "void" and reason in one["reasons"][0]["sentence"]
    assert tester.link("status", {"state": "reading", "ambient": "5300"})["plan"] is None, "the counter is free again"
