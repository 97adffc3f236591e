"""What a site may lay over a rule book, and that nothing else changes a value."""

from __future__ import annotations

from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from moorfog.core.rules.book import Standing
from moorfog.core.rules.overlay import Overlay, apply, check, compare
from moorfog.data import rules_for, shipped_books

BOOKS = shipped_books()
US = BOOKS["us-29cfr1910-134"]


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
        ("judged_by", "every_exercise", "other"),
    ],
)
def test_stricter_is_free_and_looser_needs_a_written_reason(key: str, value: object, change: str) -> None:
    assert compare(US.values[key], value) == change  # type: ignore[arg-type]
    problem = check(US, entry(key, value))
    assert (problem is None) == (change in ("stricter", "same"))
    assert problem is None or problem.code == "reason_missing"
    assert check(US, entry(key, value, reason="our own assessment, 2026")) is None


@pytest.mark.parametrize(
    ("key", "value", "code"),
    [
        ("level.half", "nan", "wrong_type"),
        ("level.half", "-1", "wrong_type"),
        ("level.half", True, "wrong_type"),
        ("interval", "often", "wrong_type"),
        ("smoke.allowed", 1, "wrong_type"),
        ("no.such", "1", "unknown_key"),
        ("protocols.home-made", True, "unknown_protocol"),
    ],
)
def test_what_makes_no_sense_is_refused(key: str, value: object, code: str) -> None:
    problem = check(US, entry(key, value, reason="because"))
    assert problem is not None and problem.code == code and problem.sentence


def test_a_blank_is_filled_only_from_a_named_copy() -> None:
    canada = BOOKS["ca-csa-z944"]
    assert canada.ratio("level.full") is None
    assert check(canada, entry("level.full", "1000")).code == "edition_missing"  # type: ignore[union-attr]
    filled = apply(canada, [entry("level.full", "1000", edition="2018")])
    assert filled.ratio("level.full") == 1000 and "2018" in filled.values["level.full"].source
    assert "level.full" not in [one.key for one in filled.blank] and canada.ratio("level.full") is None


def test_the_effective_value_says_who_changed_it_and_why() -> None:
    book = apply(
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
    assert apply(US, [entry("level.half", "50")]) == US, "an entry without its reason changes nothing"
    assert rules_for(book).digest != rules_for(US).digest


keys = st.sampled_from(sorted(US.values))


@given(st.lists(st.tuples(keys, st.integers(0, 10_000).map(str)), max_size=6))
def test_without_reasons_a_book_only_ever_grows_stricter(entries: list[tuple[str, str]]) -> None:
    book = apply(US, [entry(key, value) for key, value in entries])
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
