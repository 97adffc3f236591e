"""Screens that take part in a run: named at its start, waited for at its end, given up after the book's seconds."""

from __future__ import annotations

import json
from datetime import timedelta
from typing import Any

import pytest

from moorfog import __version__
from moorfog.core.record.record import recompute
from moorfog.platform.db.base import new_id, run_in_transaction
from moorfog.rooms.bench.screens import lose_screens
from tests.rooms.house import GOOD, NAMES, Client, House, Refused

WAIT_S = 600


def here(web: Client, path: str, screen: str, seq: int, unsent: int = 0) -> int:
    """Say that a screen is there; the log's last entry."""
    return int(web.post(f"{path}/screen", {"screen": screen, "unsent": unsent, "seq": seq})["seq"])


@pytest.fixture
def both(house: House) -> tuple[Client, str, str, Client, str, str]:
    """A tester's screen and a wearer's at the start of a run; the run is over, and neither has been heard since."""
    tester, wearer = house.client(), house.stranger()
    tester.check_counter()
    visit = tester.open()
    tester.until(visit, "run")
    address = "/api/wearer/" + tester.call("POST", f"/api/visits/{visit}/wearer")["path"].removeprefix("/w/")
    bench, tablet = new_id(), new_id()
    here(tester, f"/api/visits/{visit}", bench, 0)
    here(wearer, address, tablet, 0)
    tester.type_numbers(visit, tester.start(visit, "typed"), GOOD)
    return tester, visit, bench, wearer, address, tablet


def visit_of(tester: Client, visit: str) -> dict[str, Any]:
    return dict(tester.get(f"/api/visits/{visit}")["visit"])


def to_the_wait(tester: Client, visit: str) -> dict[str, Any]:
    """Everything else is done while a screen is waited for."""
    with pytest.raises(AssertionError):
        tester.until(visit, "sign_wearer")
    return visit_of(tester, visit)


def test_a_verdict_waits_until_both_screens_hold_nothing(
    house: House, both: tuple[Client, str, str, Client, str, str]
) -> None:
    tester, visit, bench, wearer, address, tablet = both
    over = visit_of(tester, visit)["seq"]
    here(tester, f"/api/visits/{visit}", bench, over)
    here(wearer, address, tablet, over, unsent=1)
    here(wearer, address, tablet, 3)
    shown = visit_of(tester, visit)
    assert [one["code"] for one in shown["between"]].count("screen_awaited") == 1, "a press unsent, or an old view"
    here(wearer, address, tablet, shown["seq"])
    tester.until(visit, "release")
    assert visit_of(tester, visit)["verdict"] == "pass"


def test_the_wearers_screen_does_not_speak_for_the_bench(
    house: House, both: tuple[Client, str, str, Client, str, str]
) -> None:
    """Whoever has the wearer's address cannot say that the bench holds nothing."""
    tester, visit, bench, wearer, address, tablet = both
    seq = visit_of(tester, visit)["seq"]
    here(wearer, address, tablet, seq)
    here(wearer, address, bench, seq + 1)
    assert "screen_awaited" in [one["code"] for one in visit_of(tester, visit)["between"]]
    here(tester, f"/api/visits/{visit}", bench, visit_of(tester, visit)["seq"])
    assert "screen_awaited" not in [one["code"] for one in visit_of(tester, visit)["between"]]


def test_a_press_held_back_is_judged_before_anybody_signs(
    house: House, both: tuple[Client, str, str, Client, str, str]
) -> None:
    """Everything is asked and put back while the bench's screen holds a press of the run; then it comes."""
    tester, visit, bench, wearer, address, tablet = both
    during = house.clock.at - timedelta(seconds=100)
    here(wearer, address, tablet, visit_of(tester, visit)["seq"])
    shown = to_the_wait(tester, visit)
    assert shown["verdict"] != "pass" and [one["code"] for one in shown["waiting_for"]] == ["screen_awaited"]
    with pytest.raises(Refused) as refused:
        tester.sign(visit, "wearer")
    assert refused.value.code == "not_yet"
    tester.say(visit, {"kind": "touched", "moved": True}, 0, expects=None, occurred_at=during.isoformat())
    here(tester, f"/api/visits/{visit}", bench, visit_of(tester, visit)["seq"])
    assert visit_of(tester, visit)["tries"][0]["outcome"] == "void"


def test_a_screen_that_never_comes_back_leaves_the_try_unfinished(
    house: House, both: tuple[Client, str, str, Client, str, str]
) -> None:
    tester, visit, bench, wearer, address, tablet = both
    here(tester, f"/api/visits/{visit}", bench, visit_of(tester, visit)["seq"])
    house.clock.pass_by(WAIT_S - 5)
    assert run_in_transaction(house.engine, lambda db: lose_screens(db, house.clock)) == 0
    house.clock.pass_by(10)
    assert run_in_transaction(house.engine, lambda db: lose_screens(db, house.clock)) == 1
    assert run_in_transaction(house.engine, lambda db: lose_screens(db, house.clock)) == 0, "given up once"
    here(wearer, address, tablet, visit_of(tester, visit)["seq"])
    shown = visit_of(tester, visit)
    assert shown["tries"][0]["outcome"] == "unfinished" and shown["offers"]
    assert any(one["code"] == "screen_lost" for one in shown["tries"][0]["reasons"])
    assert tester.get(f"/api/visits/{visit}/record.json")["verdict"]["tries"][0]["outcome"] == "unfinished"


def test_a_screen_that_was_closed_before_the_run_is_not_waited_for(house: House) -> None:
    tester = house.client()
    tester.check_counter()
    visit = tester.open()
    tester.until(visit, "run")
    path, screen = f"/api/visits/{visit}", new_id()
    here(tester, path, screen, 0)
    tester.post(f"{path}/screen", {"screen": screen, "unsent": 0, "seq": 0, "leaving": True})
    tester.type_numbers(visit, tester.start(visit, "typed"), GOOD)
    tester.until(visit, "release")
    assert visit_of(tester, visit)["verdict"] == "pass"


def test_a_wearers_screen_whose_address_has_ended_is_not_waited_for(house: House) -> None:
    tester, wearer = house.client(), house.stranger()
    tester.check_counter()
    visit = tester.open()
    tester.until(visit, "run")
    address = "/api/wearer/" + tester.call("POST", f"/api/visits/{visit}/wearer")["path"].removeprefix("/w/")
    here(wearer, address, new_id(), 0)
    tester.call("POST", f"/api/visits/{visit}/wearer")
    tester.type_numbers(visit, tester.start(visit, "typed"), GOOD)
    tester.until(visit, "release")
    assert visit_of(tester, visit)["verdict"] == "pass"


def test_what_is_entered_of_screens_refuses_no_press_that_was_made_before_it(house: House) -> None:
    tester = house.client()
    tester.check_counter()
    visit = tester.open()
    tester.until(visit, "run")
    run = tester.start(visit, "typed")
    seq = visit_of(tester, visit)["seq"]
    here(tester, f"/api/visits/{visit}", new_id(), seq)
    assert visit_of(tester, visit)["seq"] == seq + 1
    rows = [{"outside": "5300", "inside": one, "factor": None} for one in GOOD]
    body = {"kind": "numbers_typed", "run_id": run, "resolution": "1", "exercises": rows}
    tester.say(visit, body, 160, expects=seq)


def test_the_wearer_signs_on_their_own_screen_what_stands_there(house: House) -> None:
    """The same words as at the bench, under the same checks; then the record holds like any other."""
    tester, wearer = house.client(), house.stranger()
    tester.check_counter()
    visit = tester.open()
    tester.until(visit, "run")
    address = "/api/wearer/" + tester.call("POST", f"/api/visits/{visit}/wearer")["path"].removeprefix("/w/")
    early = {"id": new_id(), "expects": wearer.get(address)["seq"], "typed_name": NAMES[0]}
    assert wearer.get(address)["to_sign"] is None
    with pytest.raises(Refused, match="not_yet"):
        wearer.post(f"{address}/signature", early)
    tester.type_numbers(visit, tester.start(visit, "typed"), GOOD)
    tester.until(visit, "sign_wearer")
    shown, bench = wearer.get(address), visit_of(tester, visit)
    what = shown["to_sign"]
    assert shown["phase"] == "sign" and what["limits"] == bench["limits_of_use"] and what["terms"] == bench["terms"]
    assert what["under"] == bench["signed_under"] and "pass" in what["tries"][0]
    name = {"id": new_id(), "expects": what["seq"], "typed_name": "Maren Oake"}
    with pytest.raises(Refused, match="other_name"):
        wearer.post(f"{address}/signature", name)
    with pytest.raises(Refused, match="moved_on"):
        wearer.post(f"{address}/signature", {**name, "expects": what["seq"] - 1, "typed_name": NAMES[0]})
    for _ in range(2):  # the answer was lost, and it is sent again
        after = wearer.post(f"{address}/signature", {**name, "typed_name": NAMES[0]})
    assert after["phase"] == "wait"
    assert [one["role"] for one in visit_of(tester, visit)["signatures"]] == ["wearer"]
    tester.sign(visit, "tester")
    tester.until(visit, "release")
    record = tester.get(f"/api/visits/{visit}/record.json")
    assert recompute(record).differences == ()
    signed = [json.loads(one) for one in record["statements"]]
    assert {one["signer"]["account"] for one in signed if one["signer"]["role"] == "wearer"} == {"wearer"}
    assert {one["program"] for one in signed} == {__version__}, "who reads it knows what showed it to them"


def test_an_entry_id_of_another_visit_opens_none(house: House) -> None:
    """An id is one entry's; that it stood in another visit was an error without words."""
    tester, event = house.client(), new_id()
    tester.open(event_id=event)
    with pytest.raises(Refused, match="used in another visit"):
        tester.open(house.ours.people[1], event_id=event)
    tester.open(house.ours.people[1])
