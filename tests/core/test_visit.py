"""Visits at a bench without a database: what is asked when, what blocks, what a try comes to."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta

import pytest

from moorfog.core.events import payloads as ev
from moorfog.core.events.chain import check_chain
from moorfog.core.rules.book import Rules
from moorfog.core.rules.overlay import Overlay
from moorfog.core.transitions.fold import fold
from moorfog.core.views.visit_view import visit_view
from moorfog.core.visit.blocks import run_blocks
from moorfog.core.visit.judgement import pass_blocks
from moorfog.core.visit.outcomes import outcome
from moorfog.core.visit.seals import seal_holds
from moorfog.data import lay_over, rules_for, shipped_books
from tests.core.bench import BAD_FACTORS, GOOD, START, Bench, Refused, counter, facepiece, simulate

BAD = BAD_FACTORS


def at_the_run(rules: Rules, piece: ev.Facepiece | None = None) -> Bench:
    bench = Bench(rules)
    bench.until("run", piece)
    return bench


def last(bench: Bench) -> str:
    return outcome(bench.visit, bench.visit.tries[-1])[0]


def test_the_whole_way_to_a_signed_pass(rules: Rules) -> None:
    bench = at_the_run(rules)
    bench.run()
    assert last(bench) == "unfinished"
    bench.until("sign_wearer")
    assert last(bench) == "pass" and not bench.view.is_signed and bench.visit.alterations == ()
    bench.until("release")
    assert bench.view.is_signed
    bench.do("release")
    assert bench.view.closed == "released" and fold(bench.log, rules) == bench.visit
    assert check_chain(bench.log) is None


def test_hard_stops_come_first_and_the_facepiece_is_donned_early(rules: Rules) -> None:
    bench = Bench(rules)
    order: list[str] = []
    while not bench.visit.worn_since:
        card = bench.view.queue[0]
        order.append(card.id)
        bench.do(card.act) if card.act else bench.answer(card)
    assert order[:3] == ["identity", "medical", "shave"]
    assert order.index("don") < [one.id for one in rules.procedure.item].index("brief_means")
    assert "comfort_nose" not in [one.id for one in bench.view.queue]


@pytest.mark.parametrize("question", ["medical", "shave", "fit_today"])
def test_a_stop_stops_everything_until_it_is_fine(rules: Rules, question: str) -> None:
    bench = Bench(rules)
    bench.until(question)
    bench.answer(question, "not_fine")
    assert [one.id for one in bench.view.queue] == [question]
    with pytest.raises(Refused, match="stop"):
        bench.say(ev.FacepieceChosen(facepiece()))
    bench.answer(question)
    bench.until("run")


def test_a_timed_gate_runs_out_by_itself(rules: Rules) -> None:
    bench = Bench(rules)
    bench.until("smoking")
    bench.answer("smoking", "not_fine", minutes_ago=10)
    asked = bench.at
    bench.until("run")
    assert bench.at >= asked + timedelta(minutes=20)
    with pytest.raises(Refused, match="minutes"):
        bench.answer("hair", minutes_ago=3)


def test_comfort_and_run_wait_for_five_minutes_of_wear(rules: Rules) -> None:
    bench = Bench(rules)
    bench.until("seal_check")
    bench.do("seal_check")
    assert bench.at < bench.visit.worn_since + timedelta(minutes=5)
    with pytest.raises(Refused, match="worn_too_short"):
        bench.answer("comfort_nose")
    with pytest.raises(Refused, match="Not permitted"):
        bench.start()
    worn = bench.visit.worn_since
    bench.until("run")
    assert bench.at >= worn + timedelta(minutes=5)


def test_lifting_restarts_the_wear_clock_and_adjusting_only_the_seal_check(rules: Rules) -> None:
    bench = at_the_run(rules)
    worn = bench.visit.worn_since
    bench.say(ev.Adjusted("strap"))
    assert bench.visit.worn_since == worn
    assert {one.code for one in run_blocks(bench.visit, bench.at)} >= {"seal_check", "settle", "comfort_nose"}
    bench.until("run")
    bench.say(ev.Doffed("lifted"))
    bench.until("run")
    assert bench.visit.worn_since > worn


def test_another_facepiece_makes_only_what_depended_on_it_stale(rules: Rules) -> None:
    bench = at_the_run(rules)
    bench.say(ev.Doffed("refit"))
    bench.say(ev.FacepieceChosen(facepiece(kind="full", model_id="m-full", cover="palms")))
    asked = {one.code for one in run_blocks(bench.visit, bench.at)}
    assert {"spectacles_full", "inspected", "brief_means"} <= asked
    assert not {"shave", "medical", "hair", "smoking", "training"} & asked
    assert len(bench.visit.alterations) == 1, "the first facepiece's probe is still to be put back"


@pytest.mark.parametrize(
    ("piece", "checks"),
    [
        ({"kind": "disposable_cup", "valve": False, "cover": "front"}, ["positive"]),
        ({"kind": "disposable_fold", "valve": True, "cover": "front"}, ["negative"]),
        ({"kind": "half", "cover": "palms"}, ["positive", "negative"]),
        ({"kind": "half", "cover": "none"}, ["positive"]),
        ({"kind": "full", "cover": "thumbs"}, ["negative", "positive"]),
        ({"kind": "powered_full", "cover": "none"}, ["negative"]),
    ],
)
def test_the_seal_checks_a_facepiece_allows(rules: Rules, piece: dict, checks: list[str]) -> None:
    """29 CFR 1910.134 App. B-1 (recalled); by kind, common practice."""
    bench = Bench(rules)
    bench.until("choose_facepiece")
    bench.say(ev.FacepieceChosen(facepiece(**piece)))
    assert [one.check for one in bench.view.seal_checks] == checks


def test_a_leaking_seal_check_blocks_until_a_later_one_holds(rules: Rules) -> None:
    bench = Bench(rules)
    bench.until("seal_check")
    bench.check_seal("negative")
    bench.say(ev.SealChecked("positive", "holds", "leaks", "chin"))
    assert any(one.code == "seal_check" for one in run_blocks(bench.visit, bench.at))
    with pytest.raises(Refused, match="refit_first"):
        bench.check_seal("positive")
    bench.say(ev.Adjusted("strap"))
    bench.check_seal("negative")
    bench.check_seal("positive")
    assert not any(one.code == "seal_check" for one in run_blocks(bench.visit, bench.at))


def test_below_the_level_is_a_fail_and_the_next_try_is_numbered(rules: Rules) -> None:
    bench = at_the_run(rules)
    bench.run(BAD)
    assert last(bench) == "fail"
    assert [one.next for one in bench.view.offers] == ["same_again", "other_size", "other_facepiece", "end"]
    bench.say(ev.Decided("same_again"))
    bench.until("run")
    bench.run()
    bench.until("sign_wearer")
    assert [one.outcome for one in bench.view.tries] == ["fail", "pass"]


def test_three_tries_a_facepiece_and_no_fourth(rules: Rules) -> None:
    bench = at_the_run(rules)
    for _ in range(2):
        bench.run(BAD)
        bench.say(ev.Decided("same_again"))
        bench.until("run")
    bench.run(BAD)
    assert "same_again" not in [one.next for one in bench.view.offers]


def test_comfort_afterwards_counts(rules: Rules) -> None:
    bench = at_the_run(rules)
    bench.run()
    bench.answer("after_comfort", "not_fine")
    assert last(bench) == "fail"
    bench = at_the_run(rules)
    bench.run()
    bench.answer("after_comfort")
    bench.answer("after_adjusted", "not_fine")
    assert last(bench) == "void"


@pytest.mark.parametrize(
    "payload",
    [ev.Adjusted("strap"), ev.Doffed("lifted"), ev.Touched(moved=True), ev.FacepieceChosen(facepiece(size="L"))],
)
def test_a_change_during_the_run_voids_it(rules: Rules, payload: ev.Payload) -> None:
    bench = at_the_run(rules)
    run_id = bench.start()
    bench.visit = fold([*bench.log, bench.event(payload, bench.at + timedelta(seconds=40))], rules)
    assert last(bench) == "void"
    protocol = rules.protocol("fast-count-elastomeric")
    assert bench.visit.tries[-1].started.run_id == run_id and protocol


def test_a_touch_that_moves_nothing_is_only_noted(rules: Rules) -> None:
    bench = at_the_run(rules)
    run_id = bench.start()
    bench.say(ev.Touched(moved=False), 30)
    assert bench.visit.running is not None and bench.visit.running.remarks
    bench.say(ev.Stopped(), 10)
    bench.say(ev.RunClosed(run_id, "stopped", 0, 0, 0, "", (), ()), 1)
    assert last(bench) == "unfinished"


def test_a_stopped_run_fails_only_if_it_could_not_pass_any_more(rules: Rules) -> None:
    from moorfog.core.measuring.reduction import Reduction

    for factors, expected in (((9, 9, 9, 9), "fail"), (GOOD, "unfinished")):
        bench = at_the_run(rules)
        run_id = bench.start()
        protocol = rules.protocol(bench.visit.tries[-1].started.protocol_id)
        reduction = Reduction(protocol, 1000)
        for one in [r for r in simulate(protocol, factors) if r.t <= 70_000]:
            reduction.feed(one)
        bench.say(ev.Stopped(), 75)
        assert [one.code for one in bench.view.waiting_for] == ["sealing"] and not bench.view.offers
        sealed = reduction.sealed("stopped")
        windows, deviations = sealed.windows, sealed.deviations
        bench.say(ev.RunClosed(run_id, "stopped", 0, 279, 280, "", windows, deviations), 1)
        assert last(bench) == expected


def test_distress_ends_all_testing(rules: Rules) -> None:
    bench = at_the_run(rules)
    bench.start()
    bench.say(ev.Distress(), 20)
    assert last(bench) == "unfinished" and not bench.view.offers, "nothing is offered but to look after them"
    assert bench.view.queue[0].id == "distress_care"
    with pytest.raises(Refused, match="distress"):
        bench.say(ev.Decided("same_again"))


def test_the_line_is_cleared_before_it_comes_off_but_not_before_who_is_unwell(rules: Rules) -> None:
    """Source: common practice; what is wrong with somebody comes before any hygiene."""

    def order(*wanted: str) -> list[str]:
        return [one.id for one in bench.view.queue if one.id in wanted]

    bench = at_the_run(rules)
    bench.run(readings=simulate(rules.protocol("fast-count-elastomeric"), GOOD))
    bench.until("line_dry")
    assert order("line_dry", "line_dry_late", "doff") == ["line_dry", "doff"]
    bench = at_the_run(rules)
    bench.start()
    bench.say(ev.Distress(), 20)
    assert order("distress_care", "line_dry", "line_dry_late", "doff") == ["distress_care", "doff"]
    bench.until("line_dry_late")
    assert bench.visit.worn_since is None


def test_nothing_inside_is_held_until_the_seal_is_broken_on_purpose(rules: Rules) -> None:
    from moorfog.core.measuring.readings import Reading

    for rose, expected in ((True, "pass"), (False, "void")):
        bench = at_the_run(rules)
        protocol = rules.protocol("fast-count-elastomeric")
        clean = [one._replace(counts=0) if one.valve == "I" else one for one in simulate(protocol, GOOD)]
        assert isinstance(clean[0], Reading)
        bench.run(readings=clean)
        assert bench.view.queue[0].act == "proof"
        if not rose:
            bench.say(ev.ProofGiven(bench.visit.tries[-1].started.run_id, False))
        else:
            bench.prove()
            bench.until("sign_wearer")
        assert last(bench) == expected


def test_typed_numbers_wait_for_the_protocol_and_say_that_they_were_typed(rules: Rules) -> None:
    bench = at_the_run(rules)
    run_id = bench.start("typed")
    rows = tuple(ev.TypedExercise("5300", one) for one in ("4.1", "6", "3", "5"))
    with pytest.raises(Refused, match="too_early"):
        bench.say(ev.NumbersTyped(run_id, "1", rows), 60)
    for wrong, code in (("nan", "not_a_number"), ("", "not_a_number"), (None, "missing")):
        with pytest.raises(Refused, match=code):
            bench.say(ev.NumbersTyped(run_id, "1", (ev.TypedExercise("5300", wrong), *rows[1:])), 100)
    with pytest.raises(Refused, match="ambient"):
        bench.say(ev.NumbersTyped(run_id, "1", (ev.TypedExercise("0", "1"), *rows[1:])), 100)
    bench.say(ev.NumbersTyped(run_id, "1", rows), 100)
    bench.until("sign_wearer")
    assert last(bench) == "pass" and bench.view.tries[-1].bound == "unknown"


@pytest.mark.parametrize(
    ("change", "code"),
    [
        ({"calibrated_until": "2026-03-01"}, "calibration"),
        ({"checks": ()}, "check_room_air"),
        (
            {"checks": (*counter().checks[:1], replace(counter().checks[1], passed=False), counter().checks[2])},
            "check_clean_air",
        ),
        ({"checks": tuple(replace(one, checked_on="2026-03-01") for one in counter().checks)}, "check_room_air"),
    ],
)
def test_no_run_without_the_kit_of_the_day(rules: Rules, change: dict, code: str) -> None:
    bench = at_the_run(rules)
    with pytest.raises(Refused, match=code):
        bench.start(instrument=counter(**change))


def test_a_95_class_filter_is_refused_in_ordinary_mode(rules: Rules) -> None:
    bench = at_the_run(
        rules,
        facepiece(
            kind="disposable_cup",
            valve=False,
            cover="front",
            filter_kind="media",
            filter_class="95-type",
            probe="through",
        ),
    )
    with pytest.raises(Refused, match="mode"):
        bench.start()
    bench.start(mode="classified")


def test_a_run_started_against_a_gate_is_void_even_if_somebody_wrote_it_into_the_log(rules: Rules) -> None:
    bench = at_the_run(rules)
    bench.answer("hair", "not_fine")
    bench.runs += 1
    started = ev.RunStarted(
        "run-x", "typed", "fast_count", "fast-count-elastomeric", "ordinary", "100", 5000, counter()
    )
    rows = tuple(ev.TypedExercise("5300", "1") for _ in range(4))
    bench.event(started)
    bench.event(ev.NumbersTyped("run-x", "1", rows), bench.at + timedelta(seconds=200))
    bench.visit = fold(bench.log, rules)
    assert last(bench) == "void"


def test_release_waits_until_everything_is_put_back(rules: Rules) -> None:
    bench = at_the_run(rules)
    bench.run(BAD)
    bench.say(ev.Decided("end"))
    with pytest.raises(Refused, match="alterations_open"):
        bench.say(ev.Released())
    bench.until("release")
    bench.do("release")
    assert bench.visit.closed == "released"


def test_a_pass_may_be_withheld_with_a_reason_and_never_granted(rules: Rules) -> None:
    bench = at_the_run(rules)
    bench.run()
    bench.until("disconnect")
    run_id = bench.visit.tries[-1].started.run_id
    with pytest.raises(Refused, match="reason_missing"):
        bench.say(ev.Withheld(run_id, "  "))
    bench.say(ev.Withheld(run_id, "slid when she spoke"))
    assert last(bench) == "fail"
    with pytest.raises(Refused, match="no_pass"):
        bench.say(ev.Withheld(run_id, "again"))


def test_a_correction_opens_an_unsigned_revision_and_never_makes_a_pass(rules: Rules) -> None:
    bench = at_the_run(rules)
    bench.run(BAD)
    bench.say(ev.Decided("end"))
    bench.until("release")
    bench.do("release")
    target = bench.visit.tries[0].chosen_seq
    bench.say(ev.Corrected(target, "it was the L", size="L"))
    assert (bench.visit.revision, bench.view.is_signed) == (2, False)
    assert bench.visit.tries[0].facepiece.size == "L" and last(bench) == "fail"
    bench.say(ev.Signed("wearer", "1" * 64, bench.visit.seq))
    bench.say(ev.Signed("tester", "1" * 64, bench.visit.seq))
    assert bench.view.is_signed
    with pytest.raises(Refused, match="reason_missing"):
        bench.say(ev.Corrected(target, " ", size="S"))


def test_voiding_a_signed_pass_takes_it_back(rules: Rules) -> None:
    bench = at_the_run(rules)
    bench.run()
    bench.until("release")
    bench.do("release")
    bench.say(ev.Corrected(1, "wrong lot", void_run=bench.visit.tries[0].started.run_id))
    assert last(bench) == "void"


def test_other_rules_than_the_pinned_ones_judge_nothing(rules: Rules) -> None:
    bench = Bench(rules, rules_digest="0" * 64)
    assert "rules_differ" in {one.code for one in run_blocks(bench.visit, bench.at)}
    assert "rules_differ" in {one.code for one in pass_blocks(bench.visit, bench.at)}


def test_the_future_is_refused_but_for_safety_presses_and_the_picture_says_when_it_changes(rules: Rules) -> None:
    from moorfog.core.transitions.admit import admit

    bench = Bench(rules)
    ahead = bench.at + timedelta(hours=1)
    assert admit(bench.visit, ev.TurnedAway("late"), ahead, bench.at).code == "in_the_future"
    assert admit(bench.visit, ev.TurnedAway("late"), bench.at + timedelta(seconds=2), bench.at) is None
    assert admit(bench.visit, ev.Distress(), ahead, bench.at) is None, "a safety press is never refused"
    bench.until("chin")
    shown = visit_view(bench.visit, bench.at)
    assert shown.changes_at == shown.wear_ready_at and shown.changes_at is not None


def test_practice_time_runs_faster_everywhere(rules: Rules) -> None:
    bench = Bench(rules, is_practice=True, speed=60)
    bench.until("run")
    assert bench.at - START < timedelta(seconds=300)
    assert bench.visit.wear_ready_at() - bench.visit.worn_since == timedelta(seconds=5)


@pytest.mark.parametrize(
    ("policy", "made", "holds"),
    [
        ("all that can be done", ("negative",), False),
        ("all that can be done", ("negative", "positive"), True),
        ("either", ("positive",), True),
        ("either", (), False),
        ("the filter decides", ("positive",), False),
        ("the filter decides", ("negative",), True),
        ("a policy nobody knows", ("negative",), False),
    ],
)
def test_the_policies_of_the_seal_check(policy: str, made: tuple[str, ...], holds: bool) -> None:
    """Policies differ: common practice. A half facepiece whose filters the thumbs close allows both checks."""
    overlay = Overlay("seal_check.policy", policy, "the house's policy", "", "2026-03-01", "A")
    bench = Bench(rules_for(lay_over(shipped_books()["us-29cfr1910-134"], [overlay])))
    bench.until("seal_check")
    for check in made:
        bench.check_seal(check)
    assert seal_holds(bench.visit) is holds
    if holds:
        other = "positive" if "negative" in made else "negative"
        bench.say(ev.SealChecked(other, "leaks", "holds", "chin"))  # type: ignore[arg-type]
        assert not seal_holds(bench.visit), "no policy passes over a leak"


def test_a_state_that_is_asked_for_hours_does_not_grow(rules: Rules) -> None:
    bench = Bench(rules)
    bench.until("chin")
    visit_view(bench.visit, bench.at)
    size = len(bench.visit.memo)
    shown = [visit_view(bench.visit, bench.at + timedelta(seconds=2 * number)) for number in range(500)]
    assert len(bench.visit.memo) == size
    assert shown[0] == visit_view(bench.visit, bench.at), "and says the same of the same moment"


def test_how_long_it_must_be_worn_is_said_as_the_book_has_it() -> None:
    """A site that asks for eleven minutes reads eleven, not the five of the shipped book."""
    longer = Overlay("wear.minimum", 660, "hot work", "", "2026-03-01", "A")
    bench = Bench(rules_for(lay_over(shipped_books()["us-29cfr1910-134"], [longer])))
    bench.until("seal_check")
    worn = [one.sentence for one in bench.view.between if one.code == "wear"]
    assert worn == ["Worn less than 11 minutes"]
    comfort = next(item for item in bench.rules.procedure.item if item.after_wear)
    with pytest.raises(Refused, match="11 minutes"):
        bench.answer(comfort.id)
