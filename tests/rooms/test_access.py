"""Who may do what: every route has a rule, and every route is tried with every role and at a foreign employer."""

from __future__ import annotations

import re
from datetime import timedelta
from importlib.resources import files
from typing import Any

import pytest
from sqlalchemy import Engine

from moorfog.app import COOKIE, create_app
from moorfog.core.rules.book import Rules
from moorfog.demo.scenario import COUNTER_FIGURES
from moorfog.platform.db.base import new_id
from moorfog.platform.web.openapi import document
from moorfog.platform.web.routing import ROUTES, RULE_ROLES, Route
from moorfog.rooms.accounts import sessions
from tests.rooms.house import PASSWORD, ROLES, Client, House, Refused
from tests.rooms.wear.history import said_in_writing

PROTOCOL = (
    files("moorfog.data")
    .joinpath("protocols/fast-count-elastomeric.toml")
    .read_text()
    .replace('id = "fast-count-elastomeric"', 'id = "ours"', 1)
)
BODIES: dict[str, dict[str, Any]] = {
    "open_visit": {"visit_id": "?", "event_id": "?", "person_id": "?", "bench": "A", "is_practice": False, "speed": 1},
    "propose": {
        "id": "?",
        "expects": None,
        "occurred_at": "2026-01-01T00:00:00Z",
        "visit_id": "?",
        "person_id": "?",
        "mark": None,
        "body": {"kind": "distress"},
    },
    "sign": {"id": "?", "expects": 1, "role": "wearer", "typed_name": "A", "password": None},
    "issue": {"page_size": "A4"},
    "record_check": {"name": "clean_air", "value": "0"},
    "import_run": {"text": "t_ms"},
    "add_part": {"employer_id": "employer", "name": "Probe 1", "kind": "probe", "fits": "Sedge", "once_only": False},
    "note_part": {"name": "cleaned"},
    "record_act": {"name": "hose_dry"},
    "put_lending": {"employers": []},
    "try_protocol": {"text": PROTOCOL},
    "add_protocol": {"text": PROTOCOL},
    "sign_in": {"login": "nobody", "password": "nothing"},
    "report_status": {"state": "reading", "ambient": None},
    "store_chunks": {"chunks": []},
    "add_person": {"site_id": "site", "name": "A", "number": "?", "job": "", "task": "", "contact": ""},
    "record_clearance": {
        "status": "cleared",
        "limits": [],
        "valid_from": "2026-01-01",
        "valid_until": "",
        "by_whom": "A practice",
    },
    "record_training": {"trained_on": "2026-01-01", "what": "donning"},
    "record_measurement": {"length": [], "width": [], "lip": []},
    "preview_import": {"site_id": "site", "file_name": "a.csv", "content": "bmFtZSxudW1iZXIKQSwxCg==", "columns": {}},
    "start_import": {"site_id": "site", "file_name": "a.csv", "content": "bmFtZSxudW1iZXIKQSwxCg==", "columns": {}},
    "import_catalogue": {"file_name": "a.json", "content": "[]"},
    "enter_rule": {"book": "us-29cfr1910-134", "key": "interval", "value": 6, "reason": "", "edition": ""},
    "choose_book": {"book": "us-29cfr1910-134"},
    "enter_task": {
        "name": "sweeping",
        "contaminants": [],
        "oxygen_percent": "",
        "is_idlh": False,
        "is_unknown": True,
        "work_filter": "",
        "work_cartridge": "",
    },
    "hear_screen": {"screen": "?", "unsent": 0, "seq": 0},
    "hear_wearer_screen": {"screen": "?", "unsent": 0, "seq": 0},
    "sign_as_wearer": {"id": "?", "expects": 0, "typed_name": "?"},
    "sensed": {"id": "?", "about": "?", "occurred_at": "2026-01-01T00:00:00Z"},
    "enter_lot": {
        "employer_id": "employer",
        "agent": "sweet",
        "role": "fit",
        "number": "1",
        "made_on": "2026-01-01",
        "use_by": "2099-01-01",
        "made_by": "A",
    },
    "add_nebuliser": {"employer_id": "employer", "name": "Blue 2", "role": "fit"},
    "fill_nebuliser": {"lot_id": "lot"},
    "withdraw_lot": {"reason": "cloudy"},
    "withdraw_training": {"why": "A namesake's."},
    "withdraw_pass": {"run_id": "?", "why": "The wrong person was tested."},
    "withdraw_facepiece": {"reason": "counterfeit"},
    "settle_recall": {"decision": "clear", "reason": "wet hose"},
    "invite_colleague": {"login": "?", "name": "A", "grants": [{"role": "tester", "employer_id": "employer"}]},
    "change_account": {"login": "?", "name": "A", "grants": [{"role": "tester", "employer_id": "employer"}]},
    "change_own_password": {"old": "not mine", "new": "x"},
    "start_second_factor": {"password": "not mine"},
    "make_recovery_key": {"password": "not mine"},
    "set_own_notice": {"address": "no address", "often": "weekly"},
    "confirm_second_factor": {"code": "000000"},
    "switch_second_factor_off": {"password": "not mine"},
    "join": {"password": "x"},
    "set_up": {
        "code": "x",
        "organisation": "A",
        "login": "a",
        "name": "A",
        "password": "x",
        "tests_too": True,
    },
    "save_facepiece": {
        "maker": "A",
        "model": "?",
        "kind": "half",
        "sizes": [],
        "valve": True,
        "filter_kind": "gas",
        "filter_classes": [],
        "cover": "none",
        "probe": "through",
        "test_filters": False,
    },
    "enter_competence": {"method": "aerosol", "begins": "x", "ends": "", "shown_by": "A", "is_withdrawn": False},
    "make_token": {"name": "A", "employer_id": "employer", "days": 3},
    "change_organisation": {"name": "A", "by_senses_only": False},
    "add_employer": {"name": "?"},
    "rename_employer": {"name": "?"},
    "archive_employer": {"archived": False},
    "add_site": {"name": "?", "zone": "Europe/London", "rule_book": "us-29cfr1910-134", "benches": ["A"]},
    "change_site": {"name": "?", "zone": "Europe/London", "rule_book": "us-29cfr1910-134", "benches": ["A"]},
    "archive_site": {"archived": False},
    "enter_instrument": {"name": "?", "employer_id": "employer", "figures": {}, "line": ""},
    "change_instrument": {"name": "?", "employer_id": "employer", "figures": {}, "line": ""},
    "enter_calibration": {"done_on": "x", "good_until": "x", "certificate": "1", "by_whom": "A"},
    "retire_instrument": {"retired": False},
    "change_person": {"site_id": "site", "name": "A", "number": "?", "job": "", "task": "", "contact": ""},
    "person_left": {"left_on": "x"},
    "erase_person": {"why": "asked by the worker"},
    "change_site_words": {"terms": "", "notice_days": None, "keep_months": None},
    "report_change": {"kind": "fit", "on": "2026-01-01", "said_by": "wearer", "words": "", "configuration": ""},
    "report_by_card": {"kind": "fit", "number": "1"},
    "mail_paper": {"paper": "report"},
    "invite_due": {"within": 0},
    "preview_history": {"site_id": "site", "file_name": "old.csv", "content": "eA=="},
    "import_history": {"site_id": "site", "file_name": "old.csv", "content": "eA=="},
    "say_in_writing": {
        "model": "Heron",
        "size": "M",
        "version_id": "00000000-0000-4000-8000-000000000000",
        "piece_size": "M",
        "why": "seen on paper",
        "typed_name": "A",
    },
    "take_word_back": {"why": "the papers were of others"},
    "draw_list": {"site": "?"},
    "draw_cards": {"crew": {"site": "?"}},
    "open_gate": {"site": "site"},
    "save_crew": {"name": "Early shift", "numbers": "1"},
    "withdraw_report": {"why": "another person"},
    "merge_people": {"other_id": "?", "why": "same badge"},
    "close_run": {"end": "lost", "count": 0, "sha256": "", "occurred_at": "2026-01-01T00:00:00Z"},
}
"""A body of the right shape for every route that takes one; "?" becomes a fresh id."""


OF_THEIR_OWN = frozenset(
    {"get_joining", "join", "end_own_session", "look_up_code", "get_calendar", "get_gate", "report_by_card"}
)
"""Routes of which the address, or the session, is all there is: a guess finds nothing."""
AIMED = (
    "invite_colleague",
    "enter_instrument",
    "open_visit",
    "live",
    "add_person",
    "preview_import",
    "start_import",
    "enter_lot",
    "add_nebuliser",
    "add_part",
    "preview_history",
    "import_history",
)


def filled(route: Route, ids: dict[str, str]) -> tuple[str, Any]:
    """Return path and body of a call to ``route``, aimed at the things in ``ids``."""
    if route.path.startswith("/api/instruments/"):  # its token is renewed: the one whose link is tried is left alone
        ids = {**ids, "instrument_id": ids["spare_id"]}
    path = re.sub(r"\{(\w+)\}", lambda found: ids.get(found[1], "A4"), route.path)
    if route.name == "live":
        path += f"?visit={ids['visit_id']}"
    if route.body is None:
        return path, None
    body = {key: new_id() if value == "?" else value for key, value in BODIES[route.name].items()}
    if "grants" in body:
        body["grants"] = [{**one, "employer_id": ids["employer_id"]} for one in body["grants"]]
    if body.get("site_id") == "site":
        body["site_id"] = ids["site_id"]
    if body.get("site") == "site":
        body["site"] = ids["site_id"]
    for key in ("employer_id", "lot_id"):
        if key in body:
            body[key] = ids[key]
    if "person_id" in body:
        body["person_id"] = ids["person_id"]
    return path, body


def aimed_at(house: House, foreign: bool) -> dict[str, str]:
    """Return the ids of things of ours, or of theirs."""
    place = house.theirs if foreign else house.ours
    visit = house.client("tester", place).open(place.people[1])
    roster = {**BODIES["start_import"], "site_id": place.site}
    job = house.client("administrator", place).post("/api/imports", roster)["id"]
    kit = house.client("tester", place)
    lot = kit.post("/api/lots", {**BODIES["enter_lot"], "employer_id": place.employer})["id"]
    part = kit.post("/api/parts", {**BODIES["add_part"], "employer_id": place.employer})["id"]
    house.client("administrator", place).post(f"/api/sites/{place.site}/protocols", BODIES["add_protocol"])
    nebuliser = kit.post("/api/nebulisers", {**BODIES["add_nebuliser"], "employer_id": place.employer})["id"]
    token = kit.call("POST", f"/api/visits/{visit}/wearer")["path"].removeprefix("/w/")
    kit.post(f"/api/counters/{place.counter}/checks", {"name": "clean_air", "value": "7"})
    recall = kit.get("/api/recalls")["rows"][0]["id"]
    grants = [{"role": "tester", "employer_id": place.employer}]
    colleague = {"login": f"colleague-{place.employer}", "name": "A", "grants": grants}
    figures = {**COUNTER_FIGURES, "serial_number": "2", "calibrated_until": "2099-01-01", "zone": "Europe/London"}
    spare = {"name": f"Spare {place.employer}", "employer_id": place.employer, "figures": figures, "line": ""}
    reading = {"name": "A", "employer_id": place.employer, "days": 3}
    word = said_in_writing(house, place, "Old Heron", "M")
    return {
        "report_id": kit.post(f"/api/people/{place.people[0]}/reports", BODIES["report_change"])["id"],
        "token_id": house.client("administrator", place).post("/api/tokens", reading)["id"],
        "spare_id": house.client("administrator", place).post("/api/instruments", spare)["instrument_id"],
        "account_id": house.client("administrator", place).post("/api/accounts", colleague)["account_id"],
        "word_id": word,
        "employer_id": place.employer,
        "lot_id": lot,
        "nebuliser_id": nebuliser,
        "token": token,
        "visit_id": visit,
        "person_id": place.people[0],
        "instrument_id": place.counter,
        "site_id": place.site,
        "job_id": job,
        "run_id": new_id(),
        "revision": "1",
        "part_id": part,
        "protocol_id": "ours",
        "name": "clean_air",
        "recall_id": recall,
        "kit_id": place.counter,
    }


def attempt(client: Client, route: Route, ids: dict[str, str]) -> tuple[int, str]:
    """Call a route; return its status and error code."""
    path, body = filled(route, ids)
    if route.media == "text/event-stream":
        answer = client.web.open(path, method=route.method, buffered=False)
        return answer.status_code, "" if answer.status_code == 200 else answer.get_json()["code"]
    try:
        client.call(route.method, path, body)
    except Refused as error:
        return error.status, str(error.code)
    return 200, ""


@pytest.fixture(scope="module")
def tried(engine: Engine, rules: Rules, catalogue: None) -> tuple[House, dict[str, str], dict[str, str]]:
    house = House(engine, rules)
    return house, aimed_at(house, False), aimed_at(house, True)


def test_every_route_of_the_application_has_a_rule(house: House) -> None:
    known = {one.name for one in ROUTES} | {"openapi", "pages"}
    assert {rule.endpoint for rule in house.app.url_map.iter_rules()} == known
    assert {one.name for one in ROUTES if one.body} == set(BODIES), "give the new route a body to be tried with"


@pytest.mark.parametrize("route", ROUTES, ids=lambda one: one.name)
@pytest.mark.parametrize("role", [*ROLES, "stranger"])
def test_every_route_is_open_to_its_roles_and_shut_to_all_others(
    tried: tuple[House, dict[str, str], dict[str, str]], route: Route, role: str
) -> None:
    house, ours, _ = tried
    client = house.stranger() if role == "stranger" else house.client(role)
    status, code = attempt(client, route, ours)
    if route.rule == "public":
        assert code != "sign_in_needed" and status != 403
    elif route.rule == "wearer":
        assert code not in ("sign_in_needed", "role_missing", "token_missing"), "the address is all it needs"
    elif route.rule == "link":
        assert (status, code) == (401, "wrong_token")
    elif role == "stranger":
        assert (status, code) == (401, "sign_in_needed")
    elif route.rule == "signed_in" or role in RULE_ROLES[route.rule]:
        assert code not in ("sign_in_needed", "role_missing", "token_missing")
    else:
        assert (status, code) == (403, "role_missing")


def test_the_document_says_of_every_route_what_lets_somebody_in() -> None:
    paths, known = document()["paths"], document()["components"]["securitySchemes"]
    for one in ROUTES:
        said = paths[one.path][one.method.lower()]["security"]
        assert said and {name for way in said for name in way} <= set(known)
        is_open = one.rule in ("public", "wearer")
        assert ({} in said) is is_open and (["link"] in [list(way) for way in said]) is (one.rule == "link")
        if one.rule not in ("public", "wearer", "link"):
            assert ("page" in said[0]) is (one.method != "GET"), "a change needs the page's token as well"


@pytest.mark.parametrize("route", [one for one in ROUTES if "{" in one.path or one.name in AIMED])
@pytest.mark.parametrize("role", ROLES)
def test_a_foreign_employer_looks_as_if_it_were_not_there(
    tried: tuple[House, dict[str, str], dict[str, str]], route: Route, role: str
) -> None:
    house, _, theirs = tried
    if route.rule == "link":
        path, body = filled(route, theirs)
        with pytest.raises(Refused) as refused:
            house.stranger().link(path.removeprefix("/api/link/"), body)
        assert refused.value.status in (404, 409, 422)
        return
    if route.rule == "wearer" or route.name in OF_THEIR_OWN:
        status, code = attempt(house.client(role), route, {**theirs, "token": "a-guess", "session_id": "a-guess"})
        if route.name in ("end_own_session", "look_up_code", "get_calendar", "get_gate", "report_by_card"):
            assert (status, code) == (404, "not_found")
            return
        assert (status, code) == (404, "address_over"), "a guessed address shows nothing"
        return
    status, code = attempt(house.client(role), route, theirs)
    assert (status, code) in ((404, "not_found"), (403, "role_missing")), f"{status} {code}"
    if role in RULE_ROLES[route.rule]:
        assert code == "not_found"


@pytest.mark.parametrize(
    "path", ["/api/today", "/api/people", "/api/sites", "/api/counters", "/api/results", "/api/recalls"]
)
@pytest.mark.parametrize("role", ROLES)
def test_no_list_shows_a_foreign_employer(
    tried: tuple[House, dict[str, str], dict[str, str]], path: str, role: str
) -> None:
    house, _, _ = tried
    shown = str(house.client(role).get(path))
    assert f"theirs {house.mark}" not in shown
    assert house.theirs.counter not in shown and not any(person in shown for person in house.theirs.people)


def test_the_cookie_is_kept_from_scripts_and_other_sites(house: House) -> None:
    answer = house.app.test_client().post(
        "/api/session", json={"login": house.ours.logins["tester"], "password": PASSWORD}
    )
    cookie = answer.headers["Set-Cookie"]
    assert cookie.startswith(COOKIE) and "HttpOnly" in cookie and "SameSite=Strict" in cookie
    secret = cookie.split("=", 1)[1].split(";")[0]
    assert secret not in str(answer.get_json())


def test_a_change_without_the_pages_token_is_refused(house: House) -> None:
    tester = house.client()
    for token in ("", "another"):
        tester.token = token
        with pytest.raises(Refused, match="token_missing"):
            tester.open()


def test_a_session_ends_by_signing_out_and_by_time(house: House) -> None:
    tester = house.client()
    begun, step = house.clock.at, sessions.IDLE - timedelta(minutes=5)
    over = begun + timedelta(hours=sessions.SESSION_HOURS)
    while house.clock.at + step < over:
        house.clock.at += step
        assert tester.get("/api/session")["roles"] == ["tester"], "somebody is at work"
    house.clock.at = over
    with pytest.raises(Refused, match="sign_in_needed"):
        tester.get("/api/today")
    tester = house.client()
    tester.call("DELETE", "/api/session")
    with pytest.raises(Refused, match="sign_in_needed"):
        tester.get("/api/today")


def test_guessing_is_limited_per_account_across_processes_and_restarts(
    house: House, engine: Engine, rules: Rules
) -> None:
    login = house.ours.logins["tester"]
    for number in range(sessions.ATTEMPTS_PER_PAIR):
        house.app = create_app(engine, rules, clock=house.clock)
        with pytest.raises(Refused, match="wrong_sign_in"):
            house.stranger().sign_in(login, f"guess {number}")
    with pytest.raises(Refused) as refused:
        house.client()
    assert refused.value.status == 429, "even the right password waits now"
    house.clock.at += sessions.ATTEMPT_WINDOW + timedelta(seconds=1)
    house.client()


def test_guessing_is_limited_per_address_over_many_accounts(house: House) -> None:
    address = f"10.0.{house.mark[:3]}"
    codes = []
    for number in range(sessions.ATTEMPTS_PER_ADDRESS + 1):
        answer = house.app.test_client().post(
            "/api/session",
            json={"login": f"{house.mark}-{number}", "password": "guess"},
            environ_base={"REMOTE_ADDR": address},
        )
        codes.append(answer.get_json()["code"])
    assert codes[-1] == "too_many_attempts" and set(codes[:-1]) == {"wrong_sign_in"}


def test_an_unknown_name_and_a_wrong_password_look_alike(house: House) -> None:
    answers = []
    for login in (house.ours.logins["tester"], f"nobody-{house.mark}"):
        with pytest.raises(Refused) as refused:
            house.stranger().sign_in(login, "wrong")
        answers.append((refused.value.status, refused.value.body))
    assert answers[0] == answers[1]
