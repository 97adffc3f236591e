"""A few made-up calls of every operation, by everybody: no error of the program, and answers as the document says."""

from __future__ import annotations

from collections import Counter

from sqlalchemy import Engine

from moorfog.core.rules.book import Rules
from tests.faults.fuzz import Fuzz, through
from tests.rooms.house import House

EXAMPLES, DRAWING = 27, 20261201
"""Of every operation: five thousand in all. Drawn alike each time, so that a change is judged by the same calls; fresh
ones, and twenty times as many, are made by ``./moorfog bench fuzz``."""


def test_no_made_up_call_ends_in_an_error_of_the_program(alone: Engine, rules: Rules) -> None:
    fuzz, counted = Fuzz(House(alone, rules)), Counter[str]()
    for operation in fuzz.operations():
        counted += fuzz.attack(operation, EXAMPLES, DRAWING)
    assert [one for one in counted if one.startswith("bad")] == []
    made, well = through(counted)
    assert made > 4500 and {"200", "401", "403", "404", "422"} <= set(counted), counted
    assert 2 * well >= made, f"at least half of them go where most of the program is: {well} of {made}"


def test_every_address_says_how_it_may_be_used(house: House) -> None:
    """OPTIONS, HEAD and a wrong method: 200, as GET without its body, 405 with what is allowed."""
    web = house.app.test_client()
    assert web.options("/api/time").status_code == 200 and "GET" in web.options("/api/time").headers["Allow"]
    assert web.head("/api/time").status_code == 200 and web.head("/api/time").data == b""
    wrong = web.put("/api/time")
    assert wrong.status_code == 405 and "GET" in wrong.headers["Allow"] and wrong.get_json()["code"]
