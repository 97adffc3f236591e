"""Kinds of instrument, the leak budget of books that judge every exercise, and canonical bytes on unusual text."""

from __future__ import annotations

import json
from dataclasses import replace
from fractions import Fraction
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from moorfog.core.events import payloads as ev
from moorfog.core.events.measured import MeasuredWindow
from moorfog.core.kernel.canonical import canonical_bytes, digest, digest_of_json
from moorfog.core.kernel.codec import DataError
from moorfog.core.measuring.budget import Share, spend, stopped_numbers
from moorfog.core.rules.book import Rules, rules_from_json, rules_to_json
from moorfog.core.rules.instruments import check_passes, limits_of, read_kinds
from moorfog.core.views.wearer import wearer_view
from moorfog.data import facepiece_kinds, instrument_kinds, shipped_rules
from moorfog.demo.scenario import COUNTER_FIGURES
from tests.core.bench import Bench, facepiece

RULES = shipped_rules()


def test_every_kind_of_instrument_has_checks_with_steps_a_source_and_an_end_of_the_day() -> None:
    kinds = instrument_kinds()
    assert set(kinds) == {"counter", "photometer", "pressure"}
    for kind in kinds.values():
        assert kind.source and kind.required and all(one.steps for one in kind.check)
        assert any(one.closes_day for one in kind.act)
    assert kinds["counter"].required == ("room_air", "clean_air", "clean_line_ratio")
    assert kinds["counter"].charge_h > 0 and kinds["pressure"].charge_h == 0


@pytest.mark.parametrize(
    ("value", "limit", "sense", "passes"),
    [
        ("1000", "1000", "at_least", True),
        ("999.9", "1000", "at_least", False),
        ("0.1", "0.1", "at_most", True),
        ("0.11", "0.1", "at_most", False),
        ("0.3", "0.285 to 0.315", "within", True),
        ("0.2849", "0.285 to 0.315", "within", False),
    ],
)
def test_a_value_on_its_limit_passes(value: str, limit: str, sense: str, passes: bool) -> None:
    assert check_passes(Fraction(value), limit, sense) is passes  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("limit", "sense"), [("0.3", "within"), ("0.4 to 0.3", "within"), ("1 to 2", "at_most"), ("much", "at_least")]
)
def test_a_limit_that_is_none_is_named(limit: str, sense: str) -> None:
    with pytest.raises(DataError, match="limit"):
        limits_of(limit, sense, "kind.check.limit")  # type: ignore[arg-type]
    with pytest.raises(DataError, match="unknown key"):
        read_kinds({"kind": [{"colour": "blue"}]}, "instruments")


def test_a_range_may_be_of_one_number() -> None:
    assert limits_of("0.3 to 0.3", "within", "kind.check.limit") == (Fraction(3, 10), Fraction(3, 10))


def every_exercise() -> object:
    judged = replace(RULES.book.values["judged_by"], value="every_exercise")
    return replace(RULES.book, values={**RULES.book.values, "judged_by": judged})


@given(st.lists(st.integers(101, 10_000), min_size=3, max_size=3), st.integers(2, 85))
def test_where_every_exercise_is_judged_one_alone_can_lose_the_run(good: list[int], bad: int) -> None:
    """Three exercises above the level of 100 and one so far below it that no drift allowed (1.111) can save it."""
    protocol = RULES.protocol("fast-count-elastomeric")
    assert protocol is not None
    begun = [Share(number, Fraction(1, one), False) for number, one in enumerate([*good, bad])]
    strict = spend(protocol, every_exercise(), Fraction(100), begun).budget  # type: ignore[arg-type]
    assert strict.is_lost and strict.is_unlikely
    overall = spend(protocol, RULES.book, Fraction(100), begun).budget
    assert overall.is_lost == (sum((one.share for one in begun), Fraction(0)) / Fraction(10, 9) > Fraction(4, 100))


def test_a_run_stopped_before_anything_was_read_is_unfinished_not_failed() -> None:
    protocol = RULES.protocol("fast-count-elastomeric")
    assert protocol is not None
    for windows in ((), (MeasuredWindow(0, "outside", 40_000, 8_000_000, 5000),)):
        found = stopped_numbers(protocol, RULES.book, Fraction(100), "half", windows, (), ())
        assert found.state == "unfinished" and not found.reasons


@given(st.dictionaries(st.text(max_size=4), st.text(max_size=4) | st.integers(-9, 9) | st.booleans(), max_size=6))
def test_canonical_bytes_sort_keys_by_utf_16_units_whatever_the_text(value: dict) -> None:
    """RFC 8785, 3.2.3 (recalled): keys by UTF-16 code units, beyond the surrogates too."""
    value = {key.encode("utf-8", "ignore").decode(): one for key, one in value.items()}
    value = {key: one.encode("utf-8", "ignore").decode() if isinstance(one, str) else one for key, one in value.items()}
    keys = list(json.loads(canonical_bytes(value)))
    assert keys == sorted(value, key=lambda key: key.encode("utf-16-be"))
    assert digest(value) == digest_of_json(json.loads(json.dumps(value)))


def test_the_astral_plane_sorts_before_the_last_of_the_basic_one() -> None:
    assert list(json.loads(canonical_bytes({"\uffee": 1, "\U0001f32b": 2}))) == ["\U0001f32b", "\uffee"]


def test_rules_read_twice_are_one_and_the_same_and_changed_ones_are_others() -> None:
    data = rules_to_json(RULES)
    again = rules_from_json(data)
    assert again is rules_from_json(json.loads(json.dumps(data))) and again.digest == RULES.digest
    changed = json.loads(json.dumps(data))
    changed["book"]["values"]["level.half"]["value"] = "1"
    assert rules_from_json(changed).digest != RULES.digest and rules_from_json(changed).book.ratio("level.half") == 1


def test_the_limits_of_the_demos_counter_are_those_of_its_checks() -> None:
    checks = {f"limit_{one.name}" for one in instrument_kinds()["counter"].check}
    assert {key for key in COUNTER_FIGURES if key.startswith("limit_")} == checks


def test_a_powered_or_supplied_facepiece_is_drawn_as_what_covers_the_face() -> None:
    """Names of the kinds say it (common practice): ... full covers the face, ... half nose and mouth."""
    for name, kind in facepiece_kinds().items():
        meant = "disposable" if name.startswith("disposable") else "full" if name.endswith("full") else "half"
        assert kind.outline == meant, name


@pytest.mark.parametrize(
    ("piece", "drawn", "said"),
    [
        ({"kind": "powered_full", "suspension": "five straps"}, "full", "upper strap first"),
        ({"suspension": "fixed"}, "half_fixed", "upper strap first"),
        ({"kind": "disposable_fold", "probe": "through", "suspension": "two bands"}, "bands", "by the bands"),
    ],
)
def test_it_is_donned_and_doffed_as_its_kind_is(rules: Rules, piece: dict[str, Any], drawn: str, said: str) -> None:
    """Straps: upper first, tilted down and away; disposables by the bands, leaning forward (common practice)."""
    bench = Bench(rules)
    bench.until("don", facepiece(**piece))
    assert bench.view.queue[0].drawing == drawn
    assert "Wear it" not in wearer_view(bench.view).words, "nothing of wearing before it is on"
    bench.do("don")
    assert "Wear it" in wearer_view(bench.view).words
    bench.say(ev.Distress())
    doff = next(one for one in bench.view.queue if one.act == "doff")
    assert said in doff.say and doff.drawing.startswith("doff")
