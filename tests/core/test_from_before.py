"""Results of before permit nothing by themselves; what a site says of them in writing reaches no further than it says.

Common practice: no rule speaks of results of another house. Levels and the cap of taste are those of the US book.
"""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from moorfog.core.kernel.codec import DataError
from moorfog.core.permission.from_before import Accepted, Before, Judged, Word, accepted, folded, read_method_names
from moorfog.core.permission.may_wear import End, PersonFacts, Report, may_wear
from moorfog.core.rules.book import Book, Rules
from moorfog.data import method_names, shipped_books, shipped_protocols
from tests.core.bench import CLEARED, facepiece, task

PASSED = Before(
    on="2026-03-02",
    model="Old Heron",
    size="M",
    method="count",
    factor="1200",
    has_passed=True,
    entered_at="2026-04-01T08:00:00.000Z",
)
WORD = Word(
    model="old  heron",
    size="m",
    piece=facepiece(),
    said_by="Hollis Grey",
    said_at="2026-04-02T08:00:00.000Z",
    said_on="2026-04-02",
)
DAY = "2026-06-01"
TASK = task()


def held_to(book: Book) -> Judged:
    return Judged(book, shipped_protocols(), method_names(), "UTC")


def count(rules: Rules, *results: Before, word: Word = WORD) -> tuple[Accepted, ...]:
    return accepted(results, (word,), held_to(rules.book))


def test_a_pass_of_before_counts_as_what_is_said_and_until_its_year_is_over(rules: Rules) -> None:
    assert accepted([PASSED], [], held_to(rules.book)) == (), "nobody said anything"
    (one,) = count(rules, PASSED)
    assert (one.held.piece, one.held.valid_from, one.held.valid_until) == (WORD.piece, "2026-03-02", "2027-03-02")
    assert one.held.tested_at == "2026-03-02T00:00:00.000Z", "what came on that day came after it"
    assert "Hollis Grey" in one.words and "2026-03-02" in one.words and "not judged here" in one.words
    assert len(count(rules, replace(PASSED, on=WORD.said_on, entered_at=WORD.said_at))) == 1, "on file when it was said"
    (later,) = count(rules, PASSED, replace(PASSED, on="2026-03-20"))
    assert later.held.valid_from == "2026-03-20", "the last of them"


@pytest.mark.parametrize(
    ("change", "why"),
    [
        ({"has_passed": False}, "a fail is no pass"),
        ({"entered_at": "2026-04-03T08:00:00.000Z"}, "it came after what was said"),
        ({"model": "Old Bittern"}, "another facepiece"),
        ({"size": "L"}, "another size"),
        ({"size": ""}, "no size is known"),
        ({"factor": "99"}, "under the level of a half facepiece"),
        ({"factor": "about 500"}, "no number"),
        ({"on": "2026-04-03"}, "a day that had not come when it was said"),
    ],
)
def test_what_it_does_not_reach_does_not_count(rules: Rules, change: dict[str, Any], why: str) -> None:
    assert count(rules, replace(PASSED, **change)) == (), why


@pytest.mark.parametrize(
    ("change", "counts"),
    [
        ({"on": "2026-03-01"}, True),
        ({"on": "2026-03-02"}, False),
        ({"on": "2026-05-01", "entered_at": "2026-05-20T08:00:00.000Z"}, False),
        ({"on": "2026-05-01", "size": "L"}, False),
        ({"on": "2026-05-01", "size": "Med"}, False),
        ({"on": "2026-05-01", "size": " "}, False),
        ({"on": "2026-05-01", "model": "Old-Heron"}, False),
        ({"on": "2026-05-01", "model": "Old He\u200bron"}, False),
        ({"on": "2026-05-01", "model": "Óld Heron."}, False),
        ({"on": "2026-05-01", "model": "Old Bittern"}, False),
    ],
)
def test_a_fail_of_the_same_day_or_later_ends_it_whenever_it_was_taken_over(
    rules: Rules, change: dict[str, Any], counts: bool
) -> None:
    failed = replace(PASSED, has_passed=False, factor="30", **change)
    assert bool(count(rules, PASSED, failed)) is counts, "what nobody has matched may be any of them"


def test_only_a_fail_that_the_site_said_is_another_set_up_leaves_a_pass_alone(rules: Rules) -> None:
    failed = replace(PASSED, model="Old Bittern", has_passed=False, on="2026-05-01")
    other = replace(WORD, model="Old Bittern", piece=facepiece(model_id="m-other"))
    assert count(rules, PASSED, failed) == ()
    assert len(accepted([PASSED, failed], [WORD, other], held_to(rules.book))) == 1
    written_alike = replace(failed, model="Old-Heron")
    meant = replace(other, model="Old-Heron")
    assert accepted([PASSED, written_alike], [WORD, meant], held_to(rules.book)) == (), "it reads like the same"


@pytest.mark.parametrize(
    ("method", "factor", "counts"),
    [
        ("count", "1200", True),
        ("  Ambient-Count ", "1200", True),
        ("ambient count", "", False),
        ("user seal check", "1200", False),
        ("user seal check", "", False),
        ("", "1200", False),
        ("", "", False),
        ("cautious guess", "", False),
        ("Saccharin", "", True),
        ("bitter taste", "", True),
        ("photometer", "1200", True),
        ("photometer", "", False),
    ],
)
def test_only_a_method_the_book_knows_counts_by_its_own_rule(
    rules: Rules, method: str, factor: str, counts: bool
) -> None:
    assert bool(count(rules, replace(PASSED, method=method, factor=factor))) is counts


def test_a_book_that_judges_every_exercise_takes_no_overall_of_before(rules: Rules) -> None:
    each = replace(rules.book.values["judged_by"], value="every_exercise")
    strict = replace(rules.book, values={**rules.book.values, "judged_by": each})
    assert accepted([PASSED], [WORD], held_to(strict)) == ()
    assert len(accepted([replace(PASSED, method="sweet", factor="")], [WORD], held_to(strict))) == 1
    no_smoke = replace(rules.book, values={**rules.book.values, "smoke.allowed": replace(each, value=False)})
    smoked = replace(PASSED, method="irritant smoke", factor="")
    assert len(count(rules, smoked)) == 1 and accepted([smoked], [WORD], held_to(no_smoke)) == ()
    assert accepted([PASSED], [WORD], held_to(shipped_books()["gb-hse-indg479"])) == (), "no protocol is confirmed"


def test_a_book_takes_a_pass_of_before_only_by_a_method_of_which_it_allows_a_protocol(rules: Rules) -> None:
    tasted = replace(PASSED, method="sweet", factor="")
    by_taste, none = replace(rules.book, protocols=("taste-sweet",)), replace(rules.book, protocols=())
    assert accepted([PASSED], [WORD], held_to(by_taste)) == () and accepted([PASSED], [WORD], held_to(none)) == ()
    assert len(accepted([tasted], [WORD], held_to(by_taste))) == 1 and accepted([tasted], [WORD], held_to(none)) == ()


def test_what_counts_is_numbered_from_one(rules: Rules) -> None:
    other = replace(WORD, model="Old Bittern", piece=facepiece(model_id="m-other"))
    results = [PASSED, replace(PASSED, model="Old Bittern")]
    assert [one.held.no for one in accepted(results, [WORD, other], held_to(rules.book))] == [1, 2]


def test_names_are_folded_so_that_more_count_as_the_same() -> None:
    assert {folded(one) for one in ("Old Sédge", "OLD-SEDGE", "old\u200b sedge.", "Ｏｌｄ Sedge")} == {"oldsedge"}
    with pytest.raises(DataError, match="twice"):
        read_method_names({"sweet": ("a-b", "AB")}, "names")
    with pytest.raises(DataError, match="no such method"):
        read_method_names({"scent": ("scent oil",)}, "names")


def test_a_fail_under_another_name_for_the_same_set_up_ends_it_too(rules: Rules) -> None:
    """Two tables write one facepiece in two ways, and the site said so of both."""
    other = replace(WORD, model="Heron half")
    failed = replace(PASSED, model="Heron half", has_passed=False, factor="30", on="2026-03-20")
    assert accepted([PASSED, failed], [WORD, other], held_to(rules.book)) == ()
    elsewhere = replace(other, piece=facepiece(size="L"))
    assert len(accepted([PASSED, failed], [WORD, elsewhere], held_to(rules.book))) == 1, "another set-up"


def test_a_taste_of_before_has_the_cap_of_taste(rules: Rules) -> None:
    """29 CFR 1910.134 (f)(6), recalled: by taste a full facepiece is good for ten times the limit only."""
    tasted, full = replace(PASSED, factor="", method="sweet taste"), replace(WORD, piece=facepiece(kind="full"))
    (half,) = count(rules, tasted)
    assert (half.held.up_to, half.held.overall, half.held.method) == (None, None, "sweet")
    (capped,) = count(rules, tasted, word=full)
    assert capped.held.up_to == Fraction(10)
    counted = replace(PASSED, factor="499")
    assert count(rules, counted, word=full) == (), "a full facepiece needs five hundred"
    (enough,) = count(rules, replace(counted, factor="500"), word=full)
    assert enough.held.up_to is None


def test_everything_that_ends_a_pass_of_here_ends_one_of_before(rules: Rules) -> None:
    (one,) = count(rules, PASSED)
    held, piece = one.held, WORD.piece.configuration
    facts = PersonFacts(clearances=(CLEARED,), trained=("2026-02-10",), ends=(), passes=(held,))
    assert may_wear(held, facts, TASK, rules.book, DAY).may
    same_day = "2026-03-02T07:00:00.000Z"
    for against in (
        replace(facts, ends=(End(piece, same_day, "failed", "tester"),)),
        replace(facts, reports=(Report("fit", same_day, "2026-03-02", "the wearer"),)),
        replace(facts, clearances=()),
        replace(facts, trained=()),
    ):
        assert not may_wear(held, against, TASK, rules.book, DAY).may
    assert not may_wear(held, facts, TASK, rules.book, "2027-03-03").may


@given(
    st.lists(
        st.builds(
            Before,
            on=st.sampled_from(["2026-01-05", "2026-03-02", "2026-03-03"]),
            model=st.sampled_from(["Old Heron", "OLD HERON", "Old-Heron", "Bittern"]),
            size=st.sampled_from(["M", "L", "Med", ""]),
            method=st.sampled_from(["", "count", "sweet", "user seal check"]),
            factor=st.sampled_from(["", "99", "100", "1200", "?"]),
            has_passed=st.booleans(),
            entered_at=st.sampled_from(["2026-04-01T08:00:00.000Z", "2026-04-03T08:00:00.000Z"]),
        ),
        max_size=6,
    )
)
def test_one_more_fail_never_makes_a_pass_of_before_count(rules: Rules, results: list[Before]) -> None:
    failed = replace(PASSED, has_passed=False)
    assert len(count(rules, *results, failed)) <= len(count(rules, *results))
