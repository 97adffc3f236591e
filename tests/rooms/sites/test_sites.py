"""Rule books, overlays, tasks and the catalogue, and that each changes the advice in the running product."""

from __future__ import annotations

import io
import json
from typing import Any
from urllib.parse import urlencode

import pypdf
import pytest

from moorfog.platform.db.base import run_in_transaction
from moorfog.platform.web.actor import Actor
from moorfog.rooms.facepieces.catalogue import export_csv, export_json, import_models, read_csv
from tests.rooms.house import Client, House, Refused

US, GB = "us-29cfr1910-134", "gb-hse-indg479"


def enter(admin: Client, key: str, value: Any, book: str = US, reason: str = "", edition: str = "") -> Any:
    body = {"book": book, "key": key, "value": value, "reason": reason, "edition": edition}
    return admin.post(f"/api/sites/{admin.house.ours.site}/rules", body)


def choices(tester: Client, visit: str, words: str) -> list[dict[str, Any]]:
    """Return every facepiece with these words, with the advice for a visit."""
    found: list[dict[str, Any]] = []
    page, pages = 0, 1
    while page < pages:
        page += 1
        one = tester.get(f"/api/visits/{visit}/choices?{urlencode({'q': words, 'page': page})}")
        found, pages = found + one["rows"], one["pages"]
    return found


def counting(tester: Client, visit: str, model: str) -> tuple[str, str]:
    """Return verdict and first reason of counting for a model."""
    version = tester.house.facepiece(model)["version_id"]
    found = next(one for one in choices(tester, visit, model) if one["option"]["version_id"] == version)
    return next((one["verdict"], one["reasons"][0]) for one in found["methods"] if one["method"] == "ambient_count")


def test_another_rule_book_changes_the_advice_and_what_may_be_run(house: House) -> None:
    tester, admin = house.client(), house.client("administrator")
    tester.check_counter()
    here = tester.open(house.ours.people[0])
    assert counting(tester, here, "Sleet")[0] == "may"
    admin.post(f"/api/sites/{house.ours.site}/rule-book", {"book": GB})
    assert counting(tester, here, "Sleet")[0] == "may", "an open visit keeps the rules it was opened with"
    later = tester.open(house.ours.people[1])
    verdict, why = counting(tester, later, "Sleet")
    assert verdict == "not permitted" and "until the site confirms one" in why
    assert tester.get(f"/api/visits/{later}")["visit"]["seal_word"] == "fit check", "the local word"
    enter(admin, "protocols.fast-count-elastomeric", True, GB, edition="INDG479 rev 2")
    last = tester.open(house.ours.people[2])
    assert counting(tester, last, "Sleet")[0] == "may"
    sweet = [
        one
        for each in choices(tester, last, "full facepiece")
        for one in each["methods"]
        if one["method"] == "sweet" and "no qualitative test for full" in one["reasons"][0]
    ]
    assert len(sweet) == 3, "both full facepieces, and the powered one"


def test_a_blank_stays_blank_until_the_site_enters_it(house: House) -> None:
    tester, admin = house.client(), house.client("administrator")
    tester.check_counter()
    book = "ca-csa-z944"
    admin.post(f"/api/sites/{house.ours.site}/rule-book", {"book": book})
    enter(admin, "protocols.fast-count-elastomeric", True, book, edition="2018")
    for key, factor in (("apf.full", "50"), ("apf.half", "10")):
        enter(admin, key, factor, book, edition="2018")
    visit = tester.open(house.ours.people[0])
    tester.until(visit, "choose_facepiece")
    tester.choose(visit, "Sleet")
    assert "level_blank" in [one["code"] for one in tester.get(f"/api/visits/{visit}")["visit"]["between"]]
    view = enter(admin, "level.full", "1000", book, edition="2018, table 2")
    assert "level.full" not in [one["key"] for one in view["blanks"]]
    tester.say(visit, {"kind": "turned_away", "reason": "Rules first.", "come_back_on": None})
    again = tester.open(house.ours.people[1])
    tester.until(again, "choose_facepiece")
    tester.choose(again, "Sleet")
    assert "level_blank" not in [one["code"] for one in tester.get(f"/api/visits/{again}")["visit"]["between"]]


def test_an_overlay_says_who_when_and_why_and_looser_needs_a_reason(house: House) -> None:
    admin = house.client("administrator")
    with pytest.raises(Refused, match="reason_missing"):
        enter(admin, "level.half", "50")
    with pytest.raises(Refused, match="edition_missing"):
        enter(admin, "level.half", None)
    view = enter(admin, "wear.minimum", 600)
    value = next(one for one in view["values"] if one["key"] == "wear.minimum")
    assert value["value"] == "600" and value["changed"].startswith("stricter")
    view = enter(admin, "interval", None, edition="eCFR print of 2026-10")
    checked = next(one for one in view["values"] if one["key"] == "interval")["checked"]
    assert checked.startswith("eCFR print of 2026-10, ") and checked.endswith("administrator ours")
    other = house.client("administrator", house.theirs).get(f"/api/sites/{house.theirs.site}/rules")
    assert all(not one["changed"] and not one["checked"] for one in other["values"])
    tester = house.client()
    visit = tester.open()
    tester.until(visit, "don")
    tester.say(visit, {"kind": "donned", "unaided": True})
    shown = tester.get(f"/api/visits/{visit}")["visit"]
    assert shown["wear_ready_at"] > shown["worn_since"][:14], "ten minutes of wear here"


def test_the_report_says_the_task_its_limits_and_what_the_site_made_looser(house: House) -> None:
    tester, admin = house.client(), house.client("administrator")
    enter(admin, "drift.maximum", "0.25", reason="draughty shed, agreed 2026-10")
    enter(admin, "level.half", None, edition="eCFR print 2026")
    visit = tester.whole_visit()
    pdf = tester.get(tester.post(f"/api/visits/{visit}/reports", {"page_size": "A4"})["url"])
    text = " ".join(" ".join(page.extract_text() for page in pypdf.PdfReader(io.BytesIO(pdf)).pages).split())
    for words in (
        "looser than shipped (0.20): draughty shed, agreed 2026-10",
        "checked against eCFR print 2026",
        "grain dust: 7.5 times the limit",
        "up to 40.0 mg/m³",
        "work filters: 99-type",
        "cleared, by Harbour Row; trained",
    ):
        assert words in text, words


def task(name: str, **more: Any) -> dict[str, Any]:
    plain = {
        "oxygen_percent": "20.9",
        "is_idlh": False,
        "is_unknown": False,
        "work_filter": "99-type",
        "work_cartridge": "",
    }
    dust = {
        "name": "dust",
        "form": "particles",
        "concentration": "30",
        "limit": "1",
        "unit": "mg/m³",
        "idlh": "",
        "cartridge_limit": "",
    }
    return {"name": name, "contaminants": [dust], **plain, **more}


def test_a_task_decides_which_kinds_suffice(house: House) -> None:
    tester, admin = house.client(), house.client("administrator")
    admin.post(f"/api/sites/{house.ours.site}/tasks", task("grain dust"))
    (line,) = tester.get(f"/api/sites/{house.ours.site}/tasks")
    assert line["required"] == "30.0" and line["worst"] == "dust"
    kinds = {one["kind"]: one for one in line["kinds"]}
    assert kinds["half"]["suffices"] == "no" and kinds["full"]["suffices"] == "yes"
    assert "not capped by IDLH" in kinds["full"]["limits"][0]
    visit = tester.open()
    tester.until(visit, "choose_task")
    tester.say(visit, {"kind": "choose_task", "task_id": line["id"]})
    tester.choose(visit, "Sedge")
    between = tester.get(f"/api/visits/{visit}")["visit"]["between"]
    assert any(one["code"] == "protection" and "below 30" in one["sentence"] for one in between)
    tester.choose(visit, "Sleet")
    shown = tester.get(f"/api/visits/{visit}")["visit"]
    assert not any(one["code"] == "protection" for one in shown["between"])
    assert shown["task"]["limits"] == ["dust: up to 50.0 mg/m³, by APF × limit; not capped by IDLH: check it"]


@pytest.mark.parametrize(
    "more",
    [{"is_idlh": True}, {"is_unknown": True}, {"oxygen_percent": "18"}, {"oxygen_percent": ""}, {"contaminants": []}],
)
def test_no_air_purifying_facepiece_is_tested_for_what_is_never_air_purifying(
    house: House, more: dict[str, Any]
) -> None:
    tester, admin = house.client(), house.client("administrator")
    made = admin.post(f"/api/sites/{house.ours.site}/tasks", task("tank", **more))
    (line,) = [one for one in tester.get(f"/api/sites/{house.ours.site}/tasks") if one["name"] == "tank"]
    assert line["stops"]
    visit = tester.open()
    tester.until(visit, "choose_task")
    with pytest.raises(Refused) as refused:
        tester.say(visit, {"kind": "choose_task", "task_id": made["id"]})
    assert "never air-purifying" in refused.value.body["message"]


def test_a_figure_that_is_none_is_refused(house: House) -> None:
    bad = task("x")
    bad["contaminants"][0]["limit"] = "low"
    with pytest.raises(Refused, match="not_a_number"):
        house.client("administrator").post(f"/api/sites/{house.ours.site}/tasks", bad)


def test_size_advice_follows_the_face_and_what_failed_is_not_suggested(house: House) -> None:
    tester = house.client()
    version = house.facepiece("Sedge")["version_id"]
    visit = tester.open()

    def advice(of: str) -> dict[str, Any]:
        return next(dict(one["size"]) for one in choices(tester, of, "Sedge") if one["option"]["version_id"] == version)

    assert advice(visit)["state"] == "overlap" and advice(visit)["suggested"] == ["M", "L"]
    tester.check_counter()
    tester.until(visit, "choose_facepiece")
    tester.choose(visit, "Sedge", "M")
    tester.until(visit, "run")
    tester.type_numbers(visit, tester.start(visit, "typed"), ("400", "400", "400", "400"))
    assert advice(visit)["suggested"] == ["L"] and advice(visit)["failed"] == ["M"]


def test_what_was_passed_last_is_offered_again_until_it_fails(house: House) -> None:
    tester = house.client()
    tester.whole_visit()
    again = tester.open()
    same = tester.get(f"/api/visits/{again}/advice")["same_again"]
    assert (same["label"], same["size"], same["suspension"]) == ("Tindle & Wray Sedge S", "S", "drop-down")
    tester.say(again, {"kind": "turned_away", "reason": "Later.", "come_back_on": None})
    house.clock.pass_by(60)
    tester.whole_visit(inside=("400", "600", "300", "500"))
    last = tester.open()
    assert tester.get(f"/api/visits/{last}/advice")["same_again"] is None


def test_failed_seal_checks_reach_the_supervisor_until_acknowledged(house: House) -> None:
    tester, supervisor = house.client(), house.client("supervisor")
    visit = tester.open()
    tester.until(visit, "seal_check")
    leak = {"kind": "seal_checked", "check": "negative", "wearer": "leaks", "tester": "holds", "place": "chin"}
    shown = tester.say(visit, leak)
    assert "Chin in again" in shown["seal_remedy"]
    with pytest.raises(Refused, match="refit_first"):
        tester.say(visit, leak)
    tester.say(visit, {"kind": "adjusted", "what": "strap"})
    shown = tester.say(visit, leak)
    assert "inspect" in shown["seal_remedy"], "the same place again"
    tester.say(visit, {"kind": "adjusted", "what": "strap"})
    shown = tester.say(visit, leak)
    assert "seal_limit" in [one["code"] for one in shown["between"]]
    assert [one["visit_id"] for one in supervisor.get("/api/today")["seal_notices"]["rows"]] == [visit]
    supervisor.post(f"/api/visits/{visit}/seal-notice", None)
    assert supervisor.get("/api/today")["seal_notices"]["rows"] == []
    with pytest.raises(Refused, match="seal_limit"):
        tester.say(visit, leak)
    tester.say(visit, {"kind": "doffed", "why": "refit"}, expects=None)
    tester.choose(visit, size="L")
    tester.until(visit, "seal_check")
    tester.say(visit, leak)
    assert len(supervisor.get("/api/today")["seal_notices"]["rows"]) == 1, "a new failure is a new row"
    with pytest.raises(Refused, match="role_missing"):
        tester.post(f"/api/visits/{visit}/seal-notice", None)


def test_tape_is_an_alteration_that_must_be_undone_before_the_run(house: House) -> None:
    tester = house.client()
    tester.check_counter()
    visit = tester.open()
    tester.until(visit, "run")
    shown = tester.say(visit, {"kind": "alteration_made", "alteration": "tape"})
    assert "altered_tape" in [one["code"] for one in shown["between"]]
    with pytest.raises(Refused, match="altered_tape"):
        tester.start(visit)
    tape = next(one["id"] for one in shown["alterations"] if one["id"].startswith("tape"))
    tester.say(visit, {"kind": "alteration_undone", "alteration": tape})
    tester.start(visit)
    with pytest.raises(Refused, match="no_alteration"):
        tester.say(visit, {"kind": "alteration_made", "alteration": "valve_cover"})


ALL = Actor("", "", "", (("administrator", None),))


def test_the_catalogue_goes_out_and_comes_back_as_json_and_csv(house: House) -> None:
    def round_trip(db: Any) -> None:
        for name, text in (("c.json", export_json(db, ALL)), ("c.csv", export_csv(db, ALL))):
            done = import_models(db, ALL, name, text)
            assert (done.new, done.changed) == (0, 0) and done.same >= 8, name

    run_in_transaction(house.engine, round_trip)


def test_a_changed_model_is_a_new_version_and_the_old_one_stays(house: House) -> None:
    def change(db: Any) -> None:
        models = json.loads(export_json(db, ALL))
        one = next(each for each in models if each["model"] == "Whin")
        one["model"] = f"Whin {house.mark}"
        assert import_models(db, ALL, "c.json", json.dumps([one])).new == 1
        one["sizes"] = one["sizes"][:1]
        assert import_models(db, ALL, "c.json", json.dumps([one])).changed == 1
        assert import_models(db, ALL, "c.json", json.dumps([one])).same == 1

    run_in_transaction(house.engine, change)
    tester = house.client()
    options = tester.get(f"/api/facepieces?q=whin%20{house.mark}")["rows"]
    assert [(one["version"], len(one["sizes"])) for one in options] == [(2, 1)]
    assert tester.get(f"/api/facepieces/{options[0]['version_id']}") == options[0]
    with pytest.raises(Refused, match="404"):
        tester.get("/api/facepieces/none")


def test_a_long_catalogue_is_paged_and_chosen_from_by_nines_those_that_are_enough_first(house: House) -> None:
    """Thirty models more: none is out of reach, on its page or by its words."""

    def enter(db: Any) -> None:
        shipped = json.loads(export_json(db, ALL))
        one = next(each for each in shipped if each["model"] == "Sedge")
        many = [{**one, "model": f"Heron {house.mark} {number:02}"} for number in range(30)]
        cup = next(each for each in shipped if each["kind"] == "disposable_cup")
        many.append({**cup, "model": f"Heron {house.mark} cup"})
        assert import_models(db, ALL, "c.json", json.dumps(many)).new == 31

    run_in_transaction(house.engine, enter)
    tester = house.client()
    first, second = (tester.get(f"/api/facepieces?q=heron%20{house.mark}&page={page}") for page in (1, 9))
    assert (first["total"], first["pages"], second["page"]) == (31, 2, 2)
    names = [one["model"] for one in first["rows"] + second["rows"]]
    assert len(set(names)) == 31 and len(first["rows"]) == 25
    visit = tester.open()
    tester.until(visit, "choose_facepiece")
    pages = [tester.get(f"/api/visits/{visit}/choices?q=heron%20{house.mark}&page={page}") for page in range(1, 5)]
    assert [len(one["rows"]) for one in pages] == [9, 9, 9, 4] and {one["pages"] for one in pages} == {4}
    ranked = [(one["option"]["model"], one["suffices"]) for page in pages for one in page["rows"]]
    assert {name for name, _ in ranked} == set(names)
    order = [{"yes": 0, "no": 2}.get(suffices, 1) for _, suffices in ranked]
    assert order == sorted(order) and order[0] == 0
    every = [tester.get(f"/api/visits/{visit}/choices?page={page}") for page in (1, 2)]
    assert every[0]["total"] > 31 and every[1]["page"] == 2
    assert [one["suffices"] for one in every[0]["rows"]] == ["yes"] * 9
    assert tester.get(f"/api/visits/{visit}/choices?q=no%20such%20model")["rows"] == []
    with pytest.raises(Refused, match="page"):
        tester.get(f"/api/visits/{visit}/choices?page=0")


def test_words_find_a_facepiece_by_their_beginnings_capitals_and_accents_aside(house: House) -> None:
    tester = house.client()
    for words, found in (("SED", 1), ("tindle sedge", 1), ("half sedge", 1), ("edge", 0), ("sedge full", 0)):
        rows = tester.get(f"/api/facepieces?{urlencode({'q': words})}")["rows"]
        assert any(one["model"] == "Sedge" for one in rows) is bool(found), words


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("maker,colour\nA,red", "colour"),
        ("maker,model,kind,sizes,valve\nA,B,half,M:110-124,perhaps", "row 2, valve"),
        ("maker,model,kind,sizes,valve,diaphragms\nA,B,half,M,yes,two", "row 2, diaphragms"),
        ("maker,model,kind,sizes,valve,diaphragms\nA,B,half,M,yes,²", "row 2, diaphragms"),
        ("maker,model,kind,sizes,valve,diaphragms\nA,B,half,M,yes,-1", "row 2, diaphragms"),
        ("maker,model,kind,sizes,valve\nA,B,half,M:110to124,yes", "row 2, sizes"),
    ],
)
def test_a_catalogue_with_a_mistake_names_row_and_column(text: str, words: str) -> None:
    from moorfog.platform.web.errors import DomainError

    with pytest.raises(DomainError) as error:
        read_csv(text)
    assert words in error.value.message


def test_only_an_administrator_of_all_employers_changes_the_shared_catalogue(house: House) -> None:
    with pytest.raises(Refused, match="shared_catalogue"):
        house.client("administrator").post("/api/catalogue", {"file_name": "c.json", "content": "[]"})
