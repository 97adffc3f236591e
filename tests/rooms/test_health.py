"""What touches somebody's health is between wearer, tester and whoever looks after the file: nobody else reads it."""

from __future__ import annotations

import pytest
from flask.testing import FlaskClient
from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.platform.db.base import new_id
from moorfog.rooms.accounts.tables import Account, Grant
from tests.rooms.house import House, Refused
from tests.rooms.reading import reading

WHO, WORDS, NOTE, WHY, LIMIT = "Dr Zanzibar", "Wheezes Zanzibar", "Noted Zanzibar", "Faint Zanzibar", "powered only"
TOLD = ("Zanzibar", LIMIT)
PRINTED = ("zip", "pdf", "svg", "png", "html")
"""Files that are not read as text here."""


def ill(house: House) -> dict[str, str]:
    """Somebody whose clearance has a limit, who was turned away for their health; the ids of what there is of them."""
    admin, tester, person = house.client("administrator"), house.client(), house.ours.people[0]
    visit = tester.open(person)
    shown = tester.shown(visit)
    card = tester.do(visit, shown["queue"][0], dict(shown))["queue"][0]
    answer = {"kind": "answered", "question": card["id"], "facts": card["facts"], "answer": "not_fine"}
    tester.say(visit, {**answer, "minutes_ago": None, "note": NOTE})
    tester.say(visit, {"kind": "turned_away", "reason": WHY, "come_back_on": None})
    day = house.clock.at.date().isoformat()
    cleared = {"status": "cleared", "limits": [LIMIT], "valid_from": day, "valid_until": "", "by_whom": WHO}
    admin.post(f"/api/people/{person}/clearance", cleared)
    said = {"kind": "health", "said_by": "wearer", "words": WORDS, "configuration": "", "on": day}
    admin.post(f"/api/people/{person}/reports", said)
    return {"person_id": person, "visit_id": visit, "site_id": house.ours.site, "employer_id": house.ours.employer}


def addresses(ids: dict[str, str]) -> list[str]:
    """Return the address of everything that can be read of these as text."""
    fields = {"site": ids["site_id"], "visit": ids["visit_id"]}
    return [one.address for one in reading(ids, fields) if not one.route.path.endswith(PRINTED)]


def told(web: FlaskClient, address: str, headers: dict[str, str] | None = None) -> tuple[int, list[str]]:
    """Return how an address answers, and which of the words it tells."""
    answer = web.get(address, headers=headers)
    return answer.status_code, [one for one in TOLD if one in answer.data.decode("utf-8", "ignore")]


def test_who_plans_the_work_reads_nothing_of_anybodys_health_wherever_they_look(house: House) -> None:
    ids = ill(house)
    supervisor, admin, tester = house.client("supervisor"), house.client("administrator"), house.client()
    reading = {"name": "the office", "employer_id": house.ours.employer, "days": 3}
    bearer = {"Authorization": f"Bearer {admin.post('/api/tokens', reading)['token']}"}
    stranger, seen, by_tester = house.app.test_client(), 0, set[str]()
    for address in addresses(ids):
        status, words = told(supervisor.web, address)
        assert words == [] or "clearance_limits" in supervisor.web.get(address).text, address  # the list to choose from
        assert "Zanzibar" not in words, address
        seen += status == 200
        assert "Zanzibar" not in told(stranger, address, bearer)[1], address
        by_tester |= {address for one in told(tester.web, address)[1] if one == "Zanzibar"}
    assert seen > 25, "a supervisor reads all that is of the work"
    assert len(by_tester) >= 3, "the tester reads it: on the person's page, in the visit, in its log"


def test_a_supervisor_hears_that_it_may_not_be_worn_and_who_settles_it(house: House) -> None:
    ids = ill(house)
    shown = house.client("supervisor").get(f"/api/people/{ids['person_id']}")
    assert shown["clearance"]["status"] == "pending" and not shown["clearance"]["limits"]
    assert not shown["clearance"]["by"] and [one["words"] for one in shown["reports"]] == [""]
    whole = house.client().get(f"/api/people/{ids['person_id']}")
    assert whole["clearance"]["limits"] == [LIMIT] and whole["reports"][0]["words"] == WORDS


def test_a_pass_that_a_limit_keeps_from_being_worn_is_told_without_it(house: House) -> None:
    tester, person = house.client(), house.ours.people[1]
    tester.whole_visit(person)
    day = house.clock.at.date().isoformat()
    cleared = {"status": "cleared", "limits": [LIMIT], "valid_from": day, "valid_until": "", "by_whom": WHO}
    house.client("administrator").post(f"/api/people/{person}/clearance", cleared)
    (row,) = house.client("supervisor").get(f"/api/people/{person}")["permissions"]["rows"]
    assert not row["may"]
    said = [one["sentence"] for one in row["reasons"] if one["settled_by"] == "clinician"]
    assert said == ["Their clearance does not allow this kind of facepiece."]


def test_an_archive_holds_only_what_somebody_may_see_whole(house: House) -> None:
    """Tester there and supervisor here: it broke off in the middle of the first record of here."""
    person, login = house.ours.people[1], house.theirs.logins["tester"]
    house.client().whole_visit(person)
    with Session(house.engine) as db, db.begin():
        account = db.scalar(select(Account.id).where(Account.login == login))
        db.add(Grant(id=new_id(), account_id=account, role="supervisor", employer_id=house.ours.employer))
    both = house.stranger().sign_in(login)
    assert both.get(f"/api/people/{person}")["visits_total"] == 1
    with pytest.raises(Refused, match="nothing_meant"):
        both.call("GET", "/api/records.zip?outcome=pass", raw=True)


def test_the_log_and_the_open_record_are_not_for_who_plans_the_work(house: House) -> None:
    ids = ill(house)
    for path in (
        f"live?visit={ids['visit_id']}",
        f"visits/{ids['visit_id']}/log",
        f"visits/{ids['visit_id']}/record.json",
        "records.zip",
    ):
        try:
            house.client("supervisor").get(f"/api/{path}")
        except Refused as refused:
            assert refused.code == "role_missing"
        else:
            raise AssertionError(path)
