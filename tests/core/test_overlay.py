"""What a site may lay over a rule book, and that nothing else changes a value."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from moorfog.core.rules.book import Dated, Standing
from moorfog.core.rules.in_force import SiteBooks
from moorfog.core.rules.overlay import Overlay, _check_value, check, compare
from moorfog.data import lay_over, rules_for, shipped_books, value_shapes

BOOKS = shipped_books()
US = BOOKS["us-29cfr1910-134"]
SHAPES = value_shapes()


def entry(key: str, value: object, reason: str = "", edition: str = "") -> Overlay:
    return Overlay(key, value, reason, edition, "2026-11-24", "Hollis Grey")  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("key", "value", "change"),
    [
        ("level.half", "200", "stricter"),
        ("level.half", "100.0", "same"),
        ("level.half", "50", "looser"),
        ("drift.maximum", "0.1", "stricter"),
        ("drift.maximum", "0.3", "looser"),
        ("interval", 6, "stricter"),
        ("interval", 24, "looser"),
        ("mode.ordinary.filters", ("100-type",), "stricter"),
        ("mode.ordinary.filters", ("100-type", "95-type"), "looser"),
        ("judged_by", "every_exercise", "stricter"),
        ("shave.policy", "no hair under the seal", "looser"),
        ("smoke.allowed", False, "stricter"),
        ("medical.required", False, "looser"),
        ("coaching.numbers", "aloud", "looser"),
        ("filters.order", ("100-type", "99-type", "95-type"), "other"),
    ],
)
def test_stricter_is_free_and_looser_needs_a_written_reason(key: str, value: object, change: str) -> None:
    assert compare(key, US.values[key], value, SHAPES) == change  # type: ignore[arg-type]
    problem = check(US, entry(key, value), SHAPES)
    assert (problem is None) == (change in ("stricter", "same"))
    assert problem is None or problem.code == "reason_missing"
    assert check(US, entry(key, value, reason="our own assessment, 2026"), SHAPES) is None


@pytest.mark.parametrize(
    ("key", "value", "code"),
    [
        ("level.half", "nan", "unfit"),
        ("level.half", "-1", "unfit"),
        ("level.half", "0", "unfit"),
        ("level.half", "１００", "unfit"),
        ("level.half", True, "unfit"),
        ("interval", "often", "unfit"),
        ("interval", 0, "unfit"),
        ("training.interval", 0, "unfit"),
        ("training.interval", 1200, "unfit"),
        ("smoke.allowed", 1, "unfit"),
        ("shave.policy", "no hair under the seal, no baerd", "unfit"),
        ("shave.policy", "", "unfit"),
        ("judged_by", " every_exercise", "unfit"),
        ("judged_by", "Overall", "unfit"),
        ("mode.ordinary.filters", (), "unfit"),
        ("mode.ordinary.filters", ("100-typ",), "unfit"),
        ("filters.order", ("95-type", "95-type"), "unfit"),
        ("training.kept_at", "\u200b", "unfit"),
        ("former.until", "soon", "unfit"),
        ("no.such", "1", "unknown_key"),
        ("protocols.home-made", True, "unknown_protocol"),
    ],
)
def test_what_makes_no_sense_is_refused(key: str, value: object, code: str) -> None:
    problem = check(US, entry(key, value, reason="because"), SHAPES)
    assert problem is not None and problem.code == code and problem.sentence


def test_a_blank_is_filled_only_from_a_named_copy() -> None:
    canada = BOOKS["ca-csa-z944"]
    assert canada.ratio("level.full") is None
    assert check(canada, entry("level.full", "1000"), SHAPES).code == "edition_missing"  # type: ignore[union-attr]
    filled = lay_over(canada, [entry("level.full", "1000", edition="2018")])
    assert filled.ratio("level.full") == 1000 and "2018" in filled.values["level.full"].source
    assert "level.full" not in [one.key for one in filled.blank] and canada.ratio("level.full") is None


def test_the_effective_value_says_who_changed_it_and_why() -> None:
    book = lay_over(
        US,
        [
            entry("level.half", "50", reason="trial, agreed with the authority"),
            entry("interval", None, edition="2024 print"),
        ],
    )
    value = book.values["level.half"]
    assert (value.value, value.changed) == ("50", "looser than shipped (100): trial, agreed with the authority")
    assert (
        book.values["interval"].checked == "2024 print, 2026-11-24, Hollis Grey" and book.values["interval"].value == 12
    )
    assert lay_over(US, [entry("level.half", "50")]) == US, "an entry without its reason changes nothing"
    assert rules_for(book).digest != rules_for(US).digest


def test_what_was_checked_against_a_copy_stays_checked_until_another_copy_is_named() -> None:
    checked = entry("level.half", None, edition="2024 print")
    stricter, named = entry("level.half", "200"), entry("level.half", "300", edition="2025 print")
    for entries, said in (([checked, stricter], "2024"), ([checked, named], "2025"), ([stricter], "")):
        found = lay_over(US, entries).values["level.half"]
        assert found.checked.startswith(said) and bool(found.checked) == bool(said)
    assert lay_over(US, [stricter, checked]).values["level.half"].value == "200"


@pytest.mark.parametrize(
    ("key", "value", "is_taken"),
    [
        ("interval", "6", True),
        ("level.half", 200, True),
        ("level.half", "none", True),
        ("interval", "none", False),
        ("interval", True, False),
        ("level.half", ("100",), False),
        ("mode.ordinary.filters", "100-type", False),
    ],
)
def test_a_value_keeps_the_sort_that_it_has_in_the_book(key: str, value: Any, is_taken: bool) -> None:
    """Even where its shape would let another by."""
    found = _check_value(None, US.values[key], entry(key, value, reason="because"), value, SHAPES)
    assert (found is None) == is_taken and (found is None or found.code == "wrong_type")


keys = st.sampled_from(sorted(US.values))


@given(st.lists(st.tuples(keys, st.integers(0, 10_000).map(str)), max_size=6))
def test_without_reasons_a_book_only_ever_grows_stricter(entries: list[tuple[str, str]]) -> None:
    book = lay_over(US, [entry(key, value) for key, value in entries])
    for key, value in book.values.items():
        shipped = US.values[key]
        if shipped.strict == "higher":
            assert Fraction(value.value) >= Fraction(shipped.value)  # type: ignore[arg-type]
        elif shipped.strict == "lower":
            assert Fraction(value.value) <= Fraction(shipped.value)  # type: ignore[arg-type]
        else:
            assert value.value == shipped.value


PUBLISHED = {
    # level half, level full, judged by, interval; each from the text it is named after (recalled)
    "us-29cfr1910-134": ("100", "500", "overall", 12),
    "gb-hse-indg479": ("100", "2000", "every_exercise", None),
    "ca-csa-z944": ("100", None, "overall", 24),
    "aunz-asnzs1715": ("100", "500", "overall", 12),
    "iso-16975-3": ("100", None, "overall", None),
    "jp-jis-t8150": ("100", "500", "overall", 12),
}


@pytest.mark.parametrize(("book", "row"), PUBLISHED.items())
def test_the_shipped_books_are_as_recalled_and_blanks_stay_blank(book: str, row: tuple) -> None:
    values = BOOKS[book].values
    found = tuple(
        values[key].value if key in values else None for key in ("level.half", "level.full", "judged_by", "interval")
    )
    assert found == row
    assert not {one.key for one in BOOKS[book].blank} & set(values)
    standings: set[Standing] = {one.standing for one in values.values()}
    assert "published" not in standings, "nobody here has opened these texts"


def test_what_is_less_than_nine_tenths_sure_is_off_until_the_site_confirms_it() -> None:
    """Japan as a whole: levels, interval and every protocol."""
    book = BOOKS["jp-jis-t8150"]
    assert not book.protocols and book.protocols_on_confirmation
    assert all(book.ratio(key) is None for key in ("level.half", "level.full", "interval"))


def test_no_day_is_made_up_for_a_text_whose_day_is_not_known() -> None:
    dated = {book.id for book in BOOKS.values() if any(one.in_force for one in book.values.values())}
    assert dated == {"us-29cfr1910-134"}


def altered(value: object) -> st.SearchStrategy[object]:
    """A value with a slip in it: a letter, a case, a space, a sign, nothing, nought, or far too much."""
    ways: list[object] = ["", " ", 0, "0", -1, "-1", 10**9, "1" + "0" * 12, True, False, (), ("",), "nan"]
    if isinstance(value, str):
        ways += [
            value + " ",
            " " + value,
            value.upper(),
            value.title(),
            value + "\u200b",
            value[:-1],
            value[1:],
            f"-{value}",
        ]
        ways += [value.replace(" ", "_"), value.replace("_", " "), value + ".", value.replace("o", "о")]
    if isinstance(value, int):
        ways += [-value, value * 1000, str(value), f" {value}", f"{value}.5"]
    if isinstance(value, tuple):
        ways += [
            value[:-1],
            value[1:],
            (*value, "P9"),
            (*value, value[0]),
            tuple(reversed(value)),
            next(iter(value), ""),
        ]
        ways += [tuple(one + " " for one in value), tuple(one.upper() for one in value), (*value, "95-type")]
    return st.sampled_from(ways)


every_value = st.sampled_from([(book.id, key) for book in BOOKS.values() for key in book.values])


@settings(max_examples=3000)
@given(data=st.data(), place=every_value)
def test_a_slip_in_any_value_of_any_overlay_is_refused_or_stricter(data: st.DataObject, place: tuple[str, str]) -> None:
    """Never looser, never silently something else, without a written reason."""
    book, key = BOOKS[place[0]], place[1]
    shipped, new = book.values[key], data.draw(altered(book.values[key].value))
    one = entry(key, new, edition="our copy")
    if check(book, one, SHAPES) is None:
        laid = lay_over(book, [one]).values[key]
        assert compare(key, shipped, new, SHAPES) in ("same", "stricter")  # type: ignore[arg-type]
        assert laid.value == new or str(laid.value) == str(new)
        if key in SHAPES.choices:
            assert laid.value in SHAPES.choices[key]
    else:
        assert lay_over(book, [one]).values[key].value == shipped.value


def test_what_stands_there_from_before_and_cannot_be_read_means_no() -> None:
    """An entry that was taken when any text was: nothing passes under the book until somebody settles it."""
    for key, value in (
        ("judged_by", " every_exercise"),
        ("shave.policy", "no hair undr the seal"),
        ("training.interval", 0),
    ):
        book = lay_over(US, [entry(key, value, reason="from before")])
        assert book.unsettled == (key,) and book.values[key] == US.values[key]
        settled = lay_over(book, [entry(key, value, reason="x"), entry(key, US.values[key].value)])
        assert settled.unsettled == ()


def test_every_value_and_blank_of_every_book_has_a_shape() -> None:
    for book in BOOKS.values():
        for key in (*book.values, *(one.key for one in book.blank)):
            assert "is no value of a rule book" not in SHAPES.problem(key, "?"), key


def test_a_value_counts_from_the_day_it_is_in_force_and_not_before() -> None:
    """A level that comes into force in 2099 is not today's; the one of before is, while its own day has come."""
    to_come = replace(US.values["level.half"], value="200", in_force="2099-01-01")
    book = replace(US, values={**US.values, "level.half": to_come})
    assert book.on("2026-06-01").ratio("level.half") is None, "nothing is in force yet: silent, and so no test"
    with_before = replace(book, history=(Dated("level.half", "100", "2019-09-26", "then", "recalled"),))
    levels = [
        with_before.on(day).ratio("level.half") for day in ("2019-01-01", "2026-06-01", "2098-12-31", "2099-01-01")
    ]
    assert levels == [None, 100, 100, 200]
    assert with_before.changes == ("2019-09-26", "2099-01-01") and with_before.on("2026-06-01").history == ()


def test_what_a_site_enters_for_later_counts_from_its_day() -> None:
    later = replace(entry("level.half", "300"), begins="2027-01-01")
    books = SiteBooks(US, (later, entry("level.half", "150")), SHAPES)
    assert [books.on(day).ratio("level.half") for day in ("2026-12-31", "2027-01-01")] == [150, 300]
    assert books.on("2027-01-01").values["level.half"].in_force == "2027-01-01"
    assert books.on("2026-12-30") is books.on("2026-12-31"), "the same rules are the same book"
