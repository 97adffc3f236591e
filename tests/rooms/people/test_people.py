"""Entering people: clearance, training, measuring, and rosters from CSV and XLSX as jobs."""

from __future__ import annotations

import base64
import io
from datetime import date, timedelta
from typing import Any
from urllib.parse import urlencode
from zoneinfo import ZoneInfo

import pytest
from icalendar import Calendar
from openpyxl import Workbook, load_workbook
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from moorfog.jobs import run_job
from moorfog.platform.jobs.jobs import claim
from moorfog.platform.jobs.tables import Job
from moorfog.rooms.due import due
from moorfog.rooms.people import roster as imports
from moorfog.rooms.people.tables import Person, PersonWord
from tests.rooms.house import GRAIN, NAMES, TASK, Client, House, Refused
from tests.rooms.test_access import BODIES


def roster(house: House, text: str | bytes, name: str = "roster.csv", **more: Any) -> dict[str, Any]:
    content = base64.b64encode(text.encode() if isinstance(text, str) else text).decode()
    return {"site_id": house.ours.site, "file_name": name, "content": content, "columns": {}, **more}


def work_off(house: House) -> None:
    """Do what a worker does, until nothing waits."""
    while (job := claim(house.engine)) is not None:
        run_job(house.engine, job)


def head_count(house: House) -> int:
    with Session(house.engine) as db:
        return db.scalar(select(func.count()).select_from(Person).where(Person.employer_id == house.ours.employer)) or 0


def lines(house: House, count: int) -> str:
    rows = [f"Wørker {number} Åsvik;{house.mark}x{number};grain dust" for number in range(count)]
    return "Full Name;No;Task\n" + "\n".join(rows)


def test_a_csv_roster_is_matched_previewed_and_imported_as_a_job(house: House) -> None:
    admin = house.client("administrator")
    file = roster(house, lines(house, 30))
    preview = admin.post("/api/imports/preview", file)
    assert preview["columns"] == {"name": 0, "number": 1, "task": 2}
    assert preview["rows"] == 30 and preview["error_count"] == 0 and len(preview["sample"]) == imports.SHOWN_ROWS
    assert head_count(house) == 3, "a preview stores nothing"
    job = admin.post("/api/imports", file)
    assert job["state"] == "waiting"
    work_off(house)
    job = admin.get(f"/api/jobs/{job['id']}")
    assert (job["state"], job["done"], job["total"]) == ("done", 30, 30) and "30 people" in job["message"]
    assert admin.get(f"/api/people?q=worker {house.mark}x7")["total"] == 1, "accents folded, found by words"


def test_an_xlsx_roster_is_read_like_a_csv(house: House) -> None:
    book = Workbook()
    sheet = book.active
    assert sheet is not None
    for row in (
        ("Employee", "Personnel number", "Site", "Phone"),
        ("Ida Holm", 4711, "Quay", "x1"),
        ("Per Å", "4712", "", ""),
    ):
        sheet.append(row)
    out = io.BytesIO()
    book.save(out)
    admin = house.client("administrator")
    file = roster(house, out.getvalue(), "People.XLSX")
    preview = admin.post("/api/imports/preview", file)
    assert preview["errors"] == [] and preview["columns"] == {"name": 0, "number": 1, "site": 2, "contact": 3}
    admin.post("/api/imports", file)
    work_off(house)
    assert [one["name"] for one in admin.get("/api/people?q=4711")["rows"]] == ["Ida Holm"]


def test_what_is_wrong_is_listed_by_row_and_column_and_nothing_is_imported(house: House) -> None:
    admin = house.client("administrator")
    text = f"name,number,site\nA,1{house.mark},Quay\n,2{house.mark},Quay\nC,1{house.mark},Moon\nD,{house.mark}-0,\nE,,"
    file = roster(house, text)
    preview = admin.post("/api/imports/preview", file)
    found = {(one["row"], one["column"]) for one in preview["errors"]}
    assert found == {(3, "name"), (4, "number"), (4, "site"), (6, "number")}
    assert any("row 2 already" in one["problem"] for one in preview["errors"])
    job = admin.post("/api/imports", file)
    work_off(house)
    job = admin.get(f"/api/jobs/{job['id']}")
    assert job["state"] == "failed" and "Nothing was imported" in job["message"] and head_count(house) == 3


@pytest.mark.parametrize(
    ("change", "code"),
    [
        ({"file_name": "roster.pdf"}, "unknown_file"),
        ({"content": "§"}, "not_base64"),
        ({"content": base64.b64encode(b"name,number\n").decode()}, "empty_file"),
        ({"file_name": "x.xlsx"}, "bad_xlsx"),
        ({"columns": {"name": 0, "number": 9}}, "bad_column"),
        ({"columns": {"shoe size": 0}}, "bad_column"),
    ],
)
def test_a_file_that_is_no_roster_is_said_so(house: House, change: dict[str, Any], code: str) -> None:
    with pytest.raises(Refused) as refused:
        house.client("administrator").post("/api/imports/preview", {**roster(house, "name,number\nA,1"), **change})
    assert refused.value.code == code and refused.value.body["message"]


def test_a_cancelled_import_leaves_nothing(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    admin = house.client("administrator")
    waiting = admin.post("/api/imports", roster(house, lines(house, 5)))
    assert admin.post(f"/api/jobs/{waiting['id']}/cancel", None)["state"] == "cancelled"
    job = admin.post("/api/imports", roster(house, lines(house, 1200)))
    claimed = claim(house.engine)
    assert claimed is not None and claimed.id == job["id"]
    insert, calls = imports.index_people, []

    def cancel_in_the_middle(db: Session, people: Any) -> None:
        insert(db, people)
        calls.append(1)
        if len(calls) == 2:
            admin.post(f"/api/jobs/{job['id']}/cancel", None)

    monkeypatch.setattr(imports, "index_people", cancel_in_the_middle)
    monkeypatch.setattr("moorfog.jobs.TELL_EVERY_S", 0)
    run_job(house.engine, claimed)
    assert len(calls) == 2 and admin.get(f"/api/jobs/{job['id']}")["state"] == "cancelled"
    assert head_count(house) == 3
    with Session(house.engine) as db:
        words = select(func.count()).select_from(PersonWord).where(PersonWord.employer_id == house.ours.employer)
        assert db.scalar(words) == 10, "no word of a cancelled person is left"


def book(*rows: tuple[Any, ...], before: tuple[tuple[Any, ...], ...] = ()) -> bytes:
    """A workbook whose second sheet holds the rows."""
    made = Workbook()
    made.create_sheet("People")
    for row in (*before, *rows):
        made["People"].append(row)
    out = io.BytesIO()
    made.save(out)
    return out.getvalue()


def test_a_second_roster_says_who_is_new_changed_moved_back_and_missing(house: House) -> None:
    admin, tester = house.client("administrator"), house.client()
    slip = {"name": "Slip", "zone": "Europe/London", "rule_book": "us-29cfr1910-134", "benches": ["B"]}
    admin.post(f"/api/employers/{house.ours.employer}/sites", slip)
    for there in (house.ours.site, next(one["id"] for one in admin.get("/api/sites") if one["name"] == "Slip")):
        for name in ("grain dust", "blasting"):
            admin.post(f"/api/sites/{there}/tasks", {**BODIES["enter_task"], "name": name})
    first, second, third = (f"{house.mark}-{n}" for n in range(3))
    tester.post(f"/api/people/{house.ours.people[1]}/left", {"left_on": house.clock.at.date().isoformat()})
    entry = {"site_id": house.ours.site, "job": "", "task": "", "contact": ""}
    for name, number in (("Ida Holm", "gone"), ("Per Moss", "stays")):
        admin.post("/api/people", {**entry, "name": name, "number": number})
    text = (
        "Name,No,Site,Task\n"
        f"Åsa Tarn,{first},Slip,grain dust\n"
        f"Łukasz Moss Heather,{second},Quay,grain dust\n"
        f"Bo Fell,{third},Quay,blasting\n"
        "Per Moss,stays,Quay,\n"
        "Asa Tárn,fresh,Quay,\n"
    )
    file = roster(house, text)
    preview = admin.post("/api/imports/preview", file)
    assert preview["counts"] == {"new": 1, "changed": 1, "moved": 1, "back": 1, "missing": 1, "same": 1}
    assert preview["lines"][0]["twin"] == f"Åsa Tarn, {first}", "somebody of that name is entered already"
    assert preview["twins"] == 1
    shown = {
        kind: admin.post(f"/api/imports/preview?kind={kind}", file)["lines"][0]
        for kind in ("changed", "moved", "back", "missing")
    }
    assert shown["changed"]["changes"] == ["task: grain dust → blasting"] and shown["changed"]["row"] == 4
    assert shown["moved"]["changes"] == ["site: Quay → Slip"] and shown["missing"]["name"] == "Ida Holm"
    today = house.clock.at.date().isoformat()
    assert shown["back"]["changes"] == [f"left on {today}"]
    ticked = {**file, "skip": [4], "left": [shown["missing"]["person_id"]], "left_on": today}
    admin.post("/api/imports", ticked)
    work_off(house)
    people = {one["number"]: one for one in admin.get("/api/people")["rows"]}
    assert people[third]["task"] == "grain dust", "what was not ticked stays"
    assert people[first]["site"] == "Slip" and people[second]["left_on"] == "" and people["gone"]["left_on"] == today
    again = admin.post("/api/imports/preview", {**file, "skip": [4]})["counts"]
    assert (again["same"], again["changed"], again["new"]) == (3, 1, 1), "a likely twin is not taken unasked"
    assert "fresh" not in people
    admin.post("/api/imports", {**file, "skip": [4], "sure": [preview["lines"][0]["row"]]})
    work_off(house)
    assert "fresh" in {one["number"] for one in admin.get("/api/people")["rows"]}
    with Session(house.engine) as db:
        contents = select(Job.content).where(Job.employer_id == house.ours.employer)
        assert set(db.scalars(contents)) == {""}, "the file is gone when the job is through"


@pytest.mark.parametrize(
    ("encoding", "name"),
    [("utf-16", "Zoë Łąka"), ("cp1250", "Jiří Žďárský, Łukasz Wójcik, Győző Őri"), ("utf-8-sig", "Ärla")],
)
def test_the_encoding_of_a_file_is_recognised_and_shown(house: House, encoding: str, name: str) -> None:
    lines = "".join(f'"{name}";{n};"Příliš žluťoučký kůň, gęślą jaźń"\n' for n in range(40))
    if encoding == "utf-8-sig":
        lines = f"{name};1;x\n"
    preview = house.client("administrator").post(
        "/api/imports/preview", roster(house, f"Name;No;Job\n{lines}".encode(encoding))
    )
    assert preview["sample"][0][0] == name and preview["encoding"] == encoding.removesuffix("-sig")


def test_a_sheet_its_heading_row_and_joined_names_are_found_and_zeros_kept(house: House) -> None:
    content = book(
        ("Family name", "First name", "No", "Trained on"),
        ("Holm", "Ida", "0071", "2026-02-01"),
        (),
        ("Total", None, None, None),
        ("Moss", "Per", "=A2", "=TODAY()"),
        before=(("Roster of the boatyard",), ()),
    )
    admin = house.client("administrator")
    with pytest.raises(Refused, match="empty_file"):
        admin.post("/api/imports/preview", roster(house, content, "people.xlsx"))
    preview = admin.post("/api/imports/preview", roster(house, content, "people.xlsx", sheet=1))
    assert (preview["sheets"], preview["heading_row"]) == (["Sheet", "People"], 3)
    assert [(one["name"], one["number"], one["row"]) for one in preview["lines"]] == [("Ida Holm", "0071", 4)]
    assert [one["row"] for one in preview["odd"]] == [6]
    assert {(one["row"], one["column"]) for one in preview["errors"]} == {(7, "No"), (7, "Trained on")}


@pytest.mark.parametrize(("order", "day"), [("dmy", "2026-03-04"), ("mdy", "2026-04-03")])
def test_the_order_of_days_is_chosen_once_and_never_guessed(house: House, order: str, day: str) -> None:
    admin = house.client("administrator")
    text = f"Name,No,Cleared on,Cleared by,Trained on\nIda Holm,{house.mark}d,04/03/2026,Harbour Row,2026-01-31\n"
    preview = admin.post("/api/imports/preview", roster(house, text))
    assert preview["needs_order"] and [one["column"] for one in preview["errors"]] == ["Cleared on"]
    admin.post("/api/imports", roster(house, text, day_order=order))
    work_off(house)
    made = admin.get(f"/api/people?q={house.mark}d")["rows"][0]["id"]
    view = admin.get(f"/api/people/{made}")
    assert view["clearance"]["valid_from"] == day and view["clearance"]["by"] == "Harbour Row"
    assert view["trained_on"] == "2026-01-31"
    later = text.replace(f"{house.mark}d", f"{house.mark}e")
    kept = admin.post("/api/imports/preview", roster(house, later))
    assert (kept["needs_order"], kept["day_order"], kept["errors"]) == (False, order, []), "the next one is read by it"
    other = {"dmy": "mdy", "mdy": "dmy"}[order]
    assert admin.post("/api/imports/preview", roster(house, later, day_order=other))["day_order"] == other
    theirs = house.client("administrator", house.theirs)
    foreign = {**roster(house, later), "site_id": house.theirs.site}
    assert theirs.post("/api/imports/preview", foreign)["needs_order"], "another employer writes as it likes"


@pytest.mark.parametrize(
    ("filed", "wrong", "limits"),
    [
        ({"status": "not cleared", "valid_from": "today"}, [], []),
        ({"status": "not cleared"}, ["cleared on"], []),
        ({"limits": ["no full facepiece"]}, [], ["no full facepiece"]),
    ],
)
def test_no_roster_lifts_what_stands_against_somebody(
    house: House, filed: dict[str, Any], wrong: list[str], limits: list[str]
) -> None:
    admin, person = house.client("administrator"), house.ours.people[0]
    today = house.clock.at.date().isoformat()
    clear(admin, person, **{key: today if value == "today" else value for key, value in filed.items()})
    file = roster(house, f"Name,No,Cleared on\nÅsa Tarn,{house.mark}-0,{today}\n")
    preview = admin.post("/api/imports/preview?kind=changed", file)
    assert [one["column"] for one in preview["errors"]] == wrong
    kept = [f"cleared on {today}", f"still with: {limits[0]}"] if limits else []
    assert [words for one in preview["lines"] for words in one["changes"]] == kept
    admin.post("/api/imports", file)
    work_off(house)
    shown = admin.get(f"/api/people/{person}")["clearance"]
    assert shown["status"] == filed.get("status", "cleared") and shown["limits"] == limits
    if not wrong:
        assert admin.post("/api/imports/preview", file)["counts"]["same"] == 1, "the same roster again files nothing"


@pytest.mark.parametrize(
    ("heading", "cells", "column"),
    [
        ("Trained on", "2099-01-01", "trained on"),
        ("Trained on", "0206-01-01", "Trained on"),
        ("Cleared on,Cleared until", "2026-02-01,2026-01-01", "cleared until"),
        ("Cleared until", "2027-01-01", "cleared on"),
    ],
)
def test_a_roster_files_no_day_that_makes_no_sense(house: House, heading: str, cells: str, column: str) -> None:
    file = roster(house, f"Name,No,{heading}\nIda Holm,{house.mark}s,{cells}\n")
    errors = house.client("administrator").post("/api/imports/preview", file)["errors"]
    assert [one["column"] for one in errors] == [column]


def test_a_job_whose_worker_died_is_taken_up_again(house: House) -> None:
    admin = house.client("administrator")
    job = admin.post("/api/imports", roster(house, lines(house, 3)))
    assert claim(house.engine) is not None
    assert claim(house.engine) is None, "it is being done"
    with Session(house.engine) as db, db.begin():
        row = db.get(Job, job["id"])
        assert row is not None and row.heartbeat_at is not None
        row.heartbeat_at = row.heartbeat_at.replace(year=2020)
    work_off(house)
    assert admin.get(f"/api/jobs/{job['id']}")["state"] == "done" and head_count(house) == 6


def test_a_number_belongs_to_one_person(house: House) -> None:
    entry = {
        "site_id": house.ours.site,
        "name": " Ida  Holm ",
        "number": f"{house.mark}-0",
        "job": "",
        "task": "",
        "contact": "",
    }
    with pytest.raises(Refused, match="number_taken"):
        house.client().post("/api/people", entry)
    made = house.client().post("/api/people", {**entry, "number": "new"})
    assert house.client().get(f"/api/people/{made['id']}")["person"]["name"] == "Ida Holm"
    with pytest.raises(Refused, match="name_missing"):
        house.client().post("/api/people", {**entry, "name": " ", "number": "x"})


def test_a_person_is_entered_with_what_was_seen_of_them_or_not_at_all(house: House) -> None:
    plain = {"name": "Ida Holm", "job": "", "task": "", "contact": "", "site_id": house.ours.site, "number": "seen"}
    seen = {"status": "cleared", "limits": [], "valid_from": "2026-01-01", "valid_until": "", "by_whom": "Harbour Row"}
    before = head_count(house)
    with pytest.raises(Refused, match="in_the_future"):
        training = {"trained_on": "2099-01-01", "what": "at the bench"}
        house.client().post("/api/people", {**plain, "clearance": seen, "training": training})
    assert head_count(house) == before
    made = house.client().post("/api/people", {**plain, "clearance": seen})
    assert house.client().get(f"/api/people/{made['id']}")["clearance"]["status"] == "cleared"


def clear(client: Client, person: str, **changes: Any) -> None:
    plain = {"status": "cleared", "limits": [], "valid_from": "2026-01-01", "valid_until": "", "by_whom": "Harbour Row"}
    client.post(f"/api/people/{person}/clearance", {**plain, **changes})


@pytest.mark.parametrize(
    ("changes", "code"),
    [
        ({"limits": ["asthma"]}, "unknown_limit"),
        ({"by_whom": " "}, "by_missing"),
        ({"valid_from": "soon"}, "not_a_date"),
        ({"valid_until": "2025-01-01"}, "dates"),
    ],
)
def test_a_clearance_holds_no_medical_detail_and_makes_sense(house: House, changes: dict[str, Any], code: str) -> None:
    with pytest.raises(Refused) as refused:
        clear(house.client(), house.ours.people[0], **changes)
    assert refused.value.code == code


@pytest.mark.parametrize(
    ("changes", "block"),
    [
        ({}, None),
        ({"valid_until": "2026-01-02"}, "clearance"),
        ({"valid_from": "2999-01-01"}, None),  # filed ahead: the one that counts today still does
        ({"status": "not cleared"}, "clearance"),
        ({"status": "pending"}, "clearance"),
        ({"limits": ["no half facepiece"]}, None),
    ],
)
def test_the_clearance_on_file_decides(house: House, changes: dict[str, Any], block: str | None) -> None:
    """An empty end is not expired; expired, pending, not yet begun and refused are stops nobody passes over."""
    tester, person = house.client(), house.ours.people[0]
    clear(tester, person, **changes)
    visit = tester.open(person)
    shown = tester.get(f"/api/visits/{visit}")["visit"]
    found = [one["code"] for one in shown["between"] if one["code"].startswith("clearance")]
    assert found == ([block] if block else [])
    assert shown["on_file"].startswith(changes.get("status", "cleared"))
    tester.until(visit, "choose_facepiece")
    if changes.get("limits"):
        with pytest.raises(Refused, match="clearance_limit"):
            tester.choose(visit, "Sedge")
        tester.choose(visit, "Teasel V")


def test_training_on_file_is_not_asked_again(house: House) -> None:
    tester, person = house.client(), house.ours.people[0]
    day = (house.clock.at.date() - timedelta(days=2)).isoformat()
    tester.post(f"/api/people/{person}/training", {"trained_on": day, "what": "donning"})
    with pytest.raises(Refused, match="in_the_future"):
        tester.post(f"/api/people/{person}/training", {"trained_on": "2931-02-01", "what": "donning"})
    visit = tester.open(person)
    tester.until(visit, "chin")
    asked = []
    for _ in range(40):
        card = tester.get(f"/api/visits/{visit}")["visit"]["queue"][0]
        if card["act"]:
            break
        asked.append(card["id"])
        tester.do(visit, card, {})
    assert "brief_means" in asked and "training" not in asked
    assert tester.get(f"/api/people/{person}")["trained_on"] == day


def test_caliper_readings_and_a_third_when_they_are_apart(house: House) -> None:
    tester, person = house.client(), house.ours.people[0]
    path = f"/api/people/{person}/measurements"
    apart = tester.post(path, {"length": ["118", "122.5"], "width": ["140", "141"], "lip": []})
    assert apart["stored"] is False and "third" in apart["questions"][0]
    assert tester.get(f"/api/people/{person}")["face_length"] == "118.0", "nothing was stored yet"
    done = tester.post(path, {"length": ["118", "122.5", "122"], "width": ["140", "141"], "lip": []})
    assert done["stored"] and done["length"] == "122.2" and done["cell"] == 7
    assert any("more than last time" in one for one in done["questions"])
    odd = tester.post(path, {"length": ["60", "61"], "width": [], "lip": []})
    assert odd["stored"] and odd["cell"] is None and "Unusual" in odd["questions"][0]
    view = tester.get(f"/api/people/{person}")
    assert [(one["length"], one["width"], one["cell"]) for one in view["measures"]] == [
        ("60.5", "", None),
        ("122.2", "140.5", 7),
    ], "over time, the last first"
    assert view["next_up"] == {"until": "", "ends_by": ""}
    for bad in ("nan", "-5", "5000", ""):
        with pytest.raises(Refused) as refused:
            tester.post(path, {"length": [bad, "120"], "width": [], "lip": []})
        assert refused.value.code in ("not_a_number", "not_a_length")


def test_a_report_of_change_ends_a_pass_at_once_and_only_a_test_or_a_reason_brings_it_back(house: House) -> None:
    tester, admin, supervisor = house.client(), house.client("administrator"), house.client("supervisor")
    person = house.ours.people[1]
    tester.whole_visit(person)
    shown = supervisor.get(f"/api/people/{person}")
    today, setup = shown["permissions"]["day"], shown["permissions"]["rows"][0]
    assert setup["may"]
    entry = {"kind": "fit", "on": today, "said_by": "wearer", "words": "slips on the nose", "configuration": ""}
    address = f"/api/people/{person}/reports"
    for wrong in (
        {"on": (date.fromisoformat(today) + timedelta(days=1)).isoformat()},
        {"kind": "mood"},
        {"configuration": "0" * 64},
        {"words": "x" * 201},
    ):
        with pytest.raises(Refused, match=r"422|404"):
            supervisor.post(address, {**entry, **wrong})
    with pytest.raises(Refused, match="not_found"):
        house.client("supervisor", house.theirs).post(address, entry)
    house.clock.pass_by(60)
    first = supervisor.post(address, {**entry, "configuration": setup["configuration"]})["id"]
    row = tester.get(f"/api/people/{person}")["permissions"]["rows"][0]
    assert not row["may"] and row["reasons"][0]["sentence"].startswith("It was reported not to fit any more")
    assert tester.get(f"/api/people/{person}")["reports"][0]["words"] == "slips on the nose"
    with pytest.raises(Refused, match="role_missing"):
        supervisor.post(f"/api/reports/{first}/withdrawal", {"why": "mistaken"})
    with pytest.raises(Refused, match="reason_missing"):
        admin.post(f"/api/reports/{first}/withdrawal", {"why": ""})
    admin.post(f"/api/reports/{first}/withdrawal", {"why": "it was another person's"})
    assert tester.get(f"/api/people/{person}")["permissions"]["rows"][0]["may"]
    visit = tester.open(person)
    supervisor.post(address, {**entry, "kind": "health", "said_by": "clinician"})
    assert not tester.get(f"/api/people/{person}")["permissions"]["rows"][0]["may"]
    assert "pending" in str([one["sentence"] for one in tester.get(f"/api/visits/{visit}")["visit"]["between"]])
    tester.say(visit, {"kind": "turned_away", "reason": "the clinician first", "come_back_on": None})
    house.clock.pass_by(60)
    cleared = {"status": "cleared", "limits": [], "valid_from": today, "valid_until": "", "by_whom": "Harbour Row"}
    tester.post(f"/api/people/{person}/clearance", cleared)
    assert tester.get(f"/api/people/{person}")["permissions"]["rows"][0]["may"]
    deeds = [one["deed"] for one in admin.get(f"/api/journal?subject={person}")["rows"]]
    assert deeds.count("reported a change") == 2 and "took back a report of change" in deeds


def test_tomorrows_crew_is_answered_person_by_person_with_the_way_out(house: House) -> None:
    tester, supervisor, admin = house.client(), house.client("supervisor"), house.client("administrator")
    first, second, third = house.ours.people
    tester.whole_visit(second)
    tester.whole_visit(third)
    asked = f"/api/tomorrow?site={house.ours.site}"
    shown = supervisor.get(asked)
    here = house.clock.at.astimezone(ZoneInfo(house.zone)).date()
    assert shown["day"] == (here + timedelta(days=1)).isoformat() and (shown["may"], shown["may_not"]) == (2, 1)
    rows = {one["person_id"]: one for one in shown["rows"]}
    assert shown["rows"][0]["person_id"] == first, "who may not comes first"
    assert [one["code"] for one in rows[first]["reasons"]] == ["no_pass"] and rows[second]["set_ups"][0]["until"]
    lacked = {"id": "fit_test", "words": "a fit test", "settled_by": "tester", "people": 1}
    assert shown["shortages"] == [lacked] and rows[first]["short_of"] == ["fit_test"] and not rows[second]["short_of"]
    house.clock.pass_by(60)
    today = here.isoformat()
    said = {"kind": "face", "on": today, "said_by": "supervisor", "words": "new scar", "configuration": ""}
    supervisor.post(f"/api/people/{second}/reports", said)
    again = {one["person_id"]: one for one in supervisor.get(asked)["rows"]}[second]
    assert not again["may"] and again["nearest"] and again["reasons"][0]["settled_by"] == "tester"
    for person in (second, third):  # the page of the person and the crew say the same, whatever the day
        for day in (today, (here + timedelta(days=200)).isoformat(), (here + timedelta(days=500)).isoformat()):
            rows = tester.get(f"/api/people/{person}/permissions?day={day}")["rows"]
            line = {one["person_id"]: one for one in supervisor.get(f"{asked}&day={day}")["rows"]}[person]
            assert line["may"] is any(one["may"] for one in rows)

    pasted = f"{house.mark}-2, {house.mark}-1;nobody\\n{house.mark}-2"
    by_number = supervisor.get(f"{asked}&{urlencode({'numbers': pasted.replace(chr(92) + 'n', chr(10))})}")
    assert [one["person_id"] for one in by_number["rows"]] == [second, third] and by_number["unknown"] == ["nobody"]
    with pytest.raises(Refused, match="unknown_numbers"):
        supervisor.post(f"/api/sites/{house.ours.site}/crews", {"name": "Early", "numbers": pasted})
    early = {"name": "Early", "numbers": f"{house.mark}-2 {house.mark}-1"}
    crew = supervisor.post(f"/api/sites/{house.ours.site}/crews", early)["id"]
    kept = supervisor.get(f"{asked}&crew={crew}")
    assert [one["number"] for one in kept["rows"]] == [f"{house.mark}-1", f"{house.mark}-2"]
    assert kept["crews"] == [{"id": crew, "name": "Early", "people": 2}]
    of_task = supervisor.get(f"{asked}&task={house.ours.task}&day=2026-01-01")
    assert of_task["task"] == "grain dust" and of_task["may"] == 0, "nobody was tested by then"
    for wrong, code in (("&day=soon", "not_a_date"), (f"&task={crew}", "not_found"), (f"&crew={first}", "not_found")):
        with pytest.raises(Refused, match=code):
            supervisor.get(asked + wrong)
    for call in (
        lambda one: one.get(asked),
        lambda one: one.get(f"/api/tomorrow?site={house.theirs.site}&crew={crew}"),
        lambda one: one.call("DELETE", f"/api/crews/{crew}"),
    ):
        with pytest.raises(Refused, match="not_found"):
            call(house.client("supervisor", house.theirs))
    book = load_workbook(io.BytesIO(supervisor.call("GET", asked.replace("tomorrow", "tomorrow.xlsx"), raw=True)))
    lines = list(book.active.iter_rows(values_only=True))
    assert lines[0][:4] == ("name", "number", "task", "may wear") and {one[3] for one in lines[1:]} == {"yes", "no"}
    admin.call("DELETE", f"/api/crews/{crew}")
    assert supervisor.get(asked)["crews"] == []


def test_who_is_due_is_told_by_the_earliest_of_test_clearance_and_training(
    house: House, monkeypatch: pytest.MonkeyPatch
) -> None:
    tester, supervisor = house.client(), house.client("supervisor")
    first, second, third = house.ours.people
    for person in (first, second, third):
        tester.whole_visit(person)
    here = house.clock.at.astimezone(ZoneInfo(house.zone)).date()
    asked = f"/api/due?site={house.ours.site}"
    assert supervisor.get(asked)["total"] == 0, "trained a month ago, tested today"
    soon = (here + timedelta(days=20)).isoformat()
    cleared = {"status": "cleared", "limits": [], "valid_from": here.isoformat(), "by_whom": "Harbour Row"}
    tester.post(f"/api/people/{first}/clearance", {**cleared, "valid_until": soon})
    found = supervisor.get(asked)
    assert (found["within"], found["notice"], found["unable"], found["soon"]) == (60, 60, 0, 1)
    line = found["rows"][0]
    assert (line["person_id"], line["until"], line["days"], line["ends_by"]) == (first, soon, 20, "the clearance")
    assert line["is_only"]
    house.clock.pass_by(60)
    said = {"kind": "fit", "on": here.isoformat(), "said_by": "wearer", "words": "", "configuration": ""}
    supervisor.post(f"/api/people/{second}/reports", said)
    both = supervisor.get(asked + "&within=90")
    assert [one["person_id"] for one in both["rows"]] == [second, first] and both["unable"] == 1
    assert both["rows"][0]["reasons"][0]["code"] == "reported_fit"
    house.clock.pass_by(60)
    admin = house.client("administrator")
    admin.post(f"/api/sites/{house.ours.site}/tasks", {**TASK, **GRAIN, "name": "grain dust"})
    monkeypatch.setattr(due, "WHILE_WAITING", 0)  # a site of more people than are worked out while somebody waits
    assert supervisor.get(asked + "&within=90")["pending"] == 3, "it is said that somebody may be missing"
    whole = supervisor.call("GET", asked.replace("/due", "/due.xlsx") + "&within=90", raw=True)
    assert len(list(load_workbook(io.BytesIO(whole)).active)) == 3, "what is taken away is whole"
    monkeypatch.undo()
    again = supervisor.get(asked + "&within=90")
    assert again["pending"] == 0 and [one["person_id"] for one in again["rows"]] == [second, first]
    far = supervisor.get(asked + "&within=366")
    assert {one["person_id"]: one["ends_by"] for one in far["rows"]}[third] == "the training"
    admin.call("PUT", f"/api/sites/{house.ours.site}/words", {"terms": "", "notice_days": 10, "keep_months": None})
    assert supervisor.get(asked)["soon"] == 0 and supervisor.get(asked)["within"] == 10
    with pytest.raises(Refused, match="not_found"):
        house.client("supervisor", house.theirs).get(asked)
    book = load_workbook(
        io.BytesIO(supervisor.call("GET", asked.replace("/due", "/due.xlsx") + "&within=90", raw=True))
    )
    assert [one[0] for one in book.active.iter_rows(min_row=2, values_only=True)] == [NAMES[1], NAMES[0]]


def test_a_calendar_has_who_is_due_by_initials_at_an_address_that_can_be_ended(house: House) -> None:
    """Read back by another reader of RFC 5545, icalendar's own parser; the same people keep their identifiers."""
    tester, supervisor = house.client(), house.client("supervisor")
    person = house.ours.people[0]
    tester.whole_visit(person)
    here = house.clock.at.astimezone(ZoneInfo(house.zone)).date()
    until = here + timedelta(days=20)
    cleared = {"status": "cleared", "limits": [], "valid_from": here.isoformat(), "by_whom": "Harbour Row"}
    tester.post(f"/api/people/{person}/clearance", {**cleared, "valid_until": until.isoformat()})
    path = supervisor.post(f"/api/sites/{house.ours.site}/calendar")["path"]
    content = house.stranger().call("GET", path, raw=True)
    (event,) = Calendar.from_ical(content).walk("VEVENT")
    assert event["uid"] == f"{person}@moorfog" and event.decoded("dtstart") == until
    assert str(event["summary"]) == f"Å. T. {house.mark}-0: the clearance ends"
    assert NAMES[0].encode() not in content
    again = house.stranger().call("GET", path, raw=True)
    assert Calendar.from_ical(again).walk("VEVENT")[0]["uid"] == event["uid"]
    fresh = supervisor.post(f"/api/sites/{house.ours.site}/calendar")["path"]
    with pytest.raises(Refused, match="not_found"):
        house.stranger().get(path)
    admin = house.client("administrator")
    colleagues = {one["login"]: one["id"] for one in admin.get("/api/accounts")["rows"]}
    admin.post(f"/api/accounts/{colleagues[supervisor.login]}/off")
    with pytest.raises(Refused, match="not_found"):
        house.stranger().get(fresh)


def test_the_board_and_the_gate_say_what_the_crew_page_says(house: House) -> None:
    tester, supervisor = house.client(), house.client("supervisor")
    first, second, third = house.ours.people
    tester.whole_visit(first)
    tester.whole_visit(second)
    here = house.clock.at.astimezone(ZoneInfo(house.zone)).date().isoformat()
    said = {"kind": "health", "on": here, "said_by": "wearer", "words": "", "configuration": ""}
    supervisor.post(f"/api/people/{second}/reports", said)
    asked = f"/api/board?site={house.ours.site}&day={here}"
    board = supervisor.get(asked)
    (column,) = board["columns"]
    assert (column["size"], column["may"]) == ("S", 1)
    cells = {one["person_id"]: one["cells"][0] for one in board["rows"]}
    assert {one: cell["state"] for one, cell in cells.items()} == {first: "may", second: "may_not", third: ""}
    assert cells[second]["reasons"][0]["code"] == "reported_health"
    crew = {one["person_id"]: one["may"] for one in supervisor.get(asked.replace("/board", "/tomorrow"))["rows"]}
    assert {one: cell["state"] == "may" for one, cell in cells.items()} == crew
    path = supervisor.post("/api/gate", {"site": house.ours.site})["path"]
    gate, stranger = path.replace("/gate", "/api/gate"), house.stranger()
    view = stranger.get(gate)
    assert (view["day"], view["may"]) == (here, 1)
    assert {one["number"]: one["may"] for one in view["rows"]} == {f"{house.mark}-{n}": n == 0 for n in range(3)}
    assert "health" not in str(view) and "reported" not in str(view), "never why"
    house.clock.pass_by(13 * 3600)
    with pytest.raises(Refused, match="not_found"):
        stranger.get(gate)
    again = supervisor.post("/api/gate", {"site": house.ours.site})["path"].replace("/gate", "/api/gate")
    there = supervisor.get(f"/api/gates?site={house.ours.site}")["rows"]
    assert len(there) >= 1 and there[0]["made_by"] == "supervisor ours" and there[0]["id"] not in again
    foreign = house.client("supervisor", house.theirs)
    with pytest.raises(Refused, match="not_found"):
        foreign.get(f"/api/gates?site={house.ours.site}")
    for wrong in (there[0]["id"], "0" * 16, "%"):
        with pytest.raises(Refused, match="not_found"):
            (foreign if wrong == there[0]["id"] else supervisor).call("DELETE", f"/api/gates/{wrong}")
    assert stranger.get(again)["day"]
    supervisor.call("DELETE", f"/api/gates/{there[0]['id']}")
    assert supervisor.get(f"/api/gates?site={house.ours.site}")["rows"] == there[1:]
    with pytest.raises(Refused, match="not_found"):
        stranger.get(again)
    again = supervisor.post("/api/gate", {"site": house.ours.site})["path"].replace("/gate", "/api/gate")
    admin = house.client("administrator")
    who = next(one for one in admin.get("/api/accounts")["rows"] if "supervisor" in str(one["grants"]))
    admin.post(f"/api/accounts/{who['id']}/off")
    with pytest.raises(Refused, match="not_found"):
        stranger.get(again)
