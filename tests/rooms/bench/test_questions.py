"""What is heard after release: the permission stands suspended, Today asks, and a signed correction settles it."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import pytest

from moorfog.platform.log.readmodels import rebuild
from tests.rooms.house import Client, House, Refused


def rows(web: Client, person: str) -> list[dict[str, Any]]:
    return list(web.get(f"/api/people/{person}/permissions")["rows"])


def test_a_late_press_suspends_at_once_and_is_asked_on_today_until_settled(house: House) -> None:
    tester, supervisor = house.client(), house.client("supervisor")
    person = house.ours.people[0]
    before = house.clock.at
    visit = tester.whole_visit(person)
    (row,) = rows(supervisor, person)
    assert row["may"], row["reasons"]
    log = tester.get(f"/api/visits/{visit}/log")["events"]
    started = next(one for one in log if one["payload"]["kind"] == "run_started")
    during = house.clock.at.fromisoformat(started["occurred_at"]) + timedelta(seconds=60)
    assert during > before
    touched = {"kind": "touched", "moved": True}
    with pytest.raises(Refused, match="late_observation"):
        tester.say(visit, touched, 3600, expects=None, occurred_at=during.isoformat())
    assert rows(supervisor, person)[0]["may"], "nothing is changed unless somebody has looked at the record again"
    tester.say(visit, touched, 4, occurred_at=during.isoformat())
    (row,) = rows(supervisor, person)
    assert not row["may"] and row["until"] == "" and "under question" in row["reasons"][0]["sentence"]
    for role in ("tester", "supervisor"):
        asked = house.client(role).get("/api/today")
        assert visit in str(asked["questions"]), f"{role} sees it on Today"
    rebuild(house.schema)
    assert not rows(supervisor, person)[0]["may"], "the logs alone say so too"
    seq = tester.get(f"/api/visits/{visit}")["visit"]["seq"]
    body = {"kind": "corrected", "target": started["seq"], "reason": "it moved"}
    tester.say(visit, body, expects=seq)
    for role in ("wearer", "tester"):
        tester.sign(visit, role)
    assert visit not in str(tester.get("/api/today")["questions"])
    assert all(not one["may"] for one in rows(supervisor, person)), "settled: it is no pass"
