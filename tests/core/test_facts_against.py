"""Facts against wearing never help, facts in favour never hurt: *may wear* over thousands of made-up people."""

from __future__ import annotations

from dataclasses import replace
from datetime import date, timedelta
from fractions import Fraction
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from moorfog.core.events.facts import Clearance, Task
from moorfog.core.permission.may_wear import End, Held, NoTask, PersonFacts, Report, may_wear
from moorfog.core.rules.in_force import SiteBooks
from moorfog.core.rules.overlay import Overlay, compare
from moorfog.data import shipped_books, value_shapes
from tests.core.bench import facepiece, task

US = shipped_books()["us-29cfr1910-134"]
START = date(2026, 1, 1)
DAYS = st.integers(0, 800).map(lambda one: (START + timedelta(days=one)).isoformat())
TASKS: list[Task | NoTask] = [
    task(),
    task(is_idlh=True),
    task(oxygen_percent=""),
    task(contaminants=tuple(replace(one, concentration="70") for one in task().contaminants)),
    NoTask("hull sandng"),
    NoTask(""),
]
PIECES = [facepiece(kind=kind) for kind in ("half", "full", "powered_full", "supplied_demand_full", "scba_full")]
CLEARANCES = st.builds(
    Clearance,
    status=st.sampled_from(["cleared", "cleared", "not cleared", "pending"]),
    limits=st.sampled_from([(), (), ("powered only",), ("no full facepiece",)]),
    valid_from=DAYS,
    valid_until=DAYS | st.just(""),
    by=st.just("Harbour Row"),
)


@st.composite
def passes(draw: Any) -> Held:
    tested = draw(DAYS)
    is_taste = draw(st.booleans())
    piece = draw(st.sampled_from(PIECES))
    return Held(
        visit_id="v",
        no=1,
        piece=piece,
        tested_at=f"{tested}T09:00:00.000Z",
        valid_from=tested,
        valid_until=(date.fromisoformat(tested) + timedelta(days=365)).isoformat(),
        up_to=Fraction(10) if is_taste and piece.kind == "full" else None,
        method="sweet" if is_taste else "ambient_count",
        protocol="taste-sweet" if is_taste else "fast-count-elastomeric",
        overall=None if is_taste else draw(st.sampled_from([Fraction(99), Fraction(500), Fraction(4000)])),
        lowest=None if is_taste else draw(st.sampled_from([Fraction(60), Fraction(450), Fraction(3000)])),
    )


@st.composite
def against(draw: Any, held: Held) -> tuple[str, Any]:
    """A fact that is against wearing: which part of what is known it belongs to, and what it is."""
    when = draw(DAYS)
    configuration = draw(st.sampled_from(["", held.piece.configuration, "another"]))
    kind = draw(st.sampled_from(["reports", "ends", "recall", "clearances"]))
    if kind == "reports":
        what = draw(st.sampled_from(["face", "health", "facepiece", "workplace", "fit"]))
        return "reports", Report(what, f"{when}T10:00:00.000Z", when, "the wearer", configuration)
    if kind == "ends":
        return "ends", End(configuration, f"{when}T10:00:00.000Z", "failed", "tester")
    if kind == "recall":
        return "ends", End("", "", "recalled", "administrator", True, "v", draw(st.sampled_from([1, 2])))
    status = draw(st.sampled_from(["not cleared", "pending"]))
    return "clearances", Clearance(status, (), when, draw(DAYS | st.just("")), "Harbour Row")


@st.composite
def people(draw: Any) -> tuple[Held, PersonFacts]:
    held = draw(passes())
    facts = PersonFacts(
        clearances=tuple(draw(st.lists(CLEARANCES, max_size=3))),
        trained=tuple(draw(st.lists(DAYS, max_size=2))),
        ends=(),
        passes=(held,),
        cleared=tuple((f"{one}T08:00:00.000Z", one) for one in draw(st.lists(DAYS, max_size=2))),
    )
    for _ in range(draw(st.integers(0, 2))):
        part, fact = draw(against(held))
        facts = replace(facts, **{part: (*getattr(facts, part), fact)})
    return held, facts


STRICTER = [
    Overlay(key, value, "", "", "2026-01-01", "A")
    for key, value in (
        ("level.half", "600"),
        ("level.full", "3900"),
        ("judged_by", "every_exercise"),
        ("interval", 4),
        ("training.interval", 5),
        ("qlft.full", "never"),
        ("qlft.full_up_to", "1"),
        ("apf.half", "1.5"),
        ("oxygen.minimum", "21"),
    )
]
PLAIN = SiteBooks(US, (), value_shapes())


@settings(max_examples=3000)
@given(who=people(), asked=st.sampled_from(TASKS), day=DAYS, data=st.data())
def test_no_fact_against_wearing_ever_turns_a_no_into_a_may(
    who: tuple[Held, PersonFacts], asked: Task | NoTask, day: str, data: st.DataObject
) -> None:
    held, facts = who
    before = may_wear(held, facts, asked, PLAIN, day)
    part, fact = data.draw(against(held))
    known = getattr(facts, part)
    place = data.draw(st.integers(0, len(known)))
    more = replace(facts, **{part: (*known[:place], fact, *known[place:])})
    after = may_wear(held, more, asked, PLAIN, day)
    assert before.may or not after.may
    assert not after.may or after.until <= before.until


@settings(max_examples=3000)
@given(who=people(), asked=st.sampled_from(TASKS), day=DAYS, rule=st.sampled_from(STRICTER), begins=DAYS | st.just(""))
def test_no_stricter_rule_ever_turns_a_no_into_a_may(
    who: tuple[Held, PersonFacts], asked: Task | NoTask, day: str, rule: Overlay, begins: str
) -> None:
    held, facts = who
    assert compare(rule.key, US.values[rule.key], rule.value, value_shapes()) == "stricter"  # type: ignore[arg-type]
    before = may_wear(held, facts, asked, PLAIN, day)
    after = may_wear(held, facts, asked, SiteBooks(US, (replace(rule, begins=begins),), value_shapes()), day)
    assert before.may or not after.may
    assert not after.may or after.until <= before.until


@settings(max_examples=3000)
@given(who=people(), asked=st.sampled_from(TASKS), day=DAYS, data=st.data())
def test_no_fact_in_favour_taken_away_ever_turns_a_no_into_a_may(
    who: tuple[Held, PersonFacts], asked: Task | NoTask, day: str, data: st.DataObject
) -> None:
    """A training, a word that settled a report, a clearance that is the only one: without it nobody may more."""
    held, facts = who
    before = may_wear(held, facts, asked, PLAIN, day)
    ways = []
    for part in ("trained", "cleared", "clearances"):
        known = getattr(facts, part)
        if known and (part != "clearances" or (len(known) == 1 and known[0].status == "cleared")):
            ways.append((part, data.draw(st.integers(0, len(known) - 1))))
    for part, at in ways:
        known = getattr(facts, part)
        less = replace(facts, **{part: (*known[:at], *known[at + 1 :])})
        after = may_wear(held, less, asked, PLAIN, day)
        assert before.may or not after.may, part


@settings(max_examples=1500)
@given(who=people(), asked=st.sampled_from(TASKS), day=DAYS, rule=st.sampled_from(STRICTER), begins=DAYS)
def test_until_is_found_by_asking_for_every_day(
    who: tuple[Held, PersonFacts], asked: Task | NoTask, day: str, rule: Overlay, begins: str
) -> None:
    """The same question for every single day ahead gives no other end."""
    held, facts = who
    books = SiteBooks(US, (replace(rule, begins=begins),), value_shapes())
    found = may_wear(held, facts, asked, books, day)
    if not found.may:
        assert found.until == ""
        return
    ahead = date.fromisoformat(day)
    while may_wear(held, facts, asked, books, (ahead + timedelta(days=1)).isoformat()).may:
        ahead += timedelta(days=1)
    assert found.until == ahead.isoformat()
