"""Until when somebody can wear anything: what was answered on one day holds until the day it says to look again."""

from __future__ import annotations

from dataclasses import replace
from datetime import date, timedelta

from hypothesis import given
from hypothesis import strategies as st

from moorfog.core.permission.may_wear import Permission, PersonFacts, may_wear
from moorfog.core.permission.standing import standing_of
from moorfog.core.rules.book import Rules
from tests.core.bench import CLEARED, task
from tests.core.test_may_wear import FACTS, HELD

START = date(2026, 1, 1)
DAYS = st.integers(0, 900).map(lambda one: (START + timedelta(days=one)).isoformat())


def asked(rules: Rules, facts: PersonFacts, day: str) -> list[Permission]:
    return [may_wear(one, facts, task(), rules.book, day) for one in facts.passes]


@given(
    tested=st.lists(DAYS, min_size=1, max_size=4),
    trained=st.lists(DAYS, max_size=3),
    cleared=st.lists(st.tuples(DAYS, DAYS | st.just("")), max_size=3),
    day=DAYS,
    later=st.integers(1, 700),
)
def test_an_answer_holds_until_the_day_to_look_again(
    rules: Rules, tested: list[str], trained: list[str], cleared: list[tuple[str, str]], day: str, later: int
) -> None:
    passes = tuple(
        replace(
            HELD,
            visit_id=f"v{no}",
            tested_at=f"{one}T09:00:00.000Z",
            valid_from=one,
            valid_until=(date.fromisoformat(one) + timedelta(days=365)).isoformat(),
        )
        for no, one in enumerate(tested)
    )
    clearances = tuple(replace(CLEARED, valid_from=begins, valid_until=until) for begins, until in cleared)
    facts = replace(FACTS, passes=passes, trained=tuple(trained), clearances=clearances)
    now = standing_of(asked(rules, facts, day), facts, rules.book, day)
    then = (date.fromisoformat(day) + timedelta(days=later)).isoformat()
    if now.look_again and then >= now.look_again:
        then = (date.fromisoformat(now.look_again) - timedelta(days=1)).isoformat()
    again = standing_of(asked(rules, facts, then), facts, rules.book, then)
    assert (again.until, again.is_only) == (now.until, now.is_only)
    assert not now.until or now.until >= day


def test_the_longest_set_up_decides_and_the_shortest_says_when_to_look_again(rules: Rules) -> None:
    other = replace(HELD, visit_id="w", valid_until="2026-09-01")
    facts = replace(FACTS, passes=(HELD, other), trained=("2026-05-01",))
    found = standing_of(asked(rules, facts, "2026-06-01"), facts, rules.book, "2026-06-01")
    assert (found.until, found.is_only, found.look_again) == ("2027-03-02", False, "2026-09-02")
    left = standing_of(asked(rules, facts, "2026-09-02"), facts, rules.book, "2026-09-02")
    assert (left.until, left.is_only, left.look_again) == ("2027-03-02", True, "2027-03-03")
    nothing = replace(facts, passes=())
    assert standing_of([], nothing, rules.book, "2026-06-01") == standing_of([], nothing, rules.book, "2027-06-01")
