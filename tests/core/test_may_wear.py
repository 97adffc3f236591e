"""Who may wear what: a signed pass holds until anything stands against it, and every reason is said with who settles
it. The reasons are those of 29 CFR 1910.134 (e), (f) and (k), recalled."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from typing import Any, get_args

import pytest
from hypothesis import given
from hypothesis import strategies as st

from moorfog.core.advice.protection import protection
from moorfog.core.permission.may_wear import (
    End,
    Held,
    NoTask,
    PersonFacts,
    Report,
    ReportKind,
    Who,
    Why,
    is_open,
    may_wear,
    without_a_pass,
)
from moorfog.core.permission.way_out import WAYS, length, ways_out
from moorfog.core.rules.book import Rules
from moorfog.core.rules.in_force import Books, SiteBooks
from moorfog.core.rules.overlay import Overlay
from moorfog.data import shipped_books, value_shapes
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
    method="ambient_count",
    protocol="fast-count-elastomeric",
    overall=Fraction(2000),
    lowest=Fraction(900),
)
TASK = task()
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
    found = may_wear(held, replace(FACTS, **changes), TASK, rules.book, day)
    assert found.may is (not found.reasons) and bool(found.until) is found.may
    return [(one.code, one.settled_by) for one in found.reasons]


def test_a_pass_holds_until_the_first_of_what_ends_it(rules: Rules) -> None:
    found = may_wear(HELD, FACTS, TASK, rules.book, DAY)
    assert (found.until, found.ends_by) == ("2027-02-10", "training"), "training is yearly"
    assert against(rules, "2027-02-10") == [], "the day itself still counts"
    assert against(rules, "2027-02-11") == [("training", "administrator")]
    assert against(rules, "2027-03-03") == [("ended", "tester"), ("training", "administrator")]
    assert against(rules, "2026-03-01", trained=("2026-01-02",)) == [("not_yet", "tester")]
    assert against(rules, "2026-03-10", trained=("2026-03-10",)) == [], "trained on the day itself"


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
        (
            {"ends": (End(HELD.piece.configuration, HELD.tested_at, "failed", "tester"),)},
            [("failed_since", "tester")],  # which came first, nobody knows
        ),
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
    found = may_wear(HELD, replace(FACTS, reports=(said,)), TASK, rules.book, DAY).reasons[0]
    assert "2026-05-20, by the wearer" in found.sentence


def test_what_is_said_in_the_very_moment_of_the_test_or_the_filing_is_not_settled_by_it(rules: Rules) -> None:
    at_the_test = Report("fit", HELD.tested_at, HELD.valid_from, "the wearer")
    assert against(rules, reports=(at_the_test,)) == [("reported_fit", "tester")]
    said = Report("health", "2026-05-20T10:00:00.000Z", "2026-05-20", "the wearer")
    assert against(rules, reports=(said,), cleared=((said.at, said.on),)) == [("reported_health", "clinician")]


def test_an_older_clearance_filed_late_settles_no_change_of_health(rules: Rules) -> None:
    said = Report("health", "2026-05-20T10:00:00.000Z", "2026-05-20", "a clinician")
    late = (("2026-05-22T09:00:00.000Z", "2026-05-19"),)
    before = (("2026-05-20T09:00:00.000Z", "2026-05-20"),)
    for cleared in (late, before, late + before):
        assert against(rules, reports=(said,), cleared=cleared) == [("reported_health", "clinician")]
    assert against(rules, reports=(said,), cleared=(("2026-05-22T09:00:00.000Z", "2026-05-20"),)) == []


def test_a_pass_is_suspended_by_its_own_visit_and_try_only(rules: Rules) -> None:
    for visit, no in (("v", 0), ("a", 1), ("a", 9), ("w", 1)):
        assert against(rules, ends=(End("", "", "recalled", "administrator", True, visit, no),)) == []


def test_only_a_change_of_health_waits_for_the_clinician() -> None:
    for kind in EVERY:
        assert is_open(Report(kind, "2026-05-01T08:00:00.000Z", "2026-05-01", "Ines"), (), DAY) == (kind == "health")


def test_a_report_about_one_set_up_leaves_the_others(rules: Rules) -> None:
    of_this = Report("fit", "2026-05-20T10:00:00.000Z", "2026-05-20", "the wearer", HELD.piece.configuration)
    assert against(rules, reports=(of_this,)) == [("reported_fit", "tester")]
    assert against(rules, reports=(replace(of_this, configuration=OTHER),)) == []


def test_a_facepiece_that_is_not_enough_for_the_task_is_not_worn_at_it(rules: Rules) -> None:
    little = may_wear(HELD, FACTS, task(), rules.book, DAY)
    much = task(contaminants=tuple(replace(one, concentration="40000") for one in task().contaminants))
    found = may_wear(HELD, FACTS, much, rules.book, DAY)
    assert little.may and [one.code for one in found.reasons] == ["task"] and not found.until


def laid(*entries: Overlay) -> SiteBooks:
    """The US book with what a site lays over it."""
    return SiteBooks(shipped_books()["us-29cfr1910-134"], entries, value_shapes())


def rule(key: str, value: Any, reason: str = "", begins: str = "") -> Overlay:
    return Overlay(key, value, reason, "our copy", "2026-05-01", "Hollis Grey", begins)


def codes_under(books: Books, held: Held = HELD, day: str = DAY, facts: PersonFacts = FACTS) -> list[str]:
    return [one.code for one in may_wear(held, facts, TASK, books, day).reasons]


def said_under(books: Books, held: Held = HELD, facts: PersonFacts = FACTS) -> str:
    return " ".join(one.sentence for one in may_wear(held, facts, TASK, books, DAY).reasons)


def test_what_is_said_of_the_file_names_the_day_it_speaks_of(rules: Rules) -> None:
    old = replace(FACTS, trained=("2025-01-10",))
    assert "training of 2025-01-10 no longer counts" in said_under(rules.book, facts=old)
    assert "No training on file" in said_under(rules.book, facts=replace(FACTS, trained=()))
    ahead = tuple(replace(CLEARED, valid_from=one) for one in ("2026-09-01", "2026-08-01", "2026-10-01"))
    assert "only from 2026-08-01" in said_under(rules.book, facts=replace(FACTS, clearances=ahead)), "the next one"


@pytest.mark.parametrize("name", ["", "  ", "hull sandng", "Hull sanding"])
def test_a_task_that_matches_nothing_is_a_no_and_not_a_task_without_limits(rules: Rules, name: str) -> None:
    found = may_wear(HELD, FACTS, NoTask(name), rules.book, DAY)
    assert not found.may and [(one.code, one.settled_by) for one in found.reasons] == [("no_task", "administrator")]
    assert (f"“{name}” is no task" if name.strip() else "No task on file") in found.reasons[0].sentence


def test_a_cleared_that_begins_in_ninety_days_settles_no_report_today(rules: Rules) -> None:
    said = Report("health", "2026-05-20T10:00:00.000Z", "2026-05-20", "the wearer")
    ahead = (("2026-05-22T09:00:00.000Z", "2026-08-20"),)
    assert against(rules, reports=(said,), cleared=ahead) == [("reported_health", "clinician")]
    assert against(rules, day="2026-08-20", reports=(said,), cleared=ahead) == []


def test_the_newest_decision_by_its_own_day_counts_whenever_it_was_filed(rules: Rules) -> None:
    refused = replace(CLEARED, status="not cleared", valid_from="2026-04-01")
    older = replace(CLEARED, valid_from="2026-02-01")
    for order in ((CLEARED, refused, older), (older, refused), (refused, CLEARED)):
        assert against(rules, clearances=order) == [("clearance", "clinician")]
    same_day = replace(CLEARED, valid_from="2026-04-01")
    assert against(rules, clearances=(refused, same_day)) == [], "the same day: the one filed last"
    brief = replace(CLEARED, valid_from="2026-04-01", valid_until="2026-05-01")
    assert against(rules, clearances=(CLEARED, brief)) == [("clearance", "clinician")], (
        "the one before does not come back"
    )


def test_until_is_the_day_before_the_first_on_which_the_answer_turns(rules: Rules) -> None:
    refused = replace(CLEARED, status="not cleared", valid_from="2026-06-03")
    found = may_wear(HELD, replace(FACTS, clearances=(CLEARED, refused)), TASK, rules.book, DAY)
    assert (found.may, found.until, found.ends_by) == (True, "2026-06-02", "clearance")
    raised = may_wear(HELD, FACTS, TASK, laid(rule("level.half", "5000", begins="2026-07-01")), DAY)
    assert (raised.may, raised.until, raised.ends_by) == (True, "2026-06-30", "test")


def test_no_training_is_said_to_end_what_needs_none(rules: Rules) -> None:
    books = laid(rule("training.required", False, "our own assessment"))
    found = may_wear(HELD, FACTS, TASK, books, DAY)
    assert (found.until, found.ends_by) == ("2027-03-02", "test")


def test_a_pass_is_held_to_the_level_of_today(rules: Rules) -> None:
    assert codes_under(laid(rule("level.half", "2000"))) == []
    assert codes_under(laid(rule("level.half", "2000.1"))) == ["level"]
    assert codes_under(laid(rule("judged_by", "every_exercise"), rule("level.half", "901"))) == ["level"]
    assert codes_under(laid(rule("judged_by", "every_exercise"), rule("level.half", "900"))) == []
    unknown = replace(HELD, overall=None, lowest=None)
    assert codes_under(laid(), unknown) == ["level"], "no figure reaches no level"
    assert "no figure" in said_under(laid(), unknown) and "overall 2000" in said_under(laid(rule("level.half", "2001")))


def test_a_shortened_interval_ends_what_is_older_and_a_longer_one_prolongs_nothing(rules: Rules) -> None:
    assert codes_under(laid(rule("interval", 2))) == ["ended"]
    assert codes_under(laid(rule("interval", 3))) == []
    assert codes_under(laid(rule("interval", 2)), day=HELD.valid_until) == ["ended", "training"], "its last day as well"
    longer = may_wear(
        HELD, replace(FACTS, trained=("2027-01-01",)), TASK, laid(rule("interval", 24, "ours")), "2027-03-02"
    )
    assert longer.until == "2027-03-02"


def test_another_book_judges_by_its_own_level_interval_and_protocols() -> None:
    """Great Britain as shipped: no interval, no protocol confirmed, APFs off; nothing is carried over from the US."""
    codes = codes_under(shipped_books()["gb-hse-indg479"])
    assert {"no_interval", "protocol", "task"} <= set(codes)


def test_a_pass_by_a_method_that_is_off_now_does_not_count(rules: Rules) -> None:
    smoked = replace(HELD, method="smoke", protocol="smoke", overall=None, lowest=None)
    assert codes_under(laid(), smoked) == [] and codes_under(laid(rule("smoke.allowed", False)), smoked) == ["method"]
    by_taste = replace(smoked, method="sweet", protocol="taste-sweet", piece=facepiece(kind="full"), up_to=Fraction(10))
    assert codes_under(laid(), by_taste) == []
    assert codes_under(laid(rule("qlft.full", "never")), by_taste) == ["method"]
    assert codes_under(laid(), replace(smoked, method="a guess")) == ["method"]
    off = replace(shipped_books()["us-29cfr1910-134"], protocols=("taste-sweet",))
    assert codes_under(off) == ["protocol"]


def test_an_entry_nobody_can_read_means_no_for_everybody() -> None:
    assert codes_under(laid(rule("shave.policy", "no hair undr the seal", "from before"))) == ["unsettled"]


def test_a_transition_needs_its_written_reason_and_says_so_on_every_answer() -> None:
    raised = rule("level.half", "5000")
    silent = laid(raised, rule("former.until", "2026-07-15"))
    assert codes_under(silent) == ["level"], "without a reason it is no transition"
    book = laid(raised, rule("former.until", "2026-07-15", "why")).on(DAY)
    unsaid = replace(book.values["former.until"], changed="")
    assert codes_under(replace(book, values={**book.values, "former.until": unsaid})) == ["level"]
    books = laid(raised, rule("former.until", "2026-07-15", "masks come in July; agreed on 2026-05-01"))
    found = may_wear(HELD, FACTS, TASK, books, DAY)
    assert found.may and found.until == "2026-07-15"
    assert any("masks come in July" in one and "2026-07-15" in one for one in found.limits)
    assert codes_under(books, day="2026-07-15") == [] and codes_under(books, day="2026-07-16") == ["level"]
    same_day = replace(HELD, tested_at="2026-05-01T06:00:00.000Z", valid_from="2026-05-01", valid_until="2027-05-01")
    assert codes_under(books, same_day) == [], "tested in the morning, before the change was entered"
    late = replace(HELD, tested_at="2026-05-20T09:00:00.000Z", valid_from="2026-05-20", valid_until="2027-05-20")
    assert codes_under(books, late) == ["level"], "it carries no test of after the change"
    assert (
        may_wear(HELD, FACTS, TASK, laid(rule("former.until", "2026-07-15", "why")), DAY).limits
        == may_wear(HELD, FACTS, TASK, laid(), DAY).limits
    ), "what today's rules take needs no such words"


@pytest.mark.parametrize("up_to", [1, 2, 3])
def test_what_the_test_itself_was_limited_to_caps_its_use_whatever_the_book_says_now(rules: Rules, up_to: int) -> None:
    """A half facepiece by taste has no cap in the US book; one that was tested under a cap keeps it."""
    tasted = replace(HELD, method="sweet", protocol="taste-sweet", overall=None, lowest=None, up_to=Fraction(up_to))
    needs = protection(TASK, rules.book).required
    assert needs is not None and codes_under(rules.book, replace(tasted, up_to=None)) == []
    assert codes_under(rules.book, tasted) == (["capped"] if needs > up_to else [])


def test_the_limits_of_a_test_stand_with_every_answer(rules: Rules) -> None:
    """29 CFR 1910.134 (f)(6), recalled: a full facepiece by taste, up to ten times the limit, whatever is asked."""
    tasted = replace(
        HELD,
        method="sweet",
        protocol="taste-sweet",
        overall=None,
        lowest=None,
        piece=facepiece(kind="full"),
        up_to=Fraction(10),
    )
    for asked in (TASK, NoTask("")):
        assert (
            "Up to 10 times the limit only, by this method." in may_wear(tasted, FACTS, asked, rules.book, DAY).limits
        )
    much = task(contaminants=tuple(replace(one, concentration="55") for one in TASK.contaminants))
    assert [one.code for one in may_wear(tasted, FACTS, much, rules.book, DAY).reasons] == ["capped"]
    just = task(contaminants=tuple(replace(one, concentration="50") for one in TASK.contaminants))
    assert may_wear(tasted, FACTS, just, rules.book, DAY).may, "exactly ten times the limit is covered"
    lower = laid(rule("qlft.full_up_to", "1.5"))
    assert codes_under(lower, tasted) == ["capped"], "today's cap, where it is lower"


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
        reasons = list(may_wear(HELD, facts, TASK, rules.book, day).reasons)
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
