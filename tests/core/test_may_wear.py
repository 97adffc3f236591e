"""Who may wear what: a signed pass holds until anything stands against it, and every reason is said with who settles
it. The reasons are those of 29 CFR 1910.134 (e), (f) and (k), recalled."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from typing import Any, get_args

import pytest
from hypothesis import given
from hypothesis import strategies as st

from moorfog.core.permission.may_wear import (
    End,
    Held,
    PersonFacts,
    Report,
    ReportKind,
    Who,
    Why,
    may_wear,
    without_a_pass,
)
from moorfog.core.permission.way_out import WAYS, length, ways_out
from moorfog.core.rules.book import Rules
from tests.core.bench import CLEARED, facepiece, task

EVERY: tuple[ReportKind, ...] = ("face", "health", "facepiece", "workplace", "fit")
HELD = Held(
    visit_id="v",
    no=1,
    piece=facepiece(),
    tested_at="2026-03-02T09:40:00.000Z",
    valid_from="2026-03-02",
    valid_until="2027-03-02",
    up_to=None,
    level=Fraction(100),
)
FACTS = PersonFacts(
    clearances=(CLEARED,),
    trained=("2026-02-10",),
    ends=(),
    passes=(HELD,),
    cleared=(("2026-01-01T08:00:00.000Z", "2026-01-01"),),
)
DAY = "2026-06-01"
OTHER = "another set-up"


def against(rules: Rules, day: str = DAY, held: Held = HELD, **changes: Any) -> list[tuple[str, str]]:
    """What stands against wearing it: code and who settles it."""
    found = may_wear(held, replace(FACTS, **changes), None, rules.book, day)
    assert found.may is (not found.reasons) and bool(found.until) is found.may
    return [(one.code, one.settled_by) for one in found.reasons]


def test_a_pass_holds_until_the_first_of_what_ends_it(rules: Rules) -> None:
    assert may_wear(HELD, FACTS, None, rules.book, DAY).until == "2027-02-10", "training is yearly"
    assert against(rules, "2027-02-10") == [], "the day itself still counts"
    assert against(rules, "2027-02-11") == [("training", "administrator")]
    assert against(rules, "2027-03-03") == [("ended", "tester"), ("training", "administrator")]
    assert against(rules, "2026-03-01", trained=("2026-01-02",)) == [("not_yet", "tester")]


@pytest.mark.parametrize(
    ("changes", "expected"),
    [
        ({"clearances": ()}, [("no_clearance", "clinician")]),
        ({"clearances": (replace(CLEARED, status="not cleared"),)}, [("clearance", "clinician")]),
        ({"clearances": (replace(CLEARED, valid_until="2026-05-31"),)}, [("clearance", "clinician")]),
        ({"clearances": (replace(CLEARED, limits=("no half facepiece",)),)}, [("clearance_limit", "clinician")]),
        ({"trained": ()}, [("training", "administrator")]),
        (
            {"ends": (End(HELD.piece.configuration, "2026-04-01T00:00:00.000Z", "failed", "tester"),)},
            [("failed_since", "tester")],
        ),
        ({"ends": (End(HELD.piece.configuration, "2026-03-01T00:00:00.000Z", "failed", "tester"),)}, []),
        ({"ends": (End(OTHER, "2026-04-01T00:00:00.000Z", "failed", "tester"),)}, []),
        ({"ends": (End("", "", "recalled", "administrator", True, "v", 1),)}, [("suspended", "administrator")]),
        ({"ends": (End("", "", "recalled", "administrator", True, "v", 2),)}, []),
    ],
)
def test_each_reason_is_said_with_who_settles_it(
    rules: Rules, changes: dict[str, Any], expected: list[tuple[str, str]]
) -> None:
    assert against(rules, **changes) == expected


@pytest.mark.parametrize("kind", EVERY)
def test_a_report_ends_what_was_passed_before_and_a_test_since_settles_it(rules: Rules, kind: ReportKind) -> None:
    said = Report(kind, "2026-05-20T10:00:00.000Z", "2026-05-20", "the wearer")
    by = "clinician" if kind == "health" else "tester"
    assert against(rules, reports=(said,)) == [(f"reported_{kind}", by)]
    since = replace(HELD, tested_at="2026-05-21T09:00:00.000Z", valid_from="2026-05-21")
    settled = [] if kind != "health" else [("reported_health", "clinician")]
    assert against(rules, held=since, reports=(said,)) == settled
    filed = against(rules, reports=(said,), cleared=(("2026-05-22T09:00:00.000Z", "2026-05-21"),))
    assert filed == ([] if kind == "health" else [(f"reported_{kind}", "tester")]), "a clearance settles health alone"
    found = may_wear(HELD, replace(FACTS, reports=(said,)), None, rules.book, DAY).reasons[0]
    assert "2026-05-20, by the wearer" in found.sentence


def test_an_older_clearance_filed_late_settles_no_change_of_health(rules: Rules) -> None:
    said = Report("health", "2026-05-20T10:00:00.000Z", "2026-05-20", "a clinician")
    late = (("2026-05-22T09:00:00.000Z", "2026-05-19"),)
    before = (("2026-05-20T09:00:00.000Z", "2026-05-20"),)
    for cleared in (late, before, late + before):
        assert against(rules, reports=(said,), cleared=cleared) == [("reported_health", "clinician")]
    assert against(rules, reports=(said,), cleared=(("2026-05-22T09:00:00.000Z", "2026-05-20"),)) == []


def test_a_report_about_one_set_up_leaves_the_others(rules: Rules) -> None:
    of_this = Report("fit", "2026-05-20T10:00:00.000Z", "2026-05-20", "the wearer", HELD.piece.configuration)
    assert against(rules, reports=(of_this,)) == [("reported_fit", "tester")]
    assert against(rules, reports=(replace(of_this, configuration=OTHER),)) == []


def test_a_facepiece_that_is_not_enough_for_the_task_is_not_worn_at_it(rules: Rules) -> None:
    little = may_wear(HELD, FACTS, task(), rules.book, DAY)
    much = task(contaminants=tuple(replace(one, concentration="40000") for one in task().contaminants))
    found = may_wear(HELD, FACTS, much, rules.book, DAY)
    assert little.may and [one.code for one in found.reasons] == ["task"] and not found.until


moments = st.sampled_from(["2026-01-01T00:00:00.000Z", HELD.tested_at, "2026-04-01T00:00:00.000Z"])
reports = st.builds(
    Report,
    kind=st.sampled_from(EVERY),
    at=moments,
    on=st.just("2026-04-01"),
    by=st.just("a supervisor"),
    configuration=st.sampled_from(["", HELD.piece.configuration, OTHER]),
)
ends = st.builds(
    End,
    configuration=st.sampled_from([HELD.piece.configuration, OTHER]),
    at=moments,
    why=st.just("failed"),
    by=st.just("tester"),
)


@given(st.lists(reports, max_size=4), st.lists(ends, max_size=3), st.sampled_from([DAY, "2027-02-20", "2027-04-01"]))
def test_whatever_is_heard_besides_only_takes_away(
    rules: Rules, said: list[Report], failed: list[End], day: str
) -> None:
    """Reasons are never fewer for knowing more against it."""
    less: list[Why] = []
    for heard in range(len(said) + 1):
        facts = replace(FACTS, reports=tuple(said[:heard]), ends=tuple(failed))
        reasons = list(may_wear(HELD, facts, None, rules.book, day).reasons)
        assert all(one in reasons for one in less)
        less = reasons


def test_who_passed_in_nothing_is_told_everything_that_is_lacking(rules: Rules) -> None:
    bare = PersonFacts(clearances=(), trained=(), ends=(), passes=())
    assert [one.code for one in without_a_pass(bare, rules.book, DAY)] == ["no_pass", "no_clearance", "training"]
    assert [one.code for one in without_a_pass(FACTS, rules.book, DAY)] == ["no_pass"]


def test_the_shortest_way_out_comes_first() -> None:
    """Training on the spot, then a test at the bench, the office, the clinician (common practice)."""
    training, test, clinician = ("training", "administrator"), ("ended", "tester"), ("no_clearance", "clinician")
    office = ("task", "administrator")
    assert [one.id for one in ways_out([clinician, office, test, training, test])] == [one.id for one in WAYS]
    cases = ([], [training], [test], [training, test], [office], [clinician], [test, clinician])
    lengths = [length(ways_out(one)) for one in cases]
    assert lengths == sorted(set(lengths))


@given(st.lists(st.tuples(st.sampled_from(["training", "ended", "task"]), st.sampled_from(get_args(Who)))))
def test_another_reason_never_makes_the_way_out_shorter(reasons: list[tuple[str, str]]) -> None:
    for cut in range(len(reasons)):
        assert length(ways_out(reasons[:cut])) <= length(ways_out(reasons))
