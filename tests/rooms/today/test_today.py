"""May wear is today's question: chosen tasks, rules of the day, facts of the day, and what may be taken back."""

from __future__ import annotations

import io
from datetime import timedelta
from typing import Any

import pytest
from pypdf import PdfReader
from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.rooms.papers.tables import CardCode
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.tables import SiteTask
from tests.rooms.bench.test_qualitative import with_kit
from tests.rooms.house import TASK, Client, House, Refused

US = "us-29cfr1910-134"


def rows(client: Client, person: str) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = client.get(f"/api/people/{person}/permissions")["rows"]
    return found


def everywhere(house: House, person: str) -> set[bool]:
    """What each room answers of somebody's one set-up today at the task they do."""
    supervisor, admin = house.client("supervisor"), house.client("administrator")
    on = house.clock.at.date().isoformat()
    crew = supervisor.get(f"/api/tomorrow?site={house.ours.site}&day={on}")
    line = next(one for one in crew["rows"] if one["person_id"] == person)
    board = supervisor.get(f"/api/board?site={house.ours.site}&day={on}")
    cells = [cell for row in board["rows"] if row["person_id"] == person for cell in row["cells"] if cell["state"]]
    (own,) = rows(admin, person)
    wearers = supervisor.get(f"/api/wearers?model={house.facepiece('Sedge')['model_id']}")["rows"]
    worn = [one["may"] for one in wearers if one["person_id"] == person]
    due = supervisor.get(f"/api/due?site={house.ours.site}&within=0")["rows"]
    return {
        own["may"],
        line["may"],
        *(cell["state"] in ("may", "soon") for cell in cells),
        *worn,
        person not in [one["person_id"] for one in due],
    }


def test_a_task_that_matches_nothing_is_refused_at_the_door_with_the_nearest(house: House) -> None:
    admin, person = house.client("administrator"), house.ours.people[0]
    shown = admin.get(f"/api/people/{person}")["person"]
    entry = {"site_id": house.ours.site, "name": shown["name"], "number": shown["number"], "job": "", "contact": ""}
    for wrong in ("grain dst", "Grain dust", "grain dust ​"):
        with pytest.raises(Refused, match="nearest are grain dust"):
            admin.call("PUT", f"/api/people/{person}", {**entry, "task": wrong})
        with pytest.raises(Refused, match="unknown_task"):
            admin.post("/api/people", {**entry, "number": "n-1", "task": wrong})
    assert admin.get(f"/api/people/{person}")["person"]["task"] == "grain dust"


@pytest.mark.parametrize("task", ["grain dst", ""])
def test_what_stood_there_before_and_matches_nothing_means_no_in_every_room(house: House, task: str) -> None:
    tester, person = house.client(), house.ours.people[0]
    tester.whole_visit(person)
    assert everywhere(house, person) == {True}
    with Session(house.engine) as db, db.begin():
        row = db.get_one(Person, person)
        row.task, row.task_id = task, None
    assert everywhere(house, person) == {False}
    (found,) = rows(tester, person)
    assert [one["code"] for one in found["reasons"]] == ["no_task"]


def test_renaming_a_task_keeps_its_people_and_another_sites_task_is_not_theirs(house: House) -> None:
    tester, admin, person = house.client(), house.client("administrator"), house.ours.people[0]
    tester.whole_visit(person)
    (line,) = admin.get(f"/api/sites/{house.ours.site}/tasks")
    renamed = {**TASK, "name": "silo dust", "contaminants": line["contaminants"], "work_filter": "99-type"}
    admin.post(f"/api/sites/{house.ours.site}/tasks", {**renamed, "replaces": line["id"]})
    assert admin.get(f"/api/people/{person}")["person"]["task"] == "silo dust"
    assert everywhere(house, person) == {True}
    slip = {"name": "Slip", "zone": "America/New_York", "rule_book": US, "benches": ["B"]}
    there = admin.post(f"/api/employers/{house.ours.employer}/sites", slip)["id"]
    with Session(house.engine) as db, db.begin():
        db.get_one(Person, person).site_id = there
    assert [one["code"] for one in rows(admin, person)[0]["reasons"]] == ["no_task"]
    mark = admin.get(f"/api/people/{person}")["person"]["number"]
    crew = admin.get(f"/api/tomorrow?site={house.ours.site}&numbers={mark}")
    assert crew["may"] == 0, "the other site's list says what their own page says"
    with Session(house.engine) as db:
        assert db.get_one(SiteTask, line["id"]).name == "grain dust", "the old row stays for its records"


def test_a_rule_says_first_whom_it_would_stop_and_asks(house: House) -> None:
    tester, admin, person = house.client(), house.client("administrator"), house.ours.people[0]
    tester.whole_visit(person)
    path, entry = f"/api/sites/{house.ours.site}/rules", {"book": US, "key": "level.half", "reason": "", "edition": ""}
    for value, stops in (("150", 0), ("9000", 1)):
        body = {**entry, "value": value}
        if not stops:
            admin.post(path, body)
            continue
        with pytest.raises(Refused) as refused:
            admin.post(path, body)
        assert refused.value.code == "would_stop" and refused.value.body["detail"]["stops"] == 1
        assert rows(tester, person)[0]["may"], "nothing was changed yet"
        admin.post(path, {**body, "stops": 1})
    assert [one["code"] for one in rows(tester, person)[0]["reasons"]] == ["level"]
    assert everywhere(house, person) == {False}
    why = "New filters come in two weeks, agreed with the authority."
    until = (house.clock.at.date() + timedelta(days=14)).isoformat()
    admin.post(path, {**entry, "key": "former.until", "value": until, "reason": why})
    (found,) = rows(tester, person)
    assert found["may"] and found["until"] == until and any(why in one for one in found["limits"])
    with pytest.raises(Refused, match="would_stop"):
        admin.post(f"/api/sites/{house.ours.site}/rule-book", {"book": "iso-16975-3"})
    admin.post(f"/api/sites/{house.ours.site}/rule-book", {"book": "iso-16975-3", "stops": 1})
    assert everywhere(house, person) == {False}, "another book, another level, interval and method"


@pytest.mark.parametrize("begins", ["soon", "9999-99-99", "0000", "2026-2-1"])
def test_a_rule_from_a_day_that_is_none_is_refused_before_anybody_is_asked_about(house: House, begins: str) -> None:
    house.client().whole_visit(house.ours.people[0])
    body = {"book": US, "key": "level.half", "value": "9000", "reason": "", "edition": "", "begins": begins}
    with pytest.raises(Refused) as refused:
        house.client("administrator").post(f"/api/sites/{house.ours.site}/rules", body)
    assert refused.value.code == "not_a_date"


def test_a_rule_for_later_counts_from_its_day_and_until_knows_it(house: House) -> None:
    tester, admin, person = house.client(), house.client("administrator"), house.ours.people[0]
    tester.whole_visit(person)
    begins = house.clock.at.date() + timedelta(days=30)
    body = {"book": US, "key": "level.half", "value": "9000", "reason": "", "edition": "", "begins": begins.isoformat()}
    admin.post(f"/api/sites/{house.ours.site}/rules", {**body, "stops": 1})
    (found,) = rows(tester, person)
    assert (found["may"], found["until"]) == (True, (begins - timedelta(days=1)).isoformat())
    visit = tester.open(house.ours.people[1])
    assert tester.get(f"/api/visits/{visit}/record.json")["rules"]["book"]["values"]["level.half"]["value"] == "100"


def test_a_training_of_the_wrong_person_is_taken_back_with_a_reason(house: House) -> None:
    tester, admin, person = house.client(), house.client("administrator"), house.ours.people[0]
    tester.whole_visit(person)
    (training,) = admin.get(f"/api/people/{person}")["trainings"]
    path = f"/api/people/{person}/trainings/{training['id']}/withdraw"
    with pytest.raises(Refused, match="reason_missing"):
        admin.post(path, {"why": " "})
    with pytest.raises(Refused, match="not_found"):
        admin.post(path.replace(person, house.ours.people[1]), {"why": "A namesake's."})
    admin.post(path, {"why": "It was a namesake's."})
    assert [one["code"] for one in rows(tester, person)[0]["reasons"]] == ["training"]
    assert everywhere(house, person) == {False}, "it is heard in every room"
    (line,) = admin.get(f"/api/people/{person}")["trainings"]
    assert "namesake" in line["withdrawn"] and admin.get("/api/session")["name"] in line["withdrawn"]


def test_an_administrator_withdraws_a_pass_with_a_reason(house: House) -> None:
    tester, admin, person = house.client(), house.client("administrator"), house.ours.people[0]
    visit = tester.whole_visit(person)
    run_id = tester.shown(visit)["tries"][-1]["run_id"]
    with pytest.raises(Refused, match="reason_missing"):
        admin.post(f"/api/visits/{visit}/withdraw", {"run_id": run_id, "why": " "})
    admin.post(f"/api/visits/{visit}/withdraw", {"run_id": run_id, "why": "The beard was seen a day later."})
    assert (
        rows(tester, person) == []
        and house.client("supervisor").get(f"/api/tomorrow?site={house.ours.site}")["may"] == 0
    )
    reasons = tester.shown(visit)["tries"][-1]["reasons"]
    assert any("beard" in one["sentence"] for one in reasons) or "beard" in str(tester.shown(visit)["signed_under"])
    with pytest.raises(Refused, match="no_pass"):
        admin.post(f"/api/visits/{visit}/withdraw", {"run_id": run_id, "why": "Again."})


def test_a_table_of_before_takes_no_day_to_come_and_no_unknown_method(house: House) -> None:
    from tests.rooms.wear.history import table_of

    admin, ahead = house.client("administrator"), (house.clock.at.date() + timedelta(days=3)).isoformat()
    given = table_of(
        house,
        f"{house.mark}-0;{ahead};Old Heron;M;ambient count;passed;1200;",
        f"{house.mark}-1;2026-03-02;Old Heron;M;user seal check;passed;;",
        f"{house.mark}-2;2026-03-02;Old Heron;M;;passed;;",
    )
    found = admin.post("/api/history/preview", given)
    assert [(one["row"], one["column"]) for one in found["faults"]] == [(2, "tested on"), (3, "method")]


def test_a_card_asked_for_again_after_a_change_was_reported_is_marked(house: House) -> None:
    tester, person = house.client(), house.ours.people[0]
    visit = tester.whole_visit(person)
    url = tester.post(f"/api/visits/{visit}/reports", {"page_size": "A4", "paper": "card"})["url"]
    plain = tester.call("GET", url, raw=True)
    on = house.clock.at.date().isoformat()
    tester.post(f"/api/people/{person}/reports", {"kind": "face", "on": on, "said_by": "wearer", "words": ""})
    again = tester.post(f"/api/visits/{visit}/reports", {"page_size": "A4", "paper": "card"})["url"]
    marked = tester.call("GET", again, raw=True)
    words = " ".join(page.extract_text() for page in PdfReader(io.BytesIO(marked)).pages)
    assert "NOT VALID" in words and on in words and "reported" not in words, "never why"
    assert "NOT VALID" not in " ".join(page.extract_text() for page in PdfReader(io.BytesIO(plain)).pages)
    assert tester.call("GET", f"{again}?as_issued=true", raw=True) == plain, "the stored bytes are as they were"


def test_the_limits_of_a_test_by_taste_stand_on_card_code_list_and_gate(house: House) -> None:
    """29 CFR 1910.134 (f)(6), recalled: a full facepiece passed by taste, up to ten times the limit only."""
    tester, person = with_kit(house, "sweet"), house.ours.people[0]
    tester.method = "sweet"
    visit = tester.open(person)
    tester.until(visit, "run", model="Sleet")
    tester.to_the_end(visit)
    tester.until(visit, "release")
    tester.say(visit, {"kind": "released"})
    limit = "Up to 10 times the limit only"
    (row,) = rows(tester, person)
    assert row["may"] and any(limit in one for one in row["limits"])
    card = tester.post(f"/api/visits/{visit}/reports", {"page_size": "A4", "paper": "card"})["url"]
    text = PdfReader(io.BytesIO(tester.call("GET", card, raw=True))).pages[0].extract_text()
    assert limit in " ".join(text.split())
    with Session(house.engine) as db:
        code = db.scalars(select(CardCode.code).where(CardCode.visit_id == visit)).one()
    seen = house.stranger().get(f"/api/codes/{code}")
    assert seen["status"] == "valid" and any(limit in one for one in seen["limits"])
    supervisor, on = house.client("supervisor"), house.clock.at.date().isoformat()
    gate = supervisor.post("/api/gate", {"site": house.ours.site, "day": on})["path"]
    lines = house.stranger().get(f"/api{gate}")["rows"]
    assert any(limit in words for one in lines for words in one["set_ups"])
