"""A press belongs to one visit, one person and one screen; the server takes it for no other."""

from __future__ import annotations

import random
from typing import Any

import pytest

from tests.rooms.house import Client, House, Refused


def logs(tester: Client, *visits: str) -> list[list[dict[str, Any]]]:
    return [tester.get(f"/api/visits/{one}/log")["events"] for one in visits]


@pytest.mark.parametrize("kind", ["distress", "answered"])
def test_a_press_of_another_visit_is_refused_whatever_its_number(house: House, kind: str) -> None:
    """*Unwell*, and a Y on the identity gate: both visits stand at the same entry, so the number alone fits."""
    tester = house.client("tester")
    first, other = tester.open(), tester.open(house.ours.people[1])
    card = tester.shown(first)["queue"][0]
    answer = {"kind": "answered", "question": card["id"], "answer": "fine", "facts": card["facts"]}
    body = {"kind": "distress"} if kind == "distress" else answer
    pressed = tester.proposal(first, body, **({"expects": None, "mark": None} if kind == "distress" else {}))
    before = logs(tester, first, other)
    with pytest.raises(Refused) as refused:
        tester.post(f"/api/visits/{other}/events", pressed)
    assert refused.value.status == 409 and refused.value.code == "other_visit"
    assert logs(tester, first, other) == before
    tester.post(f"/api/visits/{first}/events", pressed)
    assert len(logs(tester, first)[0]) == len(before[0]) + 1


def test_a_press_for_another_person_or_on_another_card_is_refused(house: House) -> None:
    tester = house.client("tester")
    first, other = tester.open(), tester.open(house.ours.people[1])
    card, foreign = tester.shown(first)["queue"][0], tester.proposal(other, {"kind": "distress"})
    body = {"kind": "answered", "question": card["id"], "answer": "fine", "facts": card["facts"]}
    for wrong, code in (
        ({"person_id": house.ours.people[1]}, "other_person"),
        ({"mark": foreign["mark"]}, "other_card"),
        ({"mark": None}, "other_card"),
    ):
        with pytest.raises(Refused) as refused:
            tester.say(first, body, **wrong)
        assert refused.value.status == 409 and refused.value.code == code
    with pytest.raises(Refused) as refused:
        tester.say(first, {**body, "facts": tester.shown(other)["queue"][0]["facts"]})
    assert refused.value.code == "facts_changed", "what an answer holds for is of one visit"
    tester.say(first, body)


@pytest.mark.parametrize("seed", range(4))
def test_no_press_ever_changes_its_visit(house: House, seed: int) -> None:
    """Presses of two visits, delayed, swapped and sent again: each log holds what was pressed in it, nothing else."""
    tester, chance = house.client("tester"), random.Random(seed)
    visits = [tester.open(), tester.open(house.ours.people[1])]
    pressed: dict[str, set[str]] = {one: set() for one in visits}
    waiting: list[dict[str, Any]] = []
    for _ in range(30):
        of = chance.choice(visits)
        card = tester.shown(of)["queue"][0]
        body: dict[str, Any] = {"kind": "touched", "moved": False}
        more: dict[str, Any] = {"expects": None, "mark": None}
        if not card["act"] and chance.random() < 0.6:
            body, more = {"kind": "answered", "question": card["id"], "answer": "fine", "facts": card["facts"]}, {}
        one = tester.proposal(of, body, **more)
        pressed[of].add(one["id"])
        waiting.append(one)
        chance.shuffle(waiting)
        while waiting and chance.random() < 0.6:
            sent = waiting.pop()
            for to in chance.sample(visits, 2):
                try:
                    tester.post(f"/api/visits/{to}/events", sent)
                except Refused as error:
                    assert error.status == 409 or error.code == "facts_changed", error.body
    for one in visits:
        stored = {each["id"] for each in logs(tester, one)[0] if each["seq"] > 1}
        assert stored and stored <= pressed[one]
