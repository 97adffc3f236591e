"""Bad bodies and impossible numbers: one error shape, words that say what to do, and nothing stored."""

from __future__ import annotations

import json
import unicodedata
from typing import Any

import pytest

from moorfog.core.rules.kit_gate import lot_is_over, unfit_today
from moorfog.platform.db.base import new_id
from moorfog.rooms.people.roster_file import ORDERS, read_day
from tests.core.bench import START, counter
from tests.rooms.house import Client, House, Refused


@pytest.mark.parametrize("revision", ["²", "٣", "9" * 30, "9" * 4400, "-1", "x"])
def test_a_revision_that_is_no_number_is_a_report_that_is_not_there(house: House, revision: str) -> None:
    tester = house.client()
    visit = tester.whole_visit(house.ours.people[0])
    with pytest.raises(Refused) as refused:
        tester.get(f"/api/visits/{visit}/reports/A4/{revision}")
    assert refused.value.status == 404


@pytest.mark.parametrize("text", ["²", "1" * 400 + "-01-01", "1-1-" + "9" * 400, "99999999999999999999-01-01", "²-²-²"])
def test_a_day_that_is_none_reads_as_none(text: str) -> None:
    for order in ORDERS:
        assert read_day(text, order) is None


def raw(client: Client, content: bytes, media: str = "application/json") -> tuple[int, dict[str, Any]]:
    answer = client.web.post("/api/visits", data=content, content_type=media, headers={"X-Moorfog-Token": client.token})
    return answer.status_code, answer.get_json()


@pytest.mark.parametrize(
    ("content", "media", "status", "code"),
    [
        (b"", "application/json", 400, "not_json"),
        (b"{", "application/json", 400, "not_json"),
        (b"\xff\xfe", "application/json", 400, "not_json"),
        (b"[]", "application/json", 422, "bad_body"),
        (b"{}", "text/plain", 415, "not_json"),
        (b"a=1", "application/x-www-form-urlencoded", 415, "not_json"),
        (b"x" * (12 * 1024 * 1024 + 1), "application/json", 413, None),
    ],
)
def test_a_body_that_is_no_json_is_said_so(house: House, content: bytes, media: str, status: int, code: str) -> None:
    got, body = raw(house.client(), content, media)
    assert got == status and set(body) == {"code", "message", "detail"} and body["message"]
    assert code is None or body["code"] == code


@pytest.mark.parametrize(
    ("change", "where"),
    [
        ({"speed": "1"}, "speed"),
        ({"speed": True}, "speed"),
        ({"speed": 1.0}, "speed"),
        ({"is_practice": 0}, "is_practice"),
        ({"bench": None}, "bench"),
        ({"surplus": 1}, "surplus"),
        ({"person_id": 5}, "person_id"),
    ],
)
def test_a_wrongly_typed_or_extra_field_is_named(house: House, change: dict[str, Any], where: str) -> None:
    with pytest.raises(Refused) as refused:
        house.client().open(**change)
    assert refused.value.status == 422 and where in refused.value.body["message"]


@pytest.mark.parametrize(
    "path",
    ["/api/visits/not-an-id", "/api/people/%00", "/api/visits/01a20ffd-532c-7aeb-8aad-f7a264a87ec2", "/api/nothing"],
)
def test_what_is_not_there_is_said_in_the_same_shape(house: House, path: str) -> None:
    with pytest.raises(Refused) as refused:
        house.client().get(path)
    assert refused.value.status == 404 and set(refused.value.body) == {"code", "message", "detail"}


def test_an_id_that_is_none_is_refused_before_it_is_stored(house: House) -> None:
    for change in ({"visit_id": "x"}, {"event_id": "' or 1=1"}, {"person_id": "?"}):
        with pytest.raises(Refused) as refused:
            house.client().open(**change)
        assert refused.value.status in (404, 422)


@pytest.mark.parametrize(
    ("row", "code"),
    [
        ({"outside": "nan", "inside": "1"}, "not_a_number"),
        ({"outside": "inf", "inside": "1"}, "not_a_number"),
        ({"outside": "5e3", "inside": "1"}, "not_a_number"),
        ({"outside": "0", "inside": "1"}, "ambient"),
        ({"outside": "-5300", "inside": "1"}, "ambient"),
        ({"outside": "5300", "inside": None}, "missing"),
        ({"outside": None, "inside": None, "factor": "0"}, "not_positive"),
        ({"outside": "5300", "inside": "1", "factor": "5300"}, "both"),
        ({"outside": "5300", "inside": "5300"}, None),
        ({"outside": "200", "inside": "1"}, None),
    ],
)
def test_impossible_numbers_are_named_or_void_the_try(house: House, row: dict[str, Any], code: str | None) -> None:
    tester = house.client()
    tester.check_counter()
    visit = tester.open()
    tester.until(visit, "run")
    run = tester.start(visit, "typed")
    good = {"outside": "5300", "inside": "4", "factor": None}
    body = {
        "kind": "numbers_typed",
        "run_id": run,
        "resolution": "1",
        "exercises": [good, {"factor": None, **row}, good, good],
    }
    if code is None:
        (one,) = tester.say(visit, body, 160)["tries"]
        assert one["outcome"] == "void" and one["reasons"][0]["code"] in ("hoses_first", "ambient_low")
        return
    with pytest.raises(Refused) as refused:
        tester.say(visit, body, 160)
    assert refused.value.code == code and "Jog on the spot" in refused.value.body["message"]
    assert tester.get(f"/api/visits/{visit}")["visit"]["run"], "the run still waits for its numbers"


def test_numbers_before_the_protocol_is_over_are_refused(house: House) -> None:
    tester = house.client()
    tester.check_counter()
    visit = tester.open()
    tester.until(visit, "run")
    run = tester.start(visit, "typed")
    rows = [{"outside": "5300", "inside": "4", "factor": None}] * 4
    body = {"kind": "numbers_typed", "run_id": run, "resolution": "1", "exercises": rows}
    with pytest.raises(Refused, match="too_early"):
        tester.say(visit, body, 100)
    with pytest.raises(Refused, match="exercise_missing"):
        tester.say(visit, {**body, "exercises": rows[:3]}, 100)


def test_a_displayed_zero_is_at_least_outside_over_half_a_step(house: House) -> None:
    """6,850 outside and a displayed 0 on a whole-number display: at least 13,700 (computed)."""
    tester = house.client()
    tester.check_counter()
    visit = tester.open()
    tester.until(visit, "run")
    run = tester.start(visit, "typed")
    rows = [{"outside": "6850", "inside": one, "factor": None} for one in ("0", "5", "5", "5")]
    (one,) = tester.say(visit, {"kind": "numbers_typed", "run_id": run, "resolution": "1", "exercises": rows}, 160)[
        "tries"
    ]
    assert one["exercises"][0]["factor"] == "≥ 13700" and one["bound"] == "unknown" and one["overall"].startswith("≥")


@pytest.mark.parametrize(
    "sign",
    ["\x00", "\x07", "\n", "\x1b", "\x7f", "\x85", "\u200f", "\u202e", "\u2066", "\ufffe", "\ufdd0", "\U0001ffff"],
)
def test_a_sign_that_nobody_sees_is_refused_at_the_door(house: House, sign: str) -> None:
    """None of them can be written to every kind of paper and file, and some make one name look like another."""
    admin, before = house.client("administrator"), house.client().get("/api/people")["total"]
    entry = {"site_id": house.ours.site, "number": new_id()[-8:], "job": "", "task": "", "contact": ""}
    entry |= {"clearance": None, "training": None}
    with pytest.raises(Refused) as refused:
        admin.post("/api/people", {**entry, "name": f"Orla{sign} Wick"})
    assert refused.value.status == 422 and f"U+{ord(sign):04X}" in refused.value.body["message"]
    assert house.client().get("/api/people")["total"] == before


def test_names_of_every_script_are_taken_and_written_one_way(house: House) -> None:
    admin = house.client("administrator")
    entry = {"site_id": house.ours.site, "job": "", "task": "", "contact": "", "clearance": None, "training": None}
    for name in ("Zoe\u0308 O\u2019Brien-Smith", "Ольга Вик", "أورلا ويك", "織田 みどり", "Nguyễn Thị Ánh"):
        made = admin.post("/api/people", {**entry, "name": name, "number": new_id()[-8:]})
        shown = admin.get(f"/api/people/{made['id'] if 'id' in made else made['person_id']}")
        assert unicodedata.normalize("NFC", name) in json.dumps(shown, ensure_ascii=False)


@pytest.mark.parametrize(
    "at", ["0001-01-01T00:00:00+14:00", "9999-12-31T23:59:59-14:00", "1949-12-31T00:00:00Z", "3000-01-01T00:00:00Z"]
)
def test_a_moment_at_the_ends_of_the_calendar_is_no_moment(house: House, at: str) -> None:
    tester = house.client()
    visit = tester.open()
    card = tester.get(f"/api/visits/{visit}")["visit"]["queue"][0]
    body = {"kind": "answered", "question": card["id"], "answer": "fine", "facts": card["facts"]}
    with pytest.raises(Refused) as refused:
        tester.post(f"/api/visits/{visit}/events", {**tester.proposal(visit, body), "occurred_at": at})
    assert refused.value.status == 422 and "occurred_at" in refused.value.body["message"]


@pytest.mark.parametrize("day", ["2026-W05-1", "2026W051", "20260105", "2026-005", "2026-1-5", "２０２６-01-05"])
def test_a_day_is_written_one_way_wherever_it_is_compared(house: House, day: str) -> None:
    """A week of the year sorts after every day of it: a calibration until then would have counted all year."""
    admin = house.client("administrator")
    shown = admin.get(f"/api/instruments/{house.ours.counter}")
    figures = {**shown["figures"], "calibrated_until": day}
    entry = {"name": shown["name"], "employer_id": shown["employer_id"], "figures": figures, "line": ""}
    with pytest.raises(Refused, match="calibrated_until"):
        admin.call("PUT", f"/api/instruments/{house.ours.counter}", entry)
    assert unfit_today(counter(calibrated_until=day), START) == ["calibration"] and lot_is_over(day, "2026-01-01")
