"""One press for what is looked at together: an entry of its own for each question, all of them or none."""

from __future__ import annotations

from typing import Any

import pytest

from moorfog.core.events.chain import check_chain, event_from_json
from moorfog.platform.text import resembles
from tests.rooms.house import Client, House, Refused


def look(tester: Client, visit: str) -> tuple[list[dict[str, Any]], dict[str, Any]]:
    """Walk to the first look; its cards, and the press that settles them."""
    tester.until(visit, "hair")
    cards = [one for one in tester.get(f"/api/visits/{visit}")["visit"]["queue"] if one["look"] == "face"]
    answers = [{"question": one["id"], "facts": one["facts"]} for one in cards]
    return cards, {"kind": "answer_together", "answers": answers, "screen": "s-1"}


def test_each_question_of_a_look_gets_an_entry_with_its_moment_and_who_pressed(house: House) -> None:
    tester = house.client()
    visit = tester.open()
    cards, body = look(tester, visit)
    before = tester.get(f"/api/visits/{visit}/log")["events"]
    proposal = tester.proposal(visit, body)
    tester.post(f"/api/visits/{visit}/events", proposal)
    tester.post(f"/api/visits/{visit}/events", proposal)  # sent again: stored once
    log = tester.get(f"/api/visits/{visit}/log")["events"]
    fresh = log[len(before) :]
    assert [one["payload"]["question"] for one in fresh] == [one["id"] for one in cards] and len(cards) >= 4
    assert {one["payload"]["kind"] for one in fresh} == {"answered"}
    assert {one["payload"]["answer"] for one in fresh} == {"fine"}
    assert {one["actor"] for one in fresh} == {log[0]["actor"]}
    assert len({one["id"] for one in log}) == len(log) and fresh[0]["id"] == proposal["id"]
    assert check_chain([event_from_json(one) for one in log]) is None
    with pytest.raises(Refused, match="id_reused"):
        changed = {**body, "answers": body["answers"][:-1]}
        tester.post(f"/api/visits/{visit}/events", {**proposal, "body": changed})


@pytest.mark.parametrize(
    ("change", "code"),
    [
        (lambda one: [*one, {"question": "shave", "facts": one[0]["facts"]}], "not_together"),
        (lambda one: [*one, one[0]], "asked_twice"),
        (lambda one: [*one[:-1], {**one[-1], "facts": "0" * 64}], "facts_changed"),
        (lambda one: [], "bad_body"),
        (lambda one: one * 5, "bad_body"),
    ],
)
def test_all_of_a_look_is_taken_or_none(house: House, change: Any, code: str) -> None:
    tester = house.client()
    visit = tester.open()
    _, body = look(tester, visit)
    seq = tester.get(f"/api/visits/{visit}")["visit"]["seq"]
    with pytest.raises(Refused, match=code):
        tester.post(f"/api/visits/{visit}/events", tester.proposal(visit, {**body, "answers": change(body["answers"])}))
    assert tester.get(f"/api/visits/{visit}")["visit"]["seq"] == seq


def test_a_returning_worker_takes_task_facepiece_and_method_as_last_time(house: House) -> None:
    tester = house.client()
    first = tester.whole_visit()
    assert tester.get(f"/api/visits/{first}")["visit"]["verdict"] == "pass"
    person = house.ours.people[0]
    visit = tester.open(person)
    assert "tried_before" not in tester.shown(visit)["queue"]
    tester.until(visit, "task")
    same = tester.get(f"/api/visits/{visit}/advice")["same_again"]
    assert same["task_id"] and same["method"] == "ambient_count" and "Sedge" in same["label"] and not same["without"]
    keys = ("version_id", "size", "suspension", "clip", "filter_class", "is_own", "ppe", "task_id", "method")
    shown = tester.say(visit, {"kind": "choose_facepiece", **{key: same[key] for key in keys}})
    assert shown["task"] and shown["facepiece"]["model"] == "Sedge" and shown["method"] == "ambient_count"
    kinds = [one["payload"]["kind"] for one in tester.get(f"/api/visits/{visit}/log")["events"]][-3:]
    assert kinds == ["task_chosen", "facepiece_chosen", "method_chosen"]


def test_a_method_that_cannot_be_done_today_is_said_and_not_taken_in_silence(house: House) -> None:
    tester = house.client()
    tester.whole_visit()
    tester.post(f"/api/counters/{house.ours.counter}/checks", {"name": "clean_air", "value": "9999"})
    visit = tester.open(house.ours.people[0])
    tester.until(visit, "task")
    same = tester.get(f"/api/visits/{visit}/advice")["same_again"]
    assert same is None or (same["method"] == "" and same["without"])


def test_whoever_is_found_comes_with_what_they_passed_in_and_their_clearance(house: House) -> None:
    tester = house.client()
    tester.whole_visit()
    rows = {one["id"]: one for one in tester.get("/api/people?q=&page=1")["rows"]}
    passed, other = rows[house.ours.people[0]], next(r for k, r in rows.items() if k != house.ours.people[0])
    assert "Sedge" in passed["passed_in"] and passed["until"] > house.clock.at.date().isoformat()
    assert (other["passed_in"], other["until"]) == ("", "")
    assert {one["clearance"] for one in rows.values()} <= {"cleared", "none on file", "ran out", "not cleared"}


@pytest.mark.parametrize(
    ("typed", "name", "is_theirs"),
    [
        ("Åsa Tarn", "Åsa Tarn", True),
        ("asa tarn", "Åsa Tarn", True),
        ("A. Tarn", "Åsa Tarn", True),
        ("Tarn, Asa", "Åsa Tarn", True),
        ("Åsa Trn", "Åsa Tarn", True),
        ("Zolkiewska", "Ewa Żółkiewska", True),
        ("李明", "李明", True),
        ("A Name", "Åsa Tarn", False),
        ("x", "Åsa Tarn", False),
        ("Idris Fallow", "Åsa Tarn", False),
        ("A.T.", "Åsa Tarn", False),
    ],
)
def test_a_typed_name_is_the_persons_give_or_take_a_letter(typed: str, name: str, is_theirs: bool) -> None:
    """Names of the demo's world; common practice."""
    assert resembles(typed, name) is is_theirs


def test_nobody_signs_in_another_name(house: House) -> None:
    tester = house.client()
    tester.check_counter()
    visit = tester.open()
    tester.until(visit, "run")
    tester.type_numbers(visit, tester.start(visit, "typed"), ("4", "6", "3", "5"))
    tester.until(visit, "sign_wearer")
    for role in ("wearer", "tester"):
        with pytest.raises(Refused, match="other_name"):
            tester.sign(visit, role, typed_name="Somebody Else")
        tester.sign(visit, role)
    assert tester.get(f"/api/visits/{visit}")["visit"]["is_signed"]
