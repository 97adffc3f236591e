"""The strict loader, the shipped data, and that the procedure asks everything it must."""

from __future__ import annotations

import copy
import tomllib
from importlib.resources import files

import pytest

from moorfog.core.kernel.canonical import digest_of_json
from moorfog.core.kernel.codec import DataError
from moorfog.core.rules.book import Rules, read_book, read_procedure, read_protocol, rules_from_json, rules_to_json
from moorfog.data import cited


def raw(path: str) -> dict:
    return tomllib.loads(files("moorfog.data").joinpath(path).read_text("utf-8"))


@pytest.mark.parametrize(
    ("change", "where"),
    [
        (lambda d: d.update(colour="red"), "us.toml.colour: unknown key"),
        (lambda d: d.pop("edition"), "us.toml.edition: this key is missing"),
        (lambda d: d["values"]["level.half"].update(value=1.5), "level.half"),
        (
            lambda d: d["values"]["level.half"].update(source=" "),
            "us.toml.values.level.half.source: every value needs a source",
        ),
        (lambda d: d["values"]["level.half"].update(standing="sure"), "'sure' is not one of"),
        (lambda d: d["values"]["level.half"].update(in_force="soon"), "is not a date"),
        (lambda d: d["values"]["interval"].pop("unit"), "us.toml.values.interval.unit: this key is missing"),
    ],
)
def test_a_rule_book_with_a_mistake_is_refused_naming_file_and_key(change, where: str) -> None:
    data = raw("rulebooks/us-29cfr1910-134.toml")
    change(data)
    with pytest.raises(DataError) as error:
        read_book(data, "us.toml")
    assert where in str(error.value)


def test_a_protocol_whose_seconds_do_not_add_up_is_refused() -> None:
    data = cited(raw("protocols/fast-count-elastomeric.toml"), "US")
    data["exercise"][1]["seconds"] = 31
    with pytest.raises(DataError, match=r"exercise\[1\].*30 s, the exercise 31 s"):
        read_protocol(data, "p.toml")


@pytest.mark.parametrize(
    ("change", "where"),
    [
        (lambda d: d.update(id="../../etc"), "p.toml.id"),
        (lambda d: d.update(id="A" * 61), "p.toml.id"),
        (lambda d: d["exercise"][0].update(id="one two"), r"exercise\[0\].id"),
        (lambda d: d.update(count_in_s=-1), "p.toml.count_in_s"),
        (lambda d: d.update(count_in_s=10**9), "p.toml.count_in_s"),
        (lambda d: d["exercise"][0]["segment"][0].update(seconds=10**9), r"segment\[0\].seconds"),
        (lambda d: d["exercise"].extend([d["exercise"][0]] * 60), "p.toml.exercise"),
        (lambda d: d["exercise"][0].update(say="a" * 5000), r"exercise\[0\].say"),
    ],
)
def test_a_protocol_out_of_all_sense_is_refused_naming_where(change, where: str) -> None:
    data = cited(raw("protocols/fast-count-elastomeric.toml"), "US")
    change(data)
    with pytest.raises(DataError, match=where):
        read_protocol(data, "p.toml")


def test_a_question_used_twice_or_at_no_step_is_refused() -> None:
    data = cited(raw("procedures/bench-2026.toml"), "US")
    twice = copy.deepcopy(data)
    twice["item"].append(copy.deepcopy(twice["item"][0]))
    with pytest.raises(DataError, match="used twice"):
        read_procedure(twice, "p.toml")
    data["item"][0]["step"] = "nowhere"
    with pytest.raises(DataError, match="not a step"):
        read_procedure(data, "p.toml")


def test_the_fast_protocols_are_the_published_ones(rules: Rules) -> None:
    """29 CFR 1910.134 App. A, Tables A-1 and A-2: 50, 30, 30, 39 s, together 149 s; recalled."""
    fast = [one for one in rules.protocols if one.family == "fast_count"]
    assert len(fast) == 2
    for one in fast:
        assert [exercise.seconds for exercise in one.exercise] == [50, 30, 30, 39]
        assert (one.total_s, one.n) == (149, 4)
        inside = [w.end_ms - w.start_ms for w in one.windows() if w.use == "inside"]
        assert inside == [30_000] * 4
    names = {one.id: one.exercise[1].id for one in fast}
    assert names == {"fast-count-elastomeric": "jog", "fast-count-disposable": "talk"}


@pytest.mark.parametrize(
    ("key", "value"),
    [
        ("level.half", 100),
        ("level.full", 500),
        ("interval", 12),
        ("wear.minimum", 300),
        ("apf.half", 10),
        ("apf.full", 50),
        ("apf.quarter", 5),
        ("apf.powered_full", 1000),
    ],
)
def test_values_of_the_us_book(rules: Rules, key: str, value: int) -> None:
    """29 CFR 1910.134 (d)(3)(i)(A), (f)(2), (f)(7) and App. A; recalled."""
    assert rules.book.ratio(key) == value


def test_the_procedure_names_every_gate(rules: Rules) -> None:
    """Gates of 29 CFR 1910.134 App. A Part I.A (recalled) and of common practice at the bench."""
    asked = {one.id for one in rules.procedure.item}
    assert asked >= {
        "medical",
        "medical_limits",
        "fit_today",
        "shave",
        "hair",
        "jewellery",
        "face_marks",
        "face_change",
        "spectacles",
        "smoking",
        "eating",
        "training",
        "ppe_here",
        "ppe_on",
        "tried_before",
        "inspected",
        "approval",
        "filters_fitted",
        "own_or_wiped",
        "hands_clean",
        "don",
        "chin",
        "tension",
        "bridge",
        "span",
        "slips",
        "mirror",
        "comfort_nose",
        "comfort_eyes",
        "comfort_talk",
        "comfort_face",
        "brief_means",
        "brief_exercises",
        "brief_hands",
        "settle",
        "seal_check",
        "tape_off",
        "read_back",
        "hoses",
        "zero_filter",
        "alcohol",
        "probe_in",
        "standing",
        "comfort_start",
        "after_comfort",
        "after_adjusted",
        "disconnect",
        "doff",
        "put_back",
        "line_dry",
        "wiped",
        "limits_told",
        "sign_wearer",
        "sign_tester",
        "card",
        "release",
    }
    stops = {one.id for one in rules.procedure.item if one.gravity == "stop"}
    assert stops >= {"identity", "medical", "shave", "fit_today", "read_back", "zero_filter"}
    today = rules.procedure.find("fit_today")
    assert today is not None and "neck" in today.title and "neck or back" in today.say
    observed = {one.id for one in rules.procedure.item if one.mode == "observe"}
    assert "shave" in observed and "medical" not in observed
    for one in rules.procedure.item:
        assert one.act or one.gravity == "note" or one.remedy, f"{one.id} has no remedy"


def test_a_pinned_set_survives_storage_and_another_value_is_another_digest(rules: Rules) -> None:
    data = rules_to_json(rules)
    assert rules_from_json(data).digest == rules.digest
    data["book"]["values"]["level.half"]["value"] = "99"
    assert rules_from_json(data).digest != rules.digest


def test_a_set_of_before_goes_out_as_it_came_in(rules: Rules) -> None:
    """It may lack keys that came later: exported again it still has the digest that its visits are pinned to."""
    before = copy.deepcopy(rules_to_json(rules))
    for item in before["procedure"]["item"]:
        del item["unwell"]
    read = rules_from_json(before)
    assert digest_of_json(rules_to_json(read)) == read.digest == digest_of_json(before) != rules.digest
