"""A few made-up calls of every operation, by everybody: no error of the program, and answers as the document says."""

from __future__ import annotations

from collections import Counter

from tests.api.house import House
from tests.faults.fuzz import ACTORS, Fuzz

EXAMPLES = 10


def test_no_made_up_call_ends_in_an_error_of_the_program(house: House) -> None:
    fuzz, counted = Fuzz(house), Counter[str]()
    for operation in fuzz.operations():
        counted += fuzz.attack(operation, ACTORS, EXAMPLES)
    assert [one for one in counted if one.startswith("bad")] == []
    made = sum(count for what, count in counted.items() if what.isdigit())
    assert made > 500 and {"200", "401", "403", "404", "422"} <= set(counted), counted


def test_every_address_says_how_it_may_be_used(house: House) -> None:
    """OPTIONS, HEAD and a wrong method: 200, as GET without its body, 405 with what is allowed."""
    web = house.app.test_client()
    assert web.options("/api/time").status_code == 200 and "GET" in web.options("/api/time").headers["Allow"]
    assert web.head("/api/time").status_code == 200 and web.head("/api/time").data == b""
    wrong = web.put("/api/time")
    assert wrong.status_code == 405 and "GET" in wrong.headers["Allow"] and wrong.get_json()["code"]
