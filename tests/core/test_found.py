"""Ways to a wrong pass that were once open, each closed by a test of its own."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from fractions import Fraction
from typing import Any

import pytest

from moorfog.core.advice.methods import METHODS, Kit, Wearer, advise
from moorfog.core.advice.protection import suffices
from moorfog.core.events import payloads as ev
from moorfog.core.events.measured import MeasuredWindow
from moorfog.core.measuring.ambient import measure_windows
from moorfog.core.measuring.readings import Reading
from moorfog.core.measuring.reduction import reduce_run
from moorfog.core.measuring.results import ExerciseResult, conclude
from moorfog.core.rules.book import Rules
from moorfog.core.rules.overlay import OWN_RULES, Overlay
from moorfog.core.simulation.faults import HEPA_LEFT_ON
from moorfog.core.transitions.fold import fold, step
from moorfog.core.views.statement import statement_of
from moorfog.core.visit.blocks import run_blocks
from moorfog.core.visit.circumstances import facts_digest
from moorfog.core.visit.state import Visit
from moorfog.core.visit.steps import is_signed, is_under_question
from moorfog.data import facepiece_kinds, lay_over, rules_for, shipped_books, shipped_rules
from tests.core.all_ways import outcomes
from tests.core.bench import BAD_FACTORS, CLEARED, GOOD, Bench, Refused, broken_seal, counter, facepiece, simulate, task

US = "us-29cfr1910-134"
KEPT = ("medical", "training")


def ran(rules: Rules, factors: tuple[int, ...] = GOOD, **opening: Any) -> Bench:
    """A visit whose run is over, with nothing asked yet."""
    bench = Bench(rules, **opening)
    bench.until("run")
    bench.run(factors)
    return bench


def released(rules: Rules) -> Bench:
    bench = ran(rules)
    bench.until("release")
    bench.do("release")
    assert outcomes(bench.visit) == ["pass"]
    return bench


def hear(bench: Bench, payload: ev.Payload, at: Any) -> Visit:
    """Hear of something that happened at a moment, whatever has come since."""
    bench.visit = fold([*bench.log, bench.event(payload, at)][: len(bench.log)], bench.rules)
    return bench.visit


def say_both(bench: Bench, question: str, after: float, screen: str = "s-1", again: str = "s-1") -> None:
    """Answer "not fine", then "fine"."""
    item = bench.rules.procedure.find(question)
    assert item is not None
    bench.say(ev.Answered(question, "not_fine", facts_digest(bench.visit, item), screen=screen))
    bench.say(ev.Answered(question, "fine", facts_digest(bench.visit, item), screen=again), after)


@pytest.mark.parametrize(
    "question", ["zero_filter", "probe_in", "shave", "fit_today", "after_comfort", "after_adjusted"]
)
def test_not_fine_said_after_the_run_stays(rules: Rules, question: str) -> None:
    bench = ran(rules)
    if not question.startswith("after"):
        bench.until("doff")
    say_both(bench, question, 60)
    assert outcomes(bench.visit) == ["fail" if question == "after_comfort" else "void"]


@pytest.mark.parametrize(
    ("after", "again", "between", "passes"),
    [
        (9, "s-1", False, True),
        (11, "s-1", False, False),
        (9, "s-2", False, False),
        (9, "", False, False),
        (4, "s-1", True, False),
    ],
)
def test_a_slip_is_taken_back_within_seconds_on_the_same_screen_and_nowhere_else(
    rules: Rules, after: float, again: str, between: bool, passes: bool
) -> None:
    bench = ran(rules)
    item = rules.procedure.find("after_comfort")
    assert item is not None
    bench.say(ev.Answered("after_comfort", "not_fine", facts_digest(bench.visit, item), screen="s-1"))
    if between:
        bench.say(ev.Touched(False), 1)
    bench.say(ev.Answered("after_comfort", "fine", facts_digest(bench.visit, item), screen=again), after)
    assert len([one for one in bench.visit.asked if one.question == "after_comfort"]) == 2, "both presses stay"
    if passes:
        bench.until("sign_wearer")
    assert outcomes(bench.visit) == ["pass" if passes else "fail"]


@pytest.mark.parametrize("payload", [ev.Touched(True), ev.Doffed("lifted"), ev.Stopped(), ev.Distress()])
@pytest.mark.parametrize("heard", ["after the end", "after signing", "after release"])
def test_what_happened_in_the_run_is_judged_as_if_heard_in_time(rules: Rules, payload: ev.Payload, heard: str) -> None:
    bench = ran(rules)
    began = bench.visit.tries[-1].started_at
    if heard != "after the end":
        bench.until("release")
    if heard == "after release":
        bench.do("release")
    hear(bench, payload, began + timedelta(seconds=40))
    assert "pass" not in outcomes(bench.visit) and not is_signed(bench.visit)
    assert is_under_question(bench.visit) is (heard == "after release")
    if heard != "after release":
        return
    bench.say(ev.Corrected(1, "asked the wearer: it was lifted"))
    assert is_under_question(bench.visit), "settled only once both have signed"
    for role in ("wearer", "tester"):
        bench.say(ev.Signed(role, "1" * 64, bench.visit.seq))  # type: ignore[arg-type]
    assert not is_under_question(bench.visit) and "pass" not in outcomes(bench.visit)


def test_lifted_before_the_run_and_heard_after_it_is_no_pass(rules: Rules) -> None:
    bench = ran(rules)
    one = bench.visit.tries[-1]
    hear(bench, ev.Doffed("lifted"), one.started_at - timedelta(seconds=1))
    assert outcomes(bench.visit) == ["void"]


@pytest.mark.parametrize(("is_asked", "result"), [(False, "fail"), (True, "pass")])
def test_i_taste_it_counts_until_the_palate_has_been_asked(rules: Rules, is_asked: bool, result: str) -> None:
    bench = Bench(rules, method="sweet")
    bench.until("run")
    run_id = bench.smell()
    if is_asked:
        bench.answer("after_palate")
    bench.say(ev.Detected(run_id, "wearer"), 2)
    if is_asked:
        bench.until("sign_wearer")
    assert outcomes(bench.visit) == [result]


def held(rules: Rules) -> Bench:
    """A run that read nothing inside, on a display in whole numbers: half a step is 0.5, ten times that is 5."""
    bench = Bench(rules)
    bench.until("run")
    bench.run(readings=[one._replace(counts=0) if one.valve == "I" else one for one in simulate(_fast(rules), GOOD)])
    assert bench.visit.tries[-1].numbers.state == "held"
    return bench


@pytest.mark.parametrize(
    ("wait", "doff", "seen", "result"),
    [
        (60, False, "40", "pass"),
        (121, False, "40", "void"),
        (60, True, "40", "void"),
        (60, False, "4.9", "void"),
        (60, False, "", "void"),
        (60, False, "lots", "void"),
    ],
)
def test_the_proof_of_a_typed_run_is_a_figure_on_the_same_donning_within_two_minutes(
    rules: Rules, wait: float, doff: bool, seen: str, result: str
) -> None:
    bench = Bench(rules)
    bench.until("run")
    run_id = bench.start("typed")
    bench.at += timedelta(seconds=200)
    bench.say(ev.NumbersTyped(run_id, "1", tuple(ev.TypedExercise("5300", "0") for _ in range(4))))
    one = bench.visit.tries[-1]
    assert one.numbers.state == "held" and one.ended_at is not None
    if doff:
        bench.say(ev.Doffed("done"), 5)
    bench.at = one.ended_at + timedelta(seconds=wait)
    bench.say(ev.ProofGiven(run_id, True, seen), 0)
    if result == "pass":
        bench.until("sign_wearer")
    assert outcomes(bench.visit) == [result]


FAST = shipped_rules(US).protocol("fast-count-elastomeric")
assert FAST is not None
RISES = broken_seal(FAST)


@pytest.mark.parametrize(
    ("readings", "wait", "doff", "end", "result"),
    [
        (RISES, 60, False, "complete", "pass"),
        (RISES, 60, False, "stopped", "pass"),
        (RISES, 119, False, "complete", "void"),
        (RISES, 60, True, "complete", "void"),
        (RISES, 60, False, "lost", "void"),
        (RISES[:40], 60, False, "complete", "void"),
        (RISES[56:], 60, False, "complete", "void"),
        (RISES[:50] + RISES[56:], 60, False, "complete", "void"),
        ([one._replace(valve="O") for one in RISES], 60, False, "complete", "void"),
        ([one._replace(flags="A") for one in RISES], 60, False, "complete", "void"),
        (broken_seal(FAST, "blocked hose"), 60, False, "complete", "void"),
        (broken_seal(FAST, HEPA_LEFT_ON), 60, False, "complete", "void"),
        ([], 60, False, "complete", "void"),
    ],
    ids=("rises", "stopped", "late", "doffed", "lost", "still", "high", "gap", "valve", "flag", "hose", "HEPA", "none"),
)
def test_the_proof_of_a_linked_run_is_one_stream_that_rises_tenfold_on_the_same_donning(
    rules: Rules, readings: list[Reading], wait: float, doff: bool, end: str, result: str
) -> None:
    """The stream must show as little as before, then the rise: one that begins high proves nothing."""
    bench = held(rules)
    if doff:
        bench.say(ev.Doffed("done"), 5)
    ended = bench.visit.tries[-1].ended_at
    assert ended is not None
    bench.at = ended + timedelta(seconds=wait)
    bench.prove(readings, wait=0, end=end)
    if result == "pass":
        bench.until("sign_wearer")
    assert outcomes(bench.visit) == [result]


def test_nobody_types_the_proof_of_a_linked_run(rules: Rules) -> None:
    bench = held(rules)
    run_id = bench.visit.tries[-1].started.run_id
    with pytest.raises(Refused, match="read_by_link"):
        bench.say(ev.ProofGiven(run_id, True, "9000"))
    bench.visit = step(bench.visit, bench.event(ev.ProofGiven(run_id, True, "9000")))
    assert outcomes(bench.visit) == ["unfinished"], "written by an older program: it proves nothing"
    bench.say(ev.ProofGiven(run_id, False))
    bench.prove()
    assert outcomes(bench.visit) == ["void"], "once it did not rise, no later stream mends it"


def _fast(rules: Rules) -> Any:
    return rules.protocol("fast-count-elastomeric")


def test_after_a_leak_a_refit_comes_before_the_next_check(rules: Rules) -> None:
    bench = Bench(rules)
    bench.until("seal_check")
    bench.check_seal("negative", "leaks", "chin")
    for payload in (ev.SealHoldBegun("negative"), ev.SealChecked("negative", "holds", "holds")):
        with pytest.raises(Refused, match="refit_first"):
            bench.say(payload)
    hear(bench, ev.SealChecked("negative", "holds", "holds"), bench.at)
    hear(bench, ev.SealChecked("positive", "holds", "holds"), bench.at)
    assert "seal_check" in [one.code for one in run_blocks(bench.visit, bench.at)], "nor by an entry in the log"


def test_ten_seconds_are_ten_seconds_from_key_to_key(rules: Rules) -> None:
    bench = Bench(rules)
    bench.until("seal_check")
    bench.say(ev.SealHoldBegun("negative"))
    with pytest.raises(Refused, match="held_too_short"):
        bench.say(ev.SealChecked("negative", "holds", "holds"), 9)
    bench.say(ev.SealChecked("negative", "holds", "holds"), 1)
    bench.check_seal("positive")
    assert "seal_check" not in [one.code for one in run_blocks(bench.visit, bench.at)]


def test_at_the_cap_it_is_another_facepiece_also_when_the_same_is_chosen_again(rules: Rules) -> None:
    bench = Bench(rules)
    bench.until("seal_check")
    for number in range(3):
        if number:
            bench.say(ev.Adjusted("strap"))
            bench.until("seal_check")
        bench.check_seal("negative", "leaks", "chin")
    bench.say(ev.Adjusted("strap"))
    with pytest.raises(Refused, match="seal_limit"):
        bench.say(ev.SealHoldBegun("negative"))
    bench.say(ev.Doffed("refit"))
    with pytest.raises(Refused, match="seal_limit"):
        bench.say(ev.FacepieceChosen(facepiece()))
    bench.say(ev.FacepieceChosen(facepiece(size="L")))


def test_adjusted_while_the_breath_is_held_after_donning_again_is_void(rules: Rules) -> None:
    protocol = rules.protocol("pressure-short")
    assert protocol is not None
    windows = [one for one in protocol.windows() if protocol.exercises()[one.exercise].redon]
    hold = next(one for one in windows if one.use == "hold")
    for ms, result in ((windows[0].start_ms + 5000, "pass"), (hold.start_ms + 1000, "void")):
        bench = Bench(rules, method="negative_pressure")
        bench.until("run")
        bench.run((4000,) * len(protocol.exercises()), protocol_id=protocol.id)
        t0 = bench.visit.tries[-1].t0
        assert t0 is not None
        hear(bench, ev.Adjusted("strap"), t0 + timedelta(milliseconds=ms))
        if result == "pass":
            bench.until("sign_wearer")
        assert outcomes(bench.visit) == [result]


def test_helped_on_is_not_unaided_before_it_was_off(rules: Rules) -> None:
    bench = Bench(rules)
    bench.until("don")
    bench.say(ev.Donned(False))
    with pytest.raises(Refused, match="worn"):
        bench.say(ev.Donned(True))
    hear(bench, ev.Donned(True), bench.at)
    assert not bench.visit.unaided
    bench.say(ev.Doffed("refit"))
    bench.say(ev.Donned(True))
    assert bench.visit.unaided


@pytest.mark.parametrize("use", ["purge", "grimace"])
def test_a_chamber_out_of_range_is_seen_in_purge_and_grimace_too(rules: Rules, use: str) -> None:
    protocol = rules.protocol("aerosol-us-continuous")
    assert protocol is not None
    names = [one.id for one in protocol.exercises()]
    wanted = [
        one
        for one in protocol.windows()
        if (
            names[one.exercise] == "grimace"
            if use == "grimace"
            else one.use == "purge" and names[one.exercise] != "grimace"
        )
    ]
    window = max(wanted, key=lambda one: one.end_ms - one.start_ms)
    readings = [
        replace_chamber(one) if window.start_ms < one.t <= window.end_ms else one
        for one in simulate(protocol, (4000,) * len(names))
    ]
    bench = Bench(rules, method="aerosol")
    bench.until("run")
    bench.run(readings=readings, protocol_id=protocol.id)
    assert outcomes(bench.visit) == ["void"]
    assert bench.visit.tries[-1].numbers.reasons[0].code == "unsteady"


def replace_chamber(one: Reading) -> Reading:
    return one._replace(chamber=(one.chamber or 0) * 2)


def test_the_wrong_person_ends_the_visit_and_leaves_nothing(rules: Rules) -> None:
    bench = Bench(rules)
    bench.answer("identity", "not_fine")
    with pytest.raises(Refused, match="wrong_person"):
        bench.answer("identity", screen="")
    with pytest.raises(Refused, match="wrong_person"):
        bench.say(ev.TurnedAway("wrong person"))
    assert [one.act for one in bench.view.queue] == ["mistaken"]
    bench.say(ev.OpenedByMistake())
    assert bench.visit.closed == "mistaken" and not bench.visit.turned_away


def test_after_distress_nothing_is_offered_but_to_look_after_them(rules: Rules) -> None:
    for bench in (Bench(rules), ran(rules, BAD_FACTORS)):
        bench.say(ev.Distress())
        shown = bench.view
        assert shown.distress and not shown.offers and shown.queue[0].id == "distress_care"
        assert all("new try" not in one.detail for one in shown.between)


@pytest.mark.parametrize(
    ("opening", "code"),
    [
        ({"clearance": None}, "no_clearance"),
        ({"clearance": replace(CLEARED, valid_until="2026-03-01")}, "clearance"),
        ({"clearance": replace(CLEARED, status="not cleared")}, "clearance"),
        ({"trained_on": ""}, "no_training"),
        ({"trained_on": "2931-01-01"}, "no_training"),
        ({"trained_on": "2025-03-01"}, "no_training"),
    ],
)
def test_what_the_book_requires_on_file_blocks_where_it_is_not_there(
    rules: Rules, opening: dict[str, Any], code: str
) -> None:
    assert code in [one.code for one in run_blocks(Bench(rules, **opening).visit, Bench(rules).at)]
    said = [
        Overlay(f"{key}.kept_at", "the works doctor's cabinet", "kept there", "", "2026-03-01", "A")
        for key in ("medical", "training")
    ]
    elsewhere = rules_for(lay_over(shipped_books()[US], said))
    kept = [one.code for one in run_blocks(Bench(elsewhere, **opening).visit, Bench(rules).at)]
    assert (code in kept) is (code == "clearance"), "stated in writing where it is kept; what is on file still counts"


def test_a_clearance_withdrawn_during_the_visit_counts_at_once_and_for_good(rules: Rules) -> None:
    bench = ran(rules)
    bench.until("sign_wearer")
    bench.say(ev.FileRead(replace(CLEARED, status="not cleared"), "2026-02-01", "2026-03-02"))
    assert outcomes(bench.visit) == ["void"]
    bench.say(ev.FileRead(CLEARED, "2026-02-01", "2026-03-02"))
    assert outcomes(bench.visit) == ["void"], "another run mends it, nothing else"


def test_a_correction_to_another_person_is_judged_by_their_own_file(rules: Rules) -> None:
    for file, result in (
        (ev.FileRead(CLEARED, "2026-02-01", "2026-03-02"), "pass"),
        (ev.FileRead(None, "2026-02-01", "2026-03-02"), "unfinished"),
        (ev.FileRead(replace(CLEARED, limits=("no half facepiece",)), "2026-02-01", "2026-03-02"), "unfinished"),
        (None, "unfinished"),
    ):
        bench = released(rules)
        bench.say(ev.Corrected(1, "their twin", person_id="q", file=file))
        assert outcomes(bench.visit) == [result] and bench.visit.person_id == "q"


def test_a_pass_moved_to_a_size_that_had_failed_is_none(rules: Rules) -> None:
    bench = Bench(rules)
    bench.until("run", facepiece(size="L"))
    bench.run(BAD_FACTORS)
    bench.say(ev.Decided("other_size"))
    bench.until("run", facepiece(size="M"))
    bench.run()
    bench.until("release")
    bench.do("release")
    assert outcomes(bench.visit) == ["fail", "pass"]
    bench.say(ev.Corrected(bench.visit.tries[1].chosen_seq, "it was the L", size="L"))
    assert outcomes(bench.visit) == ["fail", "unfinished"]
    moved = bench.say(ev.Corrected(bench.visit.tries[0].chosen_seq, "it was the S", size="S"))
    assert [one.configuration for one in moved.ended] == [facepiece(size="L").configuration], "ends it until signed"
    history = released(rules)
    history.say(ev.Corrected(history.visit.tries[0].chosen_seq, "it was the S", size="S", failed_before=True))
    assert outcomes(history.visit) == ["unfinished"]


SOLVENT = ev.Contaminant("solvent", "gas or vapour", "300", "100", "ppm", "900")
DUST = ev.Contaminant("dust", "particles", "9", "1", "mg/m³")
COMBINED = ev.WorkFilter("both", "100-type", ("organic vapour",))


@pytest.mark.parametrize(
    ("piece", "job", "enough"),
    [
        ({}, task(contaminants=(SOLVENT,), work_cartridge="organic vapour"), False),
        ({"kind": "full", "cover": "palms"}, task(contaminants=(SOLVENT,), work_cartridge="organic vapour"), False),
        ({"work": (COMBINED,)}, task(contaminants=(SOLVENT,), work_cartridge="organic vapour"), True),
        ({"work": (COMBINED,)}, task(contaminants=(SOLVENT,), work_cartridge="inorganic gas"), False),
        ({"work": (COMBINED,)}, task(contaminants=(SOLVENT,)), False),
        ({"filter_class": "95-type"}, task(contaminants=(DUST,), work_filter="100-type"), False),
        ({"filter_class": "100-type"}, task(contaminants=(DUST,), work_filter="95-type"), True),
        ({"filter_class": "home-made"}, task(contaminants=(DUST,), work_filter="95-type"), False),
        ({}, task(contaminants=(DUST,), work_filter=""), False),
        ({"test_filters": True}, task(contaminants=(DUST,), work_filter="95-type"), False),
        ({"test_filters": True, "work": (COMBINED,)}, task(contaminants=(DUST,), work_filter="95-type"), True),
    ],
)
def test_the_working_set_up_must_stop_everything_the_task_has(
    piece: dict[str, Any], job: ev.Task, enough: bool
) -> None:
    """Test filters prove the face only; dust filters take no gas; a class and a cartridge nobody names stop nothing."""
    assert (suffices(job, shipped_books()[US], facepiece(**piece)).suffices == "yes") is enough


def test_every_kind_states_its_level_and_demand_full_has_that_of_a_full_one() -> None:
    kinds = facepiece_kinds()
    assert all(one.level in ("level.half", "level.full") for one in kinds.values())
    assert {name for name, one in kinds.items() if one.level == "level.full"} == {
        one for one in kinds if one.endswith("full")
    }
    assert facepiece(kind="something new").level_key == "", "a kind that is not stated has none"


def test_no_qualitative_test_of_any_full_facepiece_where_the_book_says_never() -> None:
    rules = shipped_rules("gb-hse-indg479")
    for kind in ("full", "powered_full", "supplied_full", "scba_full"):
        found = advise(facepiece(kind=kind), rules, Fraction(5), Kit(frozenset(METHODS)), Wearer())
        taste = next(one for one in found if one.method == "sweet")
        assert taste.verdict == "not permitted" and any("full facepieces" in why for why in taste.reasons), kind


def test_spectacle_bars_under_a_full_facepiece_stop_it(rules: Rules) -> None:
    bench = Bench(rules)
    bench.until("choose_facepiece")
    bench.say(ev.FacepieceChosen(facepiece(kind="full", ppe=("spectacles",))))
    assert "temple_bars" in [one.code for one in run_blocks(bench.visit, bench.at)]


def test_an_interval_of_nearly_a_minute_hides_nothing(rules: Rules) -> None:
    """One reading of 58 s in an exercise of 60 s, which was neither used nor missing."""
    protocol = rules.protocol("full-count-us")
    assert protocol is not None
    plain = simulate(protocol, (4000,) * len(protocol.exercises()))
    inside = max(protocol.windows(), key=lambda one: (one.use == "inside", one.end_ms - one.start_ms))
    first, last = inside.start_ms - 9000, inside.end_ms + 9000
    kept = [one for one in plain if one.t <= first or one.t - one.dt >= last]
    lump = Reading(last, last - first, 10**6, 1667 * (last - first), "I")
    codes = {
        each.code for each in reduce_run(protocol, rules.book, sorted([*kept, lump]), "complete", counter()).deviations
    }
    assert {"long_interval", "short_window"} <= codes


@pytest.mark.parametrize(
    ("change", "code"),
    [
        ({"flags": "Q"}, "unknown_flag"),
        ({"volume_nl": 250 * 1667 * 3}, "volume"),
        ({"volume_nl": 250 * 1667 // 3}, "volume"),
    ],
)
def test_a_flag_nobody_knows_and_a_volume_that_cannot_be_are_void(
    rules: Rules, change: dict[str, Any], code: str
) -> None:
    protocol = _fast(rules)
    readings = simulate(protocol, GOOD)
    readings[100] = readings[100]._replace(**change)
    found = reduce_run(protocol, rules.book, readings, "complete", counter())
    assert [one.code for one in found.deviations] == [code]
    assert not reduce_run(protocol, rules.book, simulate(protocol, GOOD), "complete", counter()).deviations


def test_a_counter_with_a_figure_missing_starts_no_run(rules: Rules) -> None:
    bench = Bench(rules)
    bench.until("run")
    for missing in ("ambient_minimum", "counted_flow", "resolution"):
        with pytest.raises(Refused, match="figures"):
            bench.start(instrument=counter(**{missing: ""}))


def test_inside_below_the_days_clean_air_is_held(rules: Rules) -> None:
    """0.06 to 0.2 per cm³ once passed: what a HEPA filter left on the line lets in."""
    clean = counter(
        checks=tuple(
            replace(one, value="0.1", limit="0.2") if one.name == "clean_air" else one for one in counter().checks
        )
    )
    bench = Bench(rules)
    bench.until("run")
    bench.run((40_000,) * 4, instrument=clean)
    inside = [float(one.inside or 0) for one in bench.visit.tries[-1].numbers.exercises]
    assert 0.06 < sum(inside) / 4 < 0.2 and bench.visit.tries[-1].numbers.state == "held"


def test_typed_figures_go_by_the_same_rules(rules: Rules) -> None:
    for rows, state in (
        ([("5300", "4"), ("5300", "5"), ("5300", "4"), ("5300", "6")], "reached"),
        ([("5300", "4"), ("5300", "5"), ("5300", "4"), ("8300", "6")], "void"),
        ([("5300", "0.05")] * 4, "held"),
    ):
        bench = Bench(rules)
        bench.until("run")
        run_id = bench.start("typed")
        bench.say(ev.NumbersTyped(run_id, "1", tuple(ev.TypedExercise(*one) for one in rows)), 160)
        assert bench.visit.tries[-1].numbers.state == state, rows
    bench = Bench(rules)
    bench.until("run")
    run_id = bench.start("typed")
    with pytest.raises(Refused, match="factors_only"):
        bench.say(ev.NumbersTyped(run_id, "1", tuple(ev.TypedExercise(factor="900") for _ in range(4))), 160)


def test_where_every_exercise_counts_the_sentence_and_the_margin_are_the_exercises(rules: Rules) -> None:
    book = lay_over(shipped_books()[US], [Overlay("judged_by", "every_exercise", "house rule", "", "2026-03-01", "A")])
    protocol = _fast(rules)

    def result(number: int, factor: int, bound: float) -> ExerciseResult:
        return ExerciseResult(number, Fraction(5000), Fraction(5000, factor), Fraction(factor), False, 50, bound)

    low = [result(n, one, one * 0.9) for n, one in enumerate((1000, 1000, 80, 1000))]
    found = conclude(protocol, book, Fraction(100), low, 500.0, False)
    assert found.state == "below" and "80.0 is below 100" in found.reasons[0].sentence
    assert "Overall" not in found.reasons[0].sentence
    near = [result(n, one, one * 0.9) for n, one in enumerate((1000, 1000, 105, 1000))]
    assert conclude(protocol, book, Fraction(100), near, 300.0, False).is_marginal


def test_below_what_a_law_fixes_it_is_the_sites_own_rules() -> None:
    book = shipped_books()[US]
    for key, value in (("level.half", "2"), ("wear.minimum", 60), ("medical.required", False)):
        own = lay_over(book, [Overlay(key, value, "we think so", "", "2026-03-01", "A")])
        assert own.title == OWN_RULES + book.title
    assert lay_over(book, [Overlay("level.half", "100.5", "", "", "2026-03-01", "A")]).title == book.title


def test_a_stricter_level_with_a_decimal_starts_and_judges_runs() -> None:
    rules = rules_for(lay_over(shipped_books()[US], [Overlay("level.half", "100.5", "", "", "2026-03-01", "A")]))
    bench = Bench(rules)
    bench.until("run")
    bench.run()
    assert bench.visit.tries[-1].started.level == "100.5"
    bench.until("sign_wearer")
    assert outcomes(bench.visit) == ["pass"]


def test_no_exercise_without_counts_is_ever_compared_with_nothing(rules: Rules) -> None:
    none = (MeasuredWindow(0, "outside", 0, 8_000_000, 5000),)
    assert measure_windows(_fast(rules), rules.book, Fraction(100), none, Fraction(0), None).state == "void"


def test_what_is_signed_is_what_is_shown() -> None:
    """Rules, file, revision and corrections stand on the card that is signed, word for word."""
    bench = Bench(shipped_rules())
    bench.until("run")
    bench.run(GOOD)
    bench.until("sign_wearer")
    shown, signed = bench.view, statement_of(bench.visit, "v")
    assert signed["shown"] == list(shown.signed_under) and signed["limits_of_use"] == list(shown.limits_of_use)
    assert signed["terms"] == shown.terms and bench.rules.book.title in shown.signed_under[0]
    assert signed["on_file"] in shown.signed_under[1]
    assert [one["overall"] for one in signed["tries"]] == [one.overall for one in shown.tries]


def test_no_sentence_names_a_key_in_the_place_of_its_value() -> None:
    """The right column, refusals and reasons say the book's minutes, as the card does."""
    for book in shipped_books().values():
        items = rules_for(book).procedure.item
        assert not [one.id for one in items if "{" in one.title + one.say]
        smoking = next(one for one in items if one.wait == "smoking.wait")
        assert f"last {book.values['smoking.wait'].value} minutes" in smoking.title


def with_a_screen(rules: Rules) -> tuple[Bench, str]:
    """A visit whose run is over, with the wearer's screen there from its start."""
    bench = Bench(rules)
    bench.until("run")
    run_id = bench.start()
    bench.visit = step(bench.visit, bench.event(ev.ScreenTookPart(run_id, "tablet", "wearer")))
    protocol = rules.protocol(bench.visit.tries[-1].started.protocol_id)
    assert protocol is not None
    bench.seal(run_id, simulate(protocol, GOOD))
    return bench, run_id


def settle_screen(bench: Bench, payload: ev.Payload) -> None:
    bench.visit = step(bench.visit, bench.event(payload))


def test_the_verdict_waits_for_a_screen_that_may_hold_presses(rules: Rules) -> None:
    """Everything else is asked and put back meanwhile; nobody signs before it has been heard."""
    bench, run_id = with_a_screen(rules)
    for _ in range(40):
        shown = bench.view
        if not shown.queue:
            break
        bench.do(shown.queue[0].act) if shown.queue[0].act else bench.answer(shown.queue[0])
    assert outcomes(bench.visit) == ["unfinished"] and not bench.view.offers
    assert [one.code for one in bench.view.waiting_for] == ["screen_awaited"] and bench.view.step == "back"
    with pytest.raises(Refused, match="not_yet"):
        bench.say(ev.Signed("wearer", "0" * 64, bench.visit.seq))
    settle_screen(bench, ev.ScreenCleared(run_id, "another"))
    assert outcomes(bench.visit) == ["unfinished"], "it was not that screen"
    settle_screen(bench, ev.ScreenCleared(run_id, "tablet"))
    bench.until("release")
    assert outcomes(bench.visit) == ["pass"] and is_signed(bench.visit)


def test_a_screen_that_never_comes_back_leaves_the_try_unfinished_for_good(rules: Rules) -> None:
    bench, run_id = with_a_screen(rules)
    settle_screen(bench, ev.ScreenLost(run_id, "tablet"))
    settle_screen(bench, ev.ScreenCleared(run_id, "tablet"))
    bench.answer("after_comfort")
    assert outcomes(bench.visit) == ["unfinished"] and bench.view.offers, "another try is decided on"


def test_a_screen_is_clear_only_once_the_run_is_over(rules: Rules) -> None:
    bench = Bench(rules)
    bench.until("run")
    run_id = bench.start()
    settle_screen(bench, ev.ScreenTookPart(run_id, "tablet", "wearer"))
    settle_screen(bench, ev.ScreenCleared(run_id, "tablet"))
    assert [one.state for one in bench.visit.tries[-1].screens] == ["awaited"]


def test_what_is_entered_of_screens_comes_between_no_slip_and_its_correction(rules: Rules) -> None:
    bench, run_id = with_a_screen(rules)
    bench.answer("after_comfort", "not_fine", screen="s")
    settle_screen(bench, ev.ScreenCleared(run_id, "tablet"))
    bench.answer("after_comfort", "fine", screen="s")
    bench.until("sign_wearer")
    assert outcomes(bench.visit) == ["pass"]
