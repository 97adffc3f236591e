"""What the core takes at the very bound of what it refuses, and what an entry changes and what it leaves alone."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta

import pytest

from moorfog.core.events import payloads as ev
from moorfog.core.rules.book import Rules
from moorfog.core.transitions.admit import check_figures
from moorfog.core.transitions.fold import fold, step
from moorfog.core.transitions.next_steps import offers, spent, suggested
from moorfog.core.visit.circumstances import facts_digest
from moorfog.core.visit.outcomes import outcome
from tests.core.bench import BAD_FACTORS, Bench, Refused, facepiece
from tests.core.test_admit import at, closed, failed, passed, row, running, typed, typing

Make = Callable[[Rules], Bench]


def refused(bench: Bench, payload: ev.Payload) -> str:
    """Return the code of a refusal, or nothing where it was taken."""
    try:
        bench.say(payload, 0)
    except Refused as error:
        return error.refusal.code
    return ""


def asked(bench: Bench, question: str, answer: str = "fine", minutes_ago: int | None = None) -> ev.Answered:
    item = bench.rules.procedure.find(question)
    assert item is not None
    return ev.Answered(question, answer, facts_digest(bench.visit, item), minutes_ago)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("question", "minutes", "code"),
    [
        ("smoking", 0, ""),
        ("smoking", 1440, ""),
        ("smoking", -1, "minutes"),
        ("smoking", 1441, "minutes"),
        ("shave", 5, "minutes"),
        ("shave", None, ""),
    ],
)
def test_minutes_ago_are_of_one_day_and_of_what_has_a_wait(
    rules: Rules, question: str, minutes: int | None, code: str
) -> None:
    bench = at("choose_facepiece")(rules)
    assert refused(bench, asked(bench, question, "not_fine" if minutes is not None else "fine", minutes)) == code


@pytest.mark.parametrize("wearing", [-1, 0, 1])
def test_what_is_asked_after_the_wait_is_asked_from_its_last_second_on(rules: Rules, wearing: int) -> None:
    bench = at("chin")(rules)
    after = next(one for one in rules.procedure.item if one.after_wear and not one.act)
    ready = bench.visit.wear_ready_at()
    assert ready is not None and ready > bench.at
    bench.at = ready + timedelta(seconds=wearing)
    assert refused(bench, asked(bench, after.id)) == ("worn_too_short" if wearing < 0 else "")
    assert refused(bench, asked(bench, after.id, "not_fine")) == "", "what hurts is heard at any time"


@pytest.mark.parametrize(("target", "code"), [(-1, "no_target"), (0, "no_target"), (1, ""), (2, "")])
def test_a_correction_names_an_entry_that_there_is(rules: Rules, target: int, code: str) -> None:
    assert refused(closed(rules), ev.Corrected(target, "looked up")) == code
    bench = closed(rules)
    assert refused(bench, ev.Corrected(bench.visit.seq + 1, "looked up")) == "no_target"
    assert refused(bench, ev.Corrected(bench.visit.seq, "looked up")) == ""


@pytest.mark.parametrize("one", ["0.1", "1"])
def test_figures_just_above_nothing_are_figures(one: str) -> None:
    names = ("Normal",)
    for given in (row(), row(outside=one, inside="0"), row(outside=None, inside=None, factor=one)):
        assert check_figures(ev.NumbersTyped("r", one, (given,)), names) is None
    for wrong in (row(outside="0"), row(outside="-1"), row(outside=None, inside=None, factor="-0.1")):
        assert check_figures(ev.NumbersTyped("r", one, (wrong,)), names) is not None


def test_what_is_altered_by_hand_is_altered_once_and_before_the_run(rules: Rules) -> None:
    by_hand = [one for one in rules.procedure.alteration if one.by_hand]
    others = [one for one in rules.procedure.alteration if not one.by_hand]
    assert by_hand and others
    for one in by_hand:
        bench = at("don")(rules)
        assert refused(bench, ev.AlterationMade(one.id)) == "" and bench.visit.alterations[-1].rule == one.id
        assert refused(bench, ev.AlterationMade(one.id)) == "already"
        assert refused(failed(rules), ev.AlterationMade(one.id)) == "running"
    for one in others:
        assert refused(at("don")(rules), ev.AlterationMade(one.id)) == "no_alteration"
    bench = at("don")(rules)
    before = bench.visit.alterations
    unknown = step(bench.visit, bench.event(ev.AlterationMade("no_such_thing")))
    assert unknown.alterations == before, "what the procedure does not know alters nothing"


@pytest.mark.parametrize(
    ("make", "code"), [(at("identity"), ""), (at("don"), "not_yet"), (at("chin"), "not_yet"), (failed, "not_yet")]
)
def test_opened_by_mistake_is_said_before_anything_was_done(rules: Rules, make: Make, code: str) -> None:
    assert refused(make(rules), ev.OpenedByMistake()) == code


def test_what_is_still_open_is_said_by_its_name(rules: Rules) -> None:
    bench = at("identity")(rules)
    with pytest.raises(Refused) as error:
        bench.say(ev.Released(), 0)
    assert bench.view.queue[0].title in error.value.refusal.sentence
    bench = passed(rules)
    bench.until("sign_tester")
    assert refused(bench, ev.Signed("wearer", "0" * 64, bench.visit.seq)) == "not_yet", "the tester is next"
    assert refused(bench, ev.Signed("tester", "0" * 64, bench.visit.seq)) == ""


def test_a_decision_begins_another_attempt(rules: Rules) -> None:
    bench = failed(rules)
    before = bench.visit
    bench.say(ev.Decided("same_again"))
    after = bench.visit
    assert (after.attempt, after.adjustment) == (before.attempt + 1, before.adjustment + 1)
    assert after.worn_since is None and not after.ending and after.facepiece is not None
    bench = failed(rules)
    bench.say(ev.Decided("other_size"))
    assert bench.visit.facepiece is None and bench.visit.seals == ()


def test_a_correction_moves_what_it_names_and_nothing_else(rules: Rules) -> None:
    bench = closed(rules)
    size, chosen = bench.visit.tries[0].facepiece.size, bench.visit.tries[0].chosen_seq
    bench.say(ev.Corrected(chosen, "read again"))
    assert bench.visit.tries[0].facepiece.size == size and outcome(bench.visit, bench.visit.tries[0])[0] == "pass"
    assert bench.visit.revision == 2 and bench.visit.corrections[-1] == "read again"
    bench = closed(rules)
    bench.say(ev.Corrected(chosen, "it was an L", size="L"))
    assert bench.visit.tries[0].facepiece.size == "L"
    bench = closed(rules)
    bench.say(ev.Corrected(chosen, "it was an L", size="L", failed_before=True))
    assert outcome(bench.visit, bench.visit.tries[0])[0] == "unfinished"


def test_distress_said_late_belongs_to_the_run_in_which_it_was(rules: Rules) -> None:
    bench = at("run")(rules)
    bench.run()
    one = bench.visit.tries[-1]
    assert one.t0 is not None and bench.visit.running is None
    visit = step(bench.visit, bench.event(ev.Distress(), one.t0 + timedelta(seconds=20)))
    assert visit.distress and visit.tries[-1].distress and outcome(visit, visit.tries[-1])[0] != "pass"
    bench = running(rules)
    visit = step(bench.visit, bench.event(ev.Distress(), bench.at - timedelta(hours=1)))
    assert visit.distress and visit.tries[-1].distress, "dated before every run, it is heard in the one that goes on"


@pytest.mark.parametrize(("moved", "more"), [(True, 1), (False, 0)])
def test_a_touch_that_moved_it_makes_what_was_checked_old(rules: Rules, moved: bool, more: int) -> None:
    bench = at("chin")(rules)
    before = bench.visit.adjustment
    assert bench.say(ev.Touched(moved)).adjustment == before + more
    bench = at("identity")(rules)
    before = bench.visit.adjustment
    assert bench.say(ev.Touched(moved)).adjustment == before, "nothing is worn yet"


def test_a_sealed_run_is_sealed_once(rules: Rules) -> None:
    bench = at("run")(rules)
    bench.run()
    closing = next(one.payload for one in bench.log if isinstance(one.payload, ev.RunClosed))
    sealed = bench.visit.tries[-1]
    again = step(bench.visit, bench.event(closing))
    assert again.tries[-1] == sealed
    bench = typing(rules)
    bench.say(typed())
    by_hand = bench.visit.tries[-1]
    assert step(bench.visit, bench.event(closing)).tries[-1] == by_hand, "what was typed is not read as well"


def test_answers_in_a_row_are_folded_as_one_by_one(rules: Rules) -> None:
    bench = at("choose_facepiece")(rules)
    for question in ("shave", "jewellery", "training"):
        bench.answer(question)
    whole, alone = fold(bench.log, rules), bench.visit
    assert (whole.seq, whole.chain, whole.moved, whole.last_at) == (alone.seq, alone.chain, alone.moved, alone.last_at)
    assert [one.question for one in whole.asked] == [one.question for one in alone.asked]
    assert whole == alone


def test_what_to_try_next_comes_in_the_order_of_the_trade(rules: Rules) -> None:
    """The same model's next size, then the same kind, then the same family, then the rest; what is known to be outside
    the maker's range comes after all of these. Common practice."""
    piece, other = facepiece(), {"model_id": "m2", "model": "Other"}
    near, far = facepiece(size="L"), facepiece(size="S")
    same_kind, full = facepiece(**other), facepiece(**{**other, "model_id": "m3"}, kind="full")
    shelf = [full, same_kind, far, near, piece]
    shelf.sort(key=lambda one: one.size, reverse=True)
    found = suggested(shelf, piece, set())
    assert piece not in found and [one.model_id for one in found[:2]] == [piece.model_id] * 2
    assert found.index(same_kind) < found.index(full)
    assert near not in suggested(shelf, piece, {near.configuration})
    outside = suggested(shelf, piece, set(), lambda one: one.size != near.size)
    assert outside[-1] == near


def test_a_setup_is_spent_by_its_own_tries(rules: Rules) -> None:
    bench = failed(rules)
    assert spent(bench.visit, facepiece()) == "" and spent(bench.visit, facepiece(size="L")) == ""
    most = int(rules.book.number("tries.per_facepiece") or 0)
    for _ in range(most - 1):
        assert "same_again" in [one.next for one in offers(bench.visit)]
        bench.say(ev.Decided("same_again"))
        bench.until("run")
        bench.run(BAD_FACTORS)
    assert "used up" in spent(bench.visit, facepiece()) and spent(bench.visit, facepiece(size="L")) == ""
    assert [one.next for one in offers(bench.visit)] == ["other_size", "other_facepiece", "end"]


def test_a_run_is_offered_again_with_its_number(rules: Rules) -> None:
    bench = failed(rules)
    most = int(rules.book.number("tries.per_facepiece") or 0)
    assert f"try 2 of at most {most}" in offers(bench.visit)[0].detail
    assert offers(running(rules).visit) == () and offers(passed(rules).visit) == ()


@pytest.mark.parametrize("early_ms", [1, 0])
def test_numbers_are_typed_from_the_very_end_of_the_protocol_on(rules: Rules, early_ms: int) -> None:
    bench = typing(rules)
    ends = bench.visit.run_ends_at(bench.visit.tries[-1])
    assert ends is not None
    bench.at = ends - timedelta(milliseconds=early_ms)
    assert refused(bench, typed()) == ("too_early" if early_ms else "")


@pytest.mark.parametrize("make", [at("don"), at("chin"), running, closed])
def test_a_visit_that_went_on_does_not_end_as_a_mistake(rules: Rules, make: Make) -> None:
    """Not even by an entry that nothing would have let in: an alteration, a facepiece that is on, a run, a release."""
    bench = make(rules)
    after = step(bench.visit, bench.event(ev.OpenedByMistake()))
    assert not after.wrong_person and after.closed == bench.visit.closed
