"""What is looked at together: which questions, what stays apart, and what is on file and so not asked."""

from __future__ import annotations

import copy

import pytest

from moorfog.core.kernel.codec import DataError
from moorfog.core.rules.book import Rules, read_procedure
from moorfog.core.transitions.together import not_together
from moorfog.data import cited
from tests.core.bench import Bench, facepiece
from tests.core.test_rules import raw


def test_what_stops_the_test_and_what_is_done_is_on_no_card_with_others(rules: Rules) -> None:
    """Gates have their own card and key (common practice: person, clearance, shave, well today)."""
    looks = {one.id for one in rules.procedure.look}
    for item in rules.procedure.item:
        if item.gravity == "stop" or item.act:
            assert item.look == "", item.id
        assert item.look in looks | {""} and (item.line != "") == (item.look != ""), item.id
    assert {one.look for one in rules.procedure.item} - {""} == looks


def test_what_is_looked_at_together_follows_one_another(rules: Rules) -> None:
    seen: list[str] = []
    for item in rules.procedure.item:
        if item.look and (not seen or seen[-1] != item.look):
            seen.append(item.look)
    assert len(seen) == len(set(seen))


@pytest.mark.parametrize(
    ("questions", "code"),
    [
        (["hair", "jewellery", "face_marks"], None),
        (["hair", "hair"], "asked_twice"),
        (["hair", "shave"], "not_together"),
        (["medical"], "not_together"),
        (["hair", "chin"], "not_together"),
        (["hair", "don"], "not_together"),
        (["hair", "shoe_size"], "not_together"),
        ([], "not_together"),
    ],
)
def test_one_press_answers_only_what_is_of_one_look(rules: Rules, questions: list[str], code: str | None) -> None:
    refusal = not_together(Bench(rules).visit, questions)
    assert (refusal.code if refusal else None) == code


@pytest.mark.parametrize(
    ("change", "where"),
    [
        ({"look": "nowhere"}, "look"),
        ({"gravity": "stop"}, "look"),
        ({"act": "don"}, "look"),
        ({"line": ""}, "line"),
    ],
)
def test_a_procedure_that_puts_a_gate_among_others_is_refused(change: dict[str, str], where: str) -> None:
    data = copy.deepcopy(cited(raw("procedures/bench-2026.toml"), "US"))
    number = next(i for i, one in enumerate(data["item"]) if one["id"] == "hair")
    data["item"][number].update(change)
    with pytest.raises(DataError, match=rf"item\[{number}\].{where}"):
        read_procedure(data, "p.toml")


def asked_of(bench: Bench, piece: object = None) -> set[str]:
    seen = set()
    while (card := bench.view.queue[0]).act != "seal_check":
        seen.add(card.id)
        bench.do(card.act, piece or facepiece()) if card.act else bench.answer(card)  # type: ignore[arg-type]
    return seen


def test_what_is_on_file_is_shown_and_not_asked(rules: Rules) -> None:
    everything = {"tried_before", "medical_limits", "training"}
    assert not everything & asked_of(Bench(rules, wore="Sedge M, pass"))
    assert asked_of(Bench(rules)) & everything == {"tried_before"}
    unknown = Bench(rules, trained_on="", clearance=None)
    kept = {"medical_limits", "training", "tried_before"}
    assert kept <= asked_of(unknown)


@pytest.mark.parametrize(("cover", "is_asked"), [("thumbs", False), ("none", True)])
def test_tape_is_asked_about_where_a_valve_is_taped(rules: Rules, cover: str, is_asked: bool) -> None:
    bench = Bench(rules)
    bench.until("run", facepiece(cover=cover))
    assert any(one.question == "tape_off" for one in bench.visit.asked) is is_asked


@pytest.mark.parametrize(("said", "ends_as"), [("after_comfort", "fail"), ("after_adjusted", "void")])
def test_all_as_it_should_be_from_another_screen_takes_nothing_back(rules: Rules, said: str, ends_as: str) -> None:
    """A try only gets worse: whoever still has the card of before presses its one key, and is not believed."""
    bench = Bench(rules)
    bench.until("run")
    bench.run()
    bench.until("after_comfort")
    cards = [one for one in bench.view.queue if one.look == bench.view.queue[0].look]
    bench.answer(next(one for one in cards if one.id == said), "not_fine")
    for card in cards:
        bench.answer(card)
    assert bench.view.verdict == ends_as and bench.view.tries[-1].outcome == ends_as
    assert all(one.act not in ("sign_wearer", "release") for one in bench.view.queue)
