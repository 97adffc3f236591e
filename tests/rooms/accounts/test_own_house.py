"""An installation of one's own: set up by a code, accounts handed out, places, people and instruments kept."""

from __future__ import annotations

import io
import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from zipfile import ZipFile

import pyotp
import pytest
from prometheus_client.parser import text_string_to_metric_families
from sqlalchemy import Engine, select
from sqlalchemy.orm import Session

from moorfog import recompute
from moorfog.app import create_app
from moorfog.core.rules.book import Rules
from moorfog.platform.db.base import make_engine, run_in_transaction
from moorfog.platform.log.tables import LedgerEntry, LedgerValue
from moorfog.platform.web.routing import ROUTES, SAFE, TOLD
from moorfog.plugged import ALLOWED
from moorfog.rooms.accounts.sessions import create_account
from moorfog.rooms.proof.journal import DEEDS
from moorfog.rooms.proof.verify import verify
from moorfog.rooms.setup.setup import new_code
from tests.rooms.house import NAMES, PASSWORD, Client, HandClock, House, Refused
from tests.template import own_server

LONG = "four-quiet-herons-adrift"
SITE = {"name": "Slip", "zone": "Europe/London", "rule_book": "us-29cfr1910-134", "benches": ["Bench 1"]}


class Empty:
    """An installation that nobody has set up yet."""

    def __init__(self, engine: Engine, rules: Rules) -> None:
        self.engine, self.clock = engine, HandClock()
        self.app = create_app(engine, rules, clock=self.clock)
        self.code = run_in_transaction(engine, new_code)

    def client(self) -> Client:
        return Client(self, self.app.test_client())  # type: ignore[arg-type]


@pytest.fixture(scope="module")
def empty(rules: Rules) -> Iterator[Empty]:
    with own_server() as server:
        engine = make_engine(server.url)
        yield Empty(engine, rules)
        engine.dispose()


def chief(house: House) -> Client:
    """An administrator of all employers, who came by an invitation of the database's."""
    from moorfog.rooms.accounts.sessions import create_account

    login = f"chief-{house.mark}"
    grants: list[tuple[str, str | None]] = [("administrator", None)]
    run_in_transaction(house.engine, lambda db: create_account(db, login, "Chief Moss", PASSWORD, grants))
    return house.stranger().sign_in(login)


def test_an_empty_installation_is_set_up_once_by_its_code(empty: Empty) -> None:
    first = {
        "code": empty.code.upper(),
        "organisation": "Cold Haven",
        "login": "hollis",
        "name": "Hollis Grey",
        "password": LONG,
        "tests_too": True,
    }
    stranger = empty.client()
    assert stranger.get("/api/setup") == {"is_open": True, "organisation": ""}
    with pytest.raises(Refused, match="wrong_code"):
        stranger.post("/api/setup", {**first, "code": "aaaa-bbbb-cccc"})
    with pytest.raises(Refused, match="set_up_wrong") as wrong:
        stranger.post("/api/setup", {**first, "organisation": " ", "login": "two words", "password": "hollis-grey"})
    assert wrong.value.body["detail"]["missing"] == [
        "whose installation it is",
        "a name to sign in with, without spaces",
    ]
    assert stranger.get("/api/setup")["is_open"], "half a set-up is none"
    session = stranger.post("/api/setup", first)
    assert session["roles"] == ["tester", "administrator", "supervisor"]
    assert empty.client().get("/api/setup") == {"is_open": False, "organisation": "Cold Haven"}
    with pytest.raises(Refused, match="set_up_already"):
        empty.client().post("/api/setup", first)
    with pytest.raises(Exception, match="set up"):
        run_in_transaction(empty.engine, new_code)

    stranger.token = session["token"]
    todo = {one["code"]: one["is_done"] for one in stranger.get("/api/setup/missing")["steps"]}
    assert todo["tester"] and not any(done for code, done in todo.items() if code != "tester")
    employer = stranger.post("/api/employers", {"name": "Cold Haven Boatyard"})["id"]
    site = stranger.post(f"/api/employers/{employer}/sites", SITE)["id"]
    stranger.call("PUT", "/api/organisation", {"name": "Cold Haven", "by_senses_only": True})
    entry = {"site_id": site, "name": "Ida Holm", "number": "1", "job": "", "task": "", "contact": ""}
    stranger.post("/api/people", entry)
    todo = {one["code"]: one["is_done"] for one in stranger.get("/api/setup/missing")["steps"]}
    assert {code for code, done in todo.items() if not done} == {"facepieces", "task", "ready"}
    assert verify(empty.engine) == []


def invited(admin: Client, house: House, roles: list[tuple[str, str | None]], login: str = "") -> dict[str, Any]:
    grants = [{"role": role, "employer_id": employer} for role, employer in roles]
    entry = {"login": login or f"new-{house.mark}", "name": "Ida Holm", "grants": grants}
    answer: dict[str, Any] = admin.post("/api/accounts", entry)
    return answer


def test_a_colleague_is_invited_by_an_address_that_opens_once(house: House) -> None:
    admin = house.client("administrator")
    made = invited(admin, house, [("tester", house.ours.employer)])
    address = f"/api{made['address']}"
    stranger = house.stranger()
    with pytest.raises(Refused, match="wrong_sign_in"):
        house.stranger().sign_in(f"new-{house.mark}", "")
    assert stranger.get(address) == {"login": f"new-{house.mark}", "name": "Ida Holm"}
    with pytest.raises(Refused, match="weak_password"):
        stranger.post(address, {"password": "ida-holm"})
    assert stranger.post(address, {"password": LONG})["roles"] == ["tester"]
    with pytest.raises(Refused, match="address_over"):
        stranger.post(address, {"password": LONG})
    assert house.stranger().sign_in(f"new-{house.mark}", LONG).get("/api/session")["name"] == "Ida Holm"
    states = {one["login"]: one["state"] for one in admin.get("/api/accounts")["rows"]}
    assert states[f"new-{house.mark}"] == "active"


def test_an_address_runs_out(house: House) -> None:
    made = invited(house.client("administrator"), house, [("tester", house.ours.employer)])
    house.clock.pass_by(8 * 24 * 3600)
    with pytest.raises(Refused, match="address_over"):
        house.stranger().get(f"/api{made['address']}")


@pytest.mark.parametrize("where", [None, "theirs"])
def test_an_administrator_of_one_employer_gives_no_role_elsewhere(house: House, where: str | None) -> None:
    employer = house.theirs.employer if where else None
    with pytest.raises(Refused, match=r"all_employers|not_found"):
        invited(house.client("administrator"), house, [("tester", employer)])
    other = house.client("administrator", house.theirs)
    theirs = next(one for one in other.get("/api/accounts")["rows"] if one["login"] == house.theirs.logins["tester"])
    for way, path in (("POST", "off"), ("POST", "reset"), ("DELETE", "sessions"), ("POST", "lost-second")):
        with pytest.raises(Refused, match="not_found"):
            house.client("administrator").call(way, f"/api/accounts/{theirs['id']}/{path}")


def test_an_account_switched_off_is_out_at_once(house: House) -> None:
    tester, admin = house.client(), chief(house)
    mine = tester.get("/api/session")["account_id"]
    admin.post(f"/api/accounts/{mine}/off")
    with pytest.raises(Refused, match="sign_in_needed"):
        tester.call("DELETE", "/api/session")
    with pytest.raises(Refused, match="wrong_sign_in"):
        house.client()
    admin.post(f"/api/accounts/{mine}/on")
    assert house.client().get("/api/session")["account_id"] == mine


def test_a_password_to_be_chosen_anew_ends_every_session_at_once(house: House) -> None:
    tester, admin = house.client(), chief(house)
    mine = tester.get("/api/session")["account_id"]
    admin.post(f"/api/accounts/{mine}/reset")
    with pytest.raises(Refused, match="sign_in_needed"):
        tester.call("DELETE", "/api/session")
    assert house.client().get("/api/session")["account_id"] == mine, "the old password counts until then"


def test_the_last_administrator_cannot_lock_the_door_behind_them(empty: Empty) -> None:
    hollis = empty.client().sign_in("hollis", LONG)
    own = hollis.get("/api/session")["account_id"]
    with pytest.raises(Refused, match="last_administrator"):
        hollis.post(f"/api/accounts/{own}/off")
    entry = {"login": "hollis", "name": "Hollis Grey", "grants": [{"role": "tester", "employer_id": None}]}
    with pytest.raises(Refused, match="last_administrator"):
        hollis.call("PUT", f"/api/accounts/{own}", entry)
    grants = [{"role": "administrator", "employer_id": None}]
    second = hollis.post("/api/accounts", {"login": "ines", "name": "Ines Carrow", "grants": grants})
    with pytest.raises(Refused, match="last_administrator"):
        hollis.post(f"/api/accounts/{own}/off")
    empty.client().post(f"/api{second['address']}", {"password": LONG + "-too"})
    hollis.call("PUT", f"/api/accounts/{own}", entry)
    assert hollis.get("/api/session")["roles"] == ["tester"], "roles count from the next request on"


def test_a_second_factor_is_asked_for_and_each_code_counts_once(house: House) -> None:
    tester = house.client()
    with pytest.raises(Refused, match="wrong_password"):
        tester.post("/api/account/second", {"password": "not mine"})
    secret = tester.post("/api/account/second", {"password": PASSWORD})["secret"]
    code = pyotp.TOTP(secret)  # RFC 6238, by a library of its own
    house.client()  # not asked for before it was tried
    for typed in ("naïve", "\U0005a351«"):
        with pytest.raises(Refused, match="wrong_code"):
            tester.post("/api/account/second/confirm", {"code": typed})
    recovery = tester.post("/api/account/second/confirm", {"code": code.at(house.clock.at)})["codes"]
    login = house.ours.logins["tester"]

    def enter(given: str) -> Any:
        return house.stranger().post("/api/session", {"login": login, "password": PASSWORD, "code": given})

    for given, problem in (("", "code_needed"), (code.at(house.clock.at), "wrong_code"), ("é", "wrong_code")):
        with pytest.raises(Refused, match=problem):
            enter(given)
    house.clock.pass_by(60)
    assert enter(code.at(house.clock.at))["login"] == login
    assert enter(recovery[0].upper())["login"] == login
    with pytest.raises(Refused, match="wrong_code"):
        enter(recovery[0])
    chief(house).post(f"/api/accounts/{tester.get('/api/session')['account_id']}/lost-second")
    house.client()


def test_an_own_password_is_changed_and_other_sessions_end(house: House) -> None:
    here, elsewhere = house.client(), house.client()
    assert [one["is_this"] for one in here.get("/api/account")["sessions"]].count(True) == 1
    with pytest.raises(Refused, match="wrong_password"):
        here.post("/api/account/password", {"old": "not mine", "new": LONG})
    with pytest.raises(Refused, match="weak_password"):
        here.post("/api/account/password", {"old": PASSWORD, "new": "password12345"})
    here.post("/api/account/password", {"old": PASSWORD, "new": LONG})
    elsewhere.login = ""
    with pytest.raises(Refused, match="sign_in_needed"):
        elsewhere.get("/api/session")
    assert len(here.get("/api/account")["sessions"]) == 1


def test_every_fault_of_a_site_is_named_at_once(house: House) -> None:
    admin = house.client("administrator")
    wrong = {"name": " ", "zone": "Moor/Fog", "rule_book": "none", "benches": []}
    with pytest.raises(Refused, match="site_wrong") as refused:
        admin.post(f"/api/employers/{house.ours.employer}/sites", wrong)
    assert len(refused.value.body["detail"]["problems"]) == 4
    made = admin.post(f"/api/employers/{house.ours.employer}/sites", SITE)["id"]
    with pytest.raises(Refused, match="not_found"):
        house.client("administrator", house.theirs).call("PUT", f"/api/sites/{made}", SITE)
    with pytest.raises(Refused, match="name_taken"):
        admin.post(f"/api/employers/{house.ours.employer}/sites", SITE)


def test_nobody_is_tested_at_a_place_that_is_put_away(house: House) -> None:
    admin, tester = house.client("administrator"), house.client()
    visit = tester.open()
    with pytest.raises(Refused, match="somebody_here"):
        admin.call("PUT", f"/api/sites/{house.ours.site}/archived", {"archived": True})
    tester.say(visit, {"kind": "opened_by_mistake"})
    admin.call("PUT", f"/api/sites/{house.ours.site}/archived", {"archived": True})
    assert house.ours.site not in [one["id"] for one in tester.get("/api/sites")]
    with pytest.raises(Refused, match="archived"):
        tester.open()
    admin.call("PUT", f"/api/sites/{house.ours.site}/archived", {"archived": False})
    tester.open()


def test_who_has_left_is_kept_and_comes_back(house: House) -> None:
    tester = house.client()
    person = house.ours.people[0]
    with pytest.raises(Refused, match="in_the_future"):
        tester.post(f"/api/people/{person}/left", {"left_on": "2099-01-01"})
    tester.whole_visit(person)
    today = house.clock.at.date().isoformat()
    tester.post(f"/api/people/{person}/left", {"left_on": today})
    assert tester.get(f"/api/people/{person}")["left_on"] == today
    assert tester.get(f"/api/people/{person}")["visits_total"] == 1, "nothing of them is gone"
    assert tester.get(f"/api/people?q={house.mark}-0")["rows"][0]["left_on"] == today
    with pytest.raises(Refused, match="has_left"):
        tester.open(person)
    tester.post(f"/api/people/{person}/back")
    tester.open(person)


def test_a_person_is_corrected_and_found_by_the_new_name(house: House) -> None:
    tester, person = house.client(), house.ours.people[2]
    entry = {"site_id": house.ours.site, "name": "Bo  Holm", "number": "9", "job": "", "task": "", "contact": ""}
    with pytest.raises(Refused, match="number_taken"):
        tester.call("PUT", f"/api/people/{person}", {**entry, "number": f"{house.mark}-0"})
    with pytest.raises(Refused, match="not_found"):
        tester.call("PUT", f"/api/people/{person}", {**entry, "site_id": house.theirs.site})
    tester.call("PUT", f"/api/people/{person}", entry)
    assert [one["id"] for one in tester.get("/api/people?q=holm")["rows"]] == [person]
    assert tester.get("/api/people?q=fell")["rows"] == []


def test_two_entries_of_one_person_are_one_and_a_fail_in_either_ends_the_pass(house: House) -> None:
    admin, tester = house.client("administrator"), house.client()
    first, second = house.ours.people[0], house.ours.people[1]
    tester.whole_visit(first)
    piece = tester.get(f"/api/people/{first}/permissions")["rows"][0]
    assert piece["may"]
    house.clock.pass_by(3600)
    tester.whole_visit(second, inside=("400", "600", "300", "500"))
    assert tester.get(f"/api/people/{first}/permissions")["rows"][0]["may"]
    with pytest.raises(Refused, match="reason_missing"):
        admin.post(f"/api/people/{first}/merge", {"other_id": second, "why": " "})
    with pytest.raises(Refused, match="not_found"):
        admin.post(f"/api/people/{first}/merge", {"other_id": house.theirs.people[0], "why": "same badge"})
    admin.post(f"/api/people/{first}/merge", {"other_id": second, "why": "same badge"})
    assert not tester.get(f"/api/people/{first}/permissions")["rows"][0]["may"]
    assert tester.get(f"/api/people/{first}")["visits_total"] == 2
    assert tester.get(f"/api/people/{second}")["merged_into"] == first
    assert second not in [one["id"] for one in tester.get("/api/people")["rows"]]
    with pytest.raises(Refused, match="merged"):
        tester.open(second)
    visit = tester.open(first)
    stop = {"status": "not cleared", "limits": [], "valid_from": "2026-01-01", "valid_until": "", "by_whom": "A"}
    admin.post(f"/api/people/{second}/clearance", stop)
    last = tester.get(f"/api/visits/{visit}/record.json")["events"][-1]
    assert last["payload"]["clearance"]["status"] == "not cleared", (
        "what is filed of either entry counts at the bench at once"
    )


def test_likely_twins_are_shown_whatever_case_and_accents(house: House) -> None:
    admin = house.client("administrator")
    entry = {"site_id": house.ours.site, "number": "t", "job": "", "task": "", "contact": ""}
    twin = admin.post("/api/people", {**entry, "name": "TARN, Asa"})["id"]
    assert [one["id"] for one in admin.get(f"/api/people/{house.ours.people[0]}/twins")] == [twin]


FIGURES = {
    "kind": "counter",
    "serial_number": "77",
    "zone": "Europe/London",
    "calibrated_until": "2099-01-01",
    "counted_flow": "100",
    "resolution": "1",
    "ambient_minimum_ordinary": "1500",
    "ambient_minimum_classified": "70",
    "ambient_maximum": "20000",
}


def test_an_instrument_is_entered_with_every_missing_figure_named(house: House) -> None:
    admin = house.client("administrator")
    entry = {"name": f"Counter {house.mark}", "employer_id": house.ours.employer, "figures": FIGURES, "line": ""}
    with pytest.raises(Refused, match="figures") as refused:
        admin.post("/api/instruments", {**entry, "figures": {"kind": "counter", "zone": "Moor/Fog", "resolution": "x"}})
    assert len(refused.value.body["detail"]["problems"]) == len(FIGURES) - 1
    made = admin.post("/api/instruments", entry)
    shown = admin.get(f"/api/instruments/{made['instrument_id']}")
    assert shown["figures"] == FIGURES and made["token"] not in str(shown)
    told = {"state": "reading", "ambient": None}
    link = house.stranger()
    bearer = {"Authorization": f"Bearer {made['token']}"}
    assert link.web.post("/api/link/status", json=told, headers=bearer).status_code != 401
    renewed = admin.post(f"/api/instruments/{made['instrument_id']}/token")
    assert link.web.post("/api/link/status", json=told, headers=bearer).status_code == 401
    bearer = {"Authorization": f"Bearer {renewed['token']}"}
    admin.call("PUT", f"/api/instruments/{made['instrument_id']}/retired", {"retired": True})
    assert link.web.post("/api/link/status", json=told, headers=bearer).status_code == 401
    assert f"Counter {house.mark}" not in [one["name"] for one in house.client().get("/api/counters")["rows"]]
    with pytest.raises(Refused, match="not_found"):
        house.client("administrator", house.theirs).get(f"/api/instruments/{made['instrument_id']}")


def test_a_calibration_counts_by_its_certificate(house: House) -> None:
    admin = house.client("administrator")
    path = f"/api/instruments/{house.ours.counter}/calibrations"
    entry = {"done_on": "2099-01-01", "good_until": "2026-01-01", "certificate": " ", "by_whom": "Fell & Tarn"}
    with pytest.raises(Refused, match="calibration") as refused:
        admin.post(path, entry)
    assert len(refused.value.body["detail"]["problems"]) == 3
    today = house.clock.at.date().isoformat()
    admin.post(path, {**entry, "done_on": today, "good_until": "2098-05-01", "certificate": "K-17"})
    shown = admin.get(f"/api/instruments/{house.ours.counter}")
    assert shown["figures"]["calibrated_until"] == "2098-05-01" and shown["calibrations"][0]["certificate"] == "K-17"


def test_the_journal_says_who_did_what_and_cannot_be_changed_unseen(house: House) -> None:
    admin, tester = house.client("administrator"), house.client()
    person = house.ours.people[0]
    tester.get(f"/api/people/{person}")
    tester.get(f"/api/people/{person}")
    tester.post(f"/api/people/{person}/left", {"left_on": house.clock.at.date().isoformat()})
    with pytest.raises(Refused):
        tester.post(f"/api/people/{person}/left", {"left_on": "2099-01-01"})
    with Session(house.engine) as db:
        mine = (LedgerEntry.subject == person, LedgerEntry.action == "deed")
        rows = db.scalars(select(LedgerEntry).where(*mine).order_by(LedgerEntry.no)).all()
        assert [one.deed for one in rows] == ["get_person", "person_left"], "seen once in a while; refused is not done"
        detail = db.get_one(LedgerValue, (rows[1].ledger, rows[1].no))
        assert "left_on" in detail.content and rows[1].ledger == house.ours.employer
    assert admin.get("/api/session")["roles"] == ["administrator"]


def test_the_journal_is_read_by_its_administrator_only_for_their_employers(house: House) -> None:
    person = house.ours.people[1]
    house.client().post(f"/api/people/{person}/left", {"left_on": house.clock.at.date().isoformat()})
    mine = house.client("administrator").get(f"/api/journal?subject={person}")["rows"]
    assert [one["deed"] for one in mine] == ["noted that a person left"] and mine[0]["who"] == "tester ours"
    assert mine[0]["changes"] == [f"left on: {house.clock.at.date()}"] and mine[0]["subject"] == "Łukasz Moss Heather"
    assert house.client("administrator", house.theirs).get(f"/api/journal?subject={person}")["rows"] == []
    table = house.client("administrator").call("GET", f"/api/journal.csv?subject={person}", raw=True).decode()
    assert "noted that a person left" in table.splitlines()[1]


def test_every_deed_of_the_journal_has_words_and_every_change_is_told() -> None:
    told = {one.name for one in ROUTES if one.is_told or one.seen}
    assert told - set(DEEDS) == set(), "say what the new deed is called"
    quiet = {one.name for one in ROUTES if one.method not in SAFE and not one.is_told and one.rule in TOLD}
    assert quiet == {"preview_import", "preview_history", "try_protocol"}, "these store nothing"


def test_a_token_reads_what_its_employer_has_and_does_nothing(house: House) -> None:
    admin = house.client("administrator")
    with pytest.raises(Refused, match="not_found"):
        admin.post("/api/tokens", {"name": "payroll", "employer_id": house.theirs.employer, "days": 30})
    made = admin.post("/api/tokens", {"name": "payroll", "employer_id": house.ours.employer, "days": 30})
    bearer = {"Authorization": f"Bearer {made['token']}"}
    program = house.stranger()

    def ask(path: str, method: str = "GET", body: Any = None) -> Any:
        return program.call(method, path, body, headers=bearer)

    numbers = [one["number"] for one in ask("/api/people")["rows"]]
    assert len(numbers) == 3 and all(one.startswith(house.mark) for one in numbers)
    assert ask(f"/api/people/{house.ours.people[0]}")["person"]["name"] == NAMES[0]
    for path, method, body, code in (
        (f"/api/people/{house.theirs.people[0]}", "GET", None, "not_found"),
        ("/api/accounts", "GET", None, "sign_in_needed"),
        ("/api/account", "GET", None, "sign_in_needed"),
        ("/api/today", "POST", None, "method_not_allowed"),
        (f"/api/people/{house.ours.people[0]}/back", "POST", None, "only_reads"),
        (f"/api/people/{house.ours.people[0]}/erasure", "POST", {"why": "asked"}, "sign_in_needed"),
        (f"/api/live?visit={house.ours.people[0]}", "GET", None, "sign_in_needed"),
    ):
        with pytest.raises(Refused) as refused:
            ask(path, method, body)
        assert refused.value.code == code, path
    seen = [one for one in admin.get("/api/journal")["rows"] if one["who"] == "the token for payroll"]
    assert seen[0]["subject"] == NAMES[0], "whose record it looked at is written down"
    assert made["token"] not in str(admin.get("/api/tokens")) and admin.get("/api/tokens")[0]["used_at"]
    admin.call("DELETE", f"/api/tokens/{made['id']}")
    with pytest.raises(Refused, match="wrong_token"):
        ask("/api/people")
    short = admin.post("/api/tokens", {"name": "a day", "employer_id": house.ours.employer, "days": 1})
    house.clock.pass_by(25 * 3600)
    with pytest.raises(Refused, match="wrong_token"):
        program.call("GET", "/api/people", headers={"Authorization": f"Bearer {short['token']}"})


def at_the_method(tester: Client) -> tuple[str, dict[str, list[str]]]:
    """A visit at the choice of a method, and what is said of each method's limits and reasons."""
    visit = tester.open()
    tester.until(visit, "method")
    methods = tester.get(f"/api/visits/{visit}/advice")["methods"]
    return visit, {one["method"]: [*one["limits"], *one["reasons"]] for one in methods}


@pytest.mark.parametrize("is_required", [False, True])
def test_a_method_outside_a_testers_competence_is_said_or_stopped_as_the_book_says(
    house: House, is_required: bool
) -> None:
    tester, admin = house.client(), house.client("administrator")
    tester.check_counter()
    account, today = tester.get("/api/session")["account_id"], house.clock.at.date().isoformat()
    if is_required:
        rule = {"book": "us-29cfr1910-134", "key": "tester.competence_required", "value": True}
        admin.post(f"/api/sites/{house.ours.site}/rules", {**rule, "reason": "our own", "edition": ""})
    path = f"/api/accounts/{account}/competence"
    shown = {"method": "aerosol", "begins": today, "ends": "", "shown_by": "Marit Fell", "is_withdrawn": False}
    with pytest.raises(Refused, match="by_missing"):
        admin.post(path, {**shown, "shown_by": " "})
    admin.post(path, shown)
    assert {one["state"] for one in admin.get(path)} == {"on file", "nothing on file"}
    visit, said = at_the_method(tester)
    assert "nothing is on file that shows you can do ambient particle count" in said["ambient_count"]
    assert not any("competence" in one or "on file" in one for one in said["aerosol"])
    choice = {"kind": "choose_method", "method": "ambient_count"}
    if is_required:
        with pytest.raises(Refused, match="competence"):
            tester.say(visit, choice)
        admin.post(path, {**shown, "method": "ambient_count", "ends": today})
    tester.until(visit, "run")
    if is_required:
        admin.post(path, {**shown, "method": "ambient_count", "is_withdrawn": True})
        with pytest.raises(Refused, match="taken back"):
            tester.start(visit, "typed")


def test_a_persons_whole_file_is_handed_out_and_its_records_compute_again(house: House, tmp_path: Path) -> None:
    tester, admin, person = house.client(), house.client("administrator"), house.ours.people[1]
    visit = tester.whole_visit(person)
    tester.post(f"/api/visits/{visit}/reports", {"page_size": "A4"})
    with pytest.raises(Refused, match="role_missing"):
        tester.call("GET", f"/api/people/{person}/file.zip", raw=True)
    with pytest.raises(Refused, match="not_found"):
        house.client("administrator", house.theirs).call("GET", f"/api/people/{person}/file.zip", raw=True)
    content = admin.call("GET", f"/api/people/{person}/file.zip", raw=True)
    with ZipFile(io.BytesIO(content)) as archive:
        names = archive.namelist()
        assert names == ["read-me.txt", "person.json", f"records/{visit}.json", f"papers/{visit}-1-A4.pdf"]
        about = json.loads(archive.read("person.json"))
        record = tmp_path / "record.json"
        record.write_bytes(archive.read(names[2]))
    assert about["entries"][0]["name"] == NAMES[1] and about["clearances"][0]["status"] == "cleared"
    assert {one["role"] for one in about["signatures"]} == {"wearer", "tester"}
    assert NAMES[0] not in content.decode("latin-1") and recompute.run([str(record)], False) == 0
    seen = admin.get(f"/api/journal?subject={person}")["rows"][0]
    assert seen["deed"] == "took away a person's whole file"


def test_a_visit_looked_at_after_it_is_closed_is_in_the_journal_once(house: House) -> None:
    tester, admin = house.client(), house.client("administrator")
    visit = tester.whole_visit(house.ours.people[1])
    asked = f"/api/journal?subject={visit}"
    assert "looked at a visit that is closed" not in [one["deed"] for one in admin.get(asked)["rows"]]
    looker = house.client("supervisor")
    for _ in range(3):
        looker.get(f"/api/visits/{visit}")
    seen = [one for one in admin.get(asked)["rows"] if one["deed"] == "looked at a visit that is closed"]
    assert [one["who"] for one in seen] == ["supervisor ours"]


def test_source_and_licences_of_what_ships_are_handed_out(house: House) -> None:
    supervisor = house.client("supervisor")
    with ZipFile(io.BytesIO(supervisor.call("GET", "/api/source.zip", raw=True))) as archive:
        names = archive.namelist()
    assert {"moorfog/src/moorfog/core/permission/may_wear.py", "moorfog/pyproject.toml"} <= set(names)
    assert not [one for one in names if "node_modules" in one or "/." in one or one.endswith(".pyc")]
    told = supervisor.call("GET", "/api/licences.txt", raw=True).decode()
    for package in ("flask", "sqlalchemy", "weasyprint"):
        assert f"\n{package} " in told
    assert "Redistribution and use in source" in told and "Permission is hereby granted" in told
    with pytest.raises(Refused, match="sign_in_needed"):
        house.stranger().call("GET", "/api/source.zip", raw=True)


def test_the_installation_is_watched_by_numbers_within_a_tokens_employer(house: House) -> None:
    tester, admin = house.client(), house.client("administrator")
    tester.open()
    house.client("tester", house.theirs).open(house.theirs.people[0])
    made = admin.post("/api/tokens", {"name": "watch", "employer_id": house.ours.employer, "days": 30})
    bearer = {"Authorization": f"Bearer {made['token']}"}
    with pytest.raises(Refused, match="sign_in_needed"):
        house.stranger().call("GET", "/api/metrics", raw=True)
    told = house.stranger().call("GET", "/api/metrics", headers=bearer, raw=True).decode()
    found = {one.name: one.samples for one in text_string_to_metric_families(told)}  # by Prometheus's own reader
    assert found["moorfog_open_visits"][0].value == 1, "of this employer only"
    assert found["moorfog_info"][0].labels["version"] and found["moorfog_database_seconds"][0].value < 5


def test_where_an_instrument_is_plugged_in_is_said_by_who_keeps_all_and_is_a_place(
    house: House, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """An address of another kind once emptied files of the service's account, keys among them."""
    monkeypatch.setenv("MOORFOG_HOME", str(tmp_path))
    (tmp_path / ALLOWED).write_text("192.0.2.7:4001\n")
    login = f"keeper-{house.mark}"
    with Session(house.engine) as db:
        create_account(db, login, "Keeper", PASSWORD, [("administrator", None)])
        db.commit()
    keeper = house.stranger().sign_in(login)
    one_employers = house.client("administrator")
    entry = {"name": f"Plugged {house.mark}", "employer_id": house.ours.employer, "figures": FIGURES, "line": ""}
    with pytest.raises(Refused, match="not_yours"):
        one_employers.post("/api/instruments", {**entry, "line": "/dev/ttyUSB0"})
    for line in ("spy:///dev/null?file=/tmp/x", "socket://127.0.0.1:3306", "--help", "/etc/passwd"):
        with pytest.raises(Refused, match="no_place"):
            keeper.post("/api/instruments", {**entry, "line": line})
    made = keeper.post("/api/instruments", {**entry, "line": "socket://192.0.2.7:4001"})
    path = f"/api/instruments/{made['instrument_id']}"
    one_employers.call("PUT", path, {**entry, "name": f"Renamed {house.mark}", "line": "socket://192.0.2.7:4001"})
    with pytest.raises(Refused, match="not_yours"):
        one_employers.call("PUT", path, {**entry, "line": "/dev/ttyUSB0"})
    assert one_employers.get("/api/instruments/places") == {"rows": [], "may_choose": False}
    offered = keeper.get("/api/instruments/places")
    assert offered["may_choose"] and {"line": "socket://192.0.2.7:4001", "title": "192.0.2.7:4001"} in offered["rows"]
