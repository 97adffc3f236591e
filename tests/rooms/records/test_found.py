"""Ways to a wrong permission that were once open over HTTP, each closed by a test of its own."""

from __future__ import annotations

from datetime import timedelta
from threading import Event, Thread
from typing import Any

import pytest
from sqlalchemy import delete, select, update
from sqlalchemy.orm import Session

from moorfog.platform.db.base import Base, run_in_transaction
from moorfog.platform.log.readmodels import rebuild
from moorfog.platform.log.summaries import VisitSummary
from moorfog.platform.log.tables import VisitHead
from moorfog.rooms.accounts.sessions import create_account
from moorfog.rooms.facepieces.tables import FacepieceVersion
from moorfog.rooms.kit.tables import KitRecall
from tests.rooms.house import GOOD, PASSWORD, Client, House, Refused

NOT_CLEARED = {
    "status": "not cleared",
    "limits": [],
    "valid_from": "2026-01-01",
    "valid_until": "",
    "by_whom": "Harbour Row",
}


def rows(web: Client, person: str, **query: str) -> list[dict[str, Any]]:
    asked = "&".join(f"{key}={value}" for key, value in query.items())
    return list(web.get(f"/api/people/{person}/permissions?{asked}")["rows"])


def codes(web: Client, person: str, **query: str) -> list[str]:
    (row,) = rows(web, person, **query)
    assert row["may"] == (not row["reasons"])
    return [one["code"] for one in row["reasons"]]


def test_what_is_filed_during_a_visit_counts_from_then_on(house: House) -> None:
    """A clinician's "not cleared" comes while the worker is at the bench: nothing is started."""
    tester, office = house.client(), house.client("administrator")
    tester.check_counter()
    person = house.ours.people[0]
    visit = tester.open(person)
    tester.until(visit, "run")
    office.call("POST", f"/api/people/{person}/clearance", NOT_CLEARED)
    seen = tester.get(f"/api/visits/{visit}")["visit"]
    assert any(one["gravity"] == "stop" for one in seen["between"]), "said at once, not at the start key"
    with pytest.raises(Refused):
        tester.start(visit)
    assert tester.get(f"/api/visits/{visit}")["visit"]["tries"] == []


def test_not_cleared_ends_what_may_be_worn_the_moment_it_is_filed(house: House) -> None:
    tester, office = house.client(), house.client("administrator")
    person = house.ours.people[0]
    tester.whole_visit(person)
    assert codes(office, person) == []
    office.call("POST", f"/api/people/{person}/clearance", NOT_CLEARED)
    (row,) = rows(office, person)
    assert not row["may"] and any(one["settled_by"] == "clinician" for one in row["reasons"])


def test_permission_is_for_a_day_and_for_a_task(house: House) -> None:
    tester, office = house.client(), house.client("administrator")
    person, site = house.ours.people[0], house.ours.site
    tester.whole_visit(person)
    today = house.clock.at.date()
    assert codes(tester, person, day=str(today)) == []
    assert "not_yet" in codes(tester, person, day=str(today - timedelta(days=2)))
    assert "ended" in codes(tester, person, day=str(today + timedelta(days=800)))
    gas = {"name": "phosphine", "form": "gas or vapour", "concentration": "0.5", "limit": "0.3", "unit": "ppm"}
    task = {
        "name": "fumigation",
        "contaminants": [{**gas, "idlh": "", "cartridge": ""}],
        "oxygen_percent": "",
        "is_idlh": False,
        "is_unknown": False,
        "work_filter": "",
        "work_cartridge": "",
    }
    office.call("POST", f"/api/sites/{site}/tasks", task)
    (known,) = [one for one in office.get(f"/api/sites/{site}/tasks") if one["name"] == "fumigation"]
    assert codes(tester, person, task=known["id"]) == ["task"], "a dust filter takes no gas"
    for strange in ({"day": "tomorrow"}, {"tusk": known["id"]}):
        with pytest.raises(Refused) as refused:
            rows(tester, person, **strange)
        assert refused.value.status == 422, "never answered for another day or task than was asked"


def test_a_model_withdrawn_is_worn_by_nobody(house: House) -> None:
    tester, person = house.client(), house.ours.people[0]
    login = f"all-{house.mark}"
    run_in_transaction(house.engine, lambda db: create_account(db, login, "All", PASSWORD, [("administrator", None)]))
    office = Client(house, house.app.test_client()).sign_in(login)
    tester.whole_visit(person)
    version = house.facepiece()["version_id"]
    try:
        office.call("POST", f"/api/facepieces/{version}/withdraw", {"reason": "approval ended"})
        assert "suspended" in codes(tester, person)
    finally:
        with Session(house.engine) as db, db.begin():
            # the catalogue is the house's next door too
            db.execute(update(FacepieceVersion).where(FacepieceVersion.id == version).values(withdrawn_at=None))
            db.execute(delete(KitRecall).where(KitRecall.kit_id == house.facepiece()["model_id"]))


def test_a_result_moved_to_another_person_is_nobodys_until_it_is_signed_again(house: House) -> None:
    tester = house.client()
    first, other = house.ours.people[0], house.ours.people[1]
    visit = tester.whole_visit(first)
    chosen = tester.get(f"/api/visits/{visit}")["visit"]["tries"][0]["chosen_seq"]
    tester.say(visit, {"kind": "corrected", "target": chosen, "reason": "the wrong card", "person_id": other})
    assert [one for one in rows(tester, first) if one["may"]] == []
    assert [one for one in rows(tester, other) if one["may"]] == []


def whole(house: House) -> dict[str, dict[str, tuple[Any, ...]]]:
    """Every row of every table, by table and key."""
    out: dict[str, dict[str, tuple[Any, ...]]] = {}
    with Session(house.engine) as db:
        for table in Base.metadata.sorted_tables:
            keys = [one.name for one in table.primary_key.columns]
            found = db.execute(select(table)).mappings().all()
            out[table.name] = {str([one[key] for key in keys]): tuple(one.values()) for one in found}
    return out


def test_practice_writes_nothing_outside_its_visit(house: House) -> None:
    """Every table is walked: whatever is new or changed names the practice visit, or one of its runs."""
    tester = house.client()
    tester.check_counter()
    before = whole(house)
    visit = tester.open(house.ours.people[0], is_practice=True)
    tester.until(visit, "run")
    run = tester.start(visit, "typed")
    tester.type_numbers(visit, run, GOOD)
    tester.until(visit, "release")
    tester.say(visit, {"kind": "released"})
    after = whole(house)
    strange = [
        f"{table} {key}"
        for table, now in after.items()
        for key, row in now.items()
        if before[table].get(key) != row and visit not in str(row) and run not in str(row)
    ]
    gone = [f"{table} {key}" for table, was in before.items() for key in was if key not in after[table]]
    assert [one for one in strange if not one.startswith(("sign_in_session ", "rules"))] == [] and gone == []


def test_a_rebuild_beside_appends_forgets_none_of_them(house: House) -> None:
    """Visits are opened and answered all the while; at the end every read model is as its log has it."""
    tester = house.client()
    tester.check_counter()
    visits, over, trouble = [tester.open(one) for one in house.ours.people], Event(), []

    def press() -> None:
        web = house.client()
        try:
            while not over.is_set():
                for one in visits:
                    web.say(one, {"kind": "touched", "moved": False}, 0, expects=None)
        except Exception as error:
            trouble.append(error)

    thread = Thread(target=press)
    thread.start()
    for _ in range(3):
        rebuild(house.schema)
    over.set()
    thread.join()
    assert not trouble
    with Session(house.engine) as db:
        behind = select(VisitHead.id).join(VisitSummary, VisitSummary.visit_id == VisitHead.id, isouter=True)
        late = db.scalars(behind.where(VisitHead.id.in_(visits), VisitSummary.source_seq != VisitHead.seq)).all()
        missing = db.scalars(behind.where(VisitHead.id.in_(visits), VisitSummary.source_seq.is_(None))).all()
    assert not late and not missing
