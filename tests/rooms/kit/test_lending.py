"""Kit belongs to an employer or is lent to named ones; nobody else sees it, uses it, or says what became of it."""

from __future__ import annotations

import pytest
from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.platform.db.tables import KitLent
from moorfog.rooms.accounts.sessions import create_account
from moorfog.rooms.kit.entering import create_instrument
from moorfog.rooms.kit.tables import InstrumentRow
from tests.rooms.house import PASSWORD, Client, House, Refused


def wide(house: House) -> Client:
    """An administrator of both employers, and of no others."""
    login = f"both-{house.mark}"
    with Session(house.engine) as db, db.begin():
        grants = [("administrator", house.ours.employer), ("administrator", house.theirs.employer)]
        create_account(db, login, "both", PASSWORD, grants)  # type: ignore[arg-type]
    return Client(house, house.app.test_client()).sign_in(login)


def names(client: Client) -> set[str]:
    """The ids of the instruments a client sees."""
    return {one["id"] for one in client.get("/api/counters")["rows"]}


def test_kit_is_seen_by_its_owner_and_by_those_it_is_lent_to(house: House) -> None:
    kit, both = house.ours.counter, wide(house)
    theirs = house.client("tester", house.theirs)
    assert kit in names(house.client()) and kit not in names(theirs)
    said = both.call("PUT", f"/api/kit/{kit}/lending", {"employers": [house.theirs.employer]})
    assert said["owner"] == f"ours {house.mark}" and [one["has_it"] for one in said["borrowers"]] == [True]
    assert kit in names(theirs)
    mine = house.client().get(f"/api/kit/{kit}/lending")
    assert (mine["others"], mine["borrowers"], mine["may_change"]) == (1, [], False), "others' names are not told"
    both.call("PUT", f"/api/kit/{kit}/lending", {"employers": []})
    assert kit not in names(theirs) and kit in names(house.client())


def test_kit_is_lent_by_its_owners_administrator_only(house: House) -> None:
    kit, both = house.ours.counter, wide(house)
    both.call("PUT", f"/api/kit/{kit}/lending", {"employers": [house.theirs.employer]})
    for who, code in ((house.client("administrator", house.theirs), "not_yours"), (house.client(), "role_missing")):
        with pytest.raises(Refused, match=code):
            who.call("PUT", f"/api/kit/{kit}/lending", {"employers": []})
    with pytest.raises(Refused, match="not_found"):
        house.client("administrator").call("PUT", f"/api/kit/{kit}/lending", {"employers": [house.theirs.employer]})
    with Session(house.engine) as db:
        assert db.scalars(select(KitLent.employer_id).where(KitLent.kit_id == kit)).all() == [house.theirs.employer]


def test_kit_of_nobody_in_particular_is_lent_to_those_there_are_and_to_no_later_one(house: House) -> None:
    with Session(house.engine) as db, db.begin():
        content = db.get_one(InstrumentRow, house.ours.counter).content
        kit = create_instrument(
            db, name="Counter of all", employer_id=None, content=content, is_simulated=True, token=f"all-{house.mark}"
        )
    later = House(house.engine, house.rules)
    seen = "/api/counters?name=Counter of all"
    shown = [{one["id"] for one in who.get(seen)["rows"]} for who in (house.client(), later.client())]
    assert kit in shown[0] and kit not in shown[1]
