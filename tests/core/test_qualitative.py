"""Qualitative tests against figures typed by hand (recalled), and their state machine under any order of events."""

from __future__ import annotations

import tomllib
from datetime import timedelta
from fractions import Fraction
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from moorfog.core.advice.solutions import keeps_until, scaled
from moorfog.core.events import payloads as ev
from moorfog.core.kernel.codec import DataError, encode
from moorfog.core.qualitative.judgement import counted_doses, threshold_set
from moorfog.core.rules.book import Rules
from moorfog.core.rules.protocols import read_protocol
from moorfog.core.transitions.fold import fold, step
from moorfog.core.visit.outcomes import outcome
from moorfog.data import shipped_protocols, shipped_rules
from tests.core.bench import START, Bench, Refused, facepiece, lot, nebuliser

TABLE: dict[str, Any] = tomllib.loads((Path(__file__).parents[1] / "data" / "qualitative.toml").read_text())
BY_ID = {one.id: one for one in shipped_protocols()}
SENSES = [one for one in shipped_protocols() if one.is_qualitative]
PIECES = {
    "sweet": facepiece(),
    "bitter": facepiece(),
    "smoke": facepiece(),
    "odour": facepiece(filter_kind="combined", cover="palms"),
}
AGENTS = tuple(PIECES)


def bench_for(agent: str, rules: Rules | None = None) -> Bench:
    """A bench where everything before the run is done for a method."""
    bench = Bench(rules or shipped_rules(), method=agent, opened_on="2026-03-02")
    bench.until("run", PIECES[agent])
    return bench


def finish(bench: Bench) -> str:
    """Answer what comes after the run as fine, and return the outcome."""
    for _ in range(30):
        shown = bench.view
        cards = [one for one in shown.queue if one.step == "result"]
        if not cards:
            break
        if cards[0].act == "doff":
            bench.say(ev.Doffed("done"))
        elif cards[0].act:
            bench.do(cards[0].act)
        else:
            bench.answer(cards[0])
    return outcome(bench.visit, bench.visit.tries[-1])[0]


# ---- the tables


@pytest.mark.parametrize("protocol", SENSES, ids=lambda one: one.id)
def test_seven_exercises_of_a_minute_each_in_order(protocol: Any) -> None:
    """29 CFR 1910.134 App. A Part I.A.14: no grimace; jogging where the hood does not allow bending; recalled."""
    exercises = [one for one in protocol.exercises() if one.in_sum]
    assert [one.id for one in exercises] == TABLE["exercises"]
    assert {one.seconds for one in exercises} == {TABLE["seconds"]}
    before = sum(one.seconds for one in protocol.exercises() if not one.in_sum)
    assert protocol.total_s - before == TABLE["total"] == 7 * 60
    assert (before > 0) == (protocol.family == "smoke"), "the passes round the seal come before the first exercise"
    swapped = [one.id for one in protocol.exercises(bends=False) if one.in_sum]
    assert [one for one in swapped if one != "jog"] == [one for one in TABLE["exercises"] if one in swapped]
    assert ("jog" in swapped) == (protocol.family in ("taste", "odour"))


@pytest.mark.parametrize("row", TABLE["taste"], ids=lambda row: row["protocol"])
@pytest.mark.parametrize("threshold", [10, 20, 30])
def test_thirteen_half_doses_every_thirty_seconds(row: dict[str, Any], threshold: int) -> None:
    protocol = BY_ID[row["protocol"]]
    slots = protocol.slots(threshold)
    assert [one.at_ms / 1000 for one in slots] == TABLE["doses"]["starts"]
    assert {one.squeezes for one in slots} == {TABLE["doses"]["half"][str(threshold)]}
    assert protocol.first_dose(threshold).startswith(str(TABLE["doses"]["first"][str(threshold)]))
    assert len(slots) == 13 and slots[-1].at_ms + 30_000 == protocol.total_s * 1000


@pytest.mark.parametrize("row", TABLE["taste"], ids=lambda row: row["protocol"])
def test_the_solutions_come_out_as_written(row: dict[str, Any]) -> None:
    recipes = {one.role: one for one in BY_ID[row["protocol"]].recipe}
    for role in ("threshold", "fit"):
        made = {one.what: one.amount for one in scaled(recipes[role], Fraction(100))}
        assert made == {what: Fraction(amount) for what, amount in row[f"{role}_in_100_ml"].items()}


def test_the_bitter_solutions_stand_at_twelve_and_a_half_and_the_sweet_at_a_hundred() -> None:
    for name, ratio in (("taste-bitter", Fraction(25, 2)), ("taste-sweet", Fraction(100))):
        recipes = {one.role: scaled(one, Fraction(1))[0].amount for one in BY_ID[name].recipe}
        assert recipes["fit"] / recipes["threshold"] == ratio


def test_odour_amounts_and_how_long_they_keep() -> None:
    recipes = {one.role: one for one in BY_ID["odour"].recipe}
    wanted = TABLE["odour"]
    for role, key in (("stock", "stock"), ("odour_jar", "jar"), ("blank_jar", "blank")):
        made = {one.what: one.amount for one in scaled(recipes[role], Fraction(recipes[role].per_ml))}
        assert made == {what: Fraction(amount) for what, amount in wanted[key].items()}
    assert keeps_until(recipes["stock"], START) == START + timedelta(hours=wanted["stock_hours"])
    assert keeps_until(recipes["odour_jar"], START) == START + timedelta(hours=wanted["jar_hours"])
    dosing, screening = BY_ID["odour"].dosing, BY_ID["odour"].screening
    assert dosing is not None and screening is not None
    assert (dosing.fill_s, screening.again_after_s) == (wanted["fill"], wanted["again_after"])


def test_smoke_applications_close_in_from_thirty_to_fifteen_centimetres() -> None:
    dosing = BY_ID["smoke"].dosing
    assert dosing is not None
    for wanted in TABLE["smoke"]["passes"]:
        assert wanted in dosing.applications[0].what, "all of them before the first exercise"
    exercises = BY_ID["smoke"].exercises()
    assert [one.in_sum for one in exercises] == [False, *[True] * 7], "29 CFR 1910.134 App. A B.5(c) 4 to 6, recalled"
    starts = [sum(each.seconds for each in exercises[:n]) for n in range(len(exercises))]
    assert [one.at_s for one in dosing.applications] == starts
    assert all("At 15 cm" in one.what for one in dosing.applications[1:])


@pytest.mark.parametrize("row", TABLE["set"], ids=lambda row: str(row["threshold"]))
def test_the_threshold_is_the_set_it_was_tasted_in(row: dict[str, Any]) -> None:
    assert {threshold_set((10, 20, 30), one) for one in row["squeezes"]} == {row["threshold"]}


@given(st.integers(-5, 60))
def test_a_threshold_is_only_ten_twenty_thirty_or_none(squeezes: int) -> None:
    found = threshold_set((10, 20, 30), squeezes)
    assert found in (0, 10, 20, 30)
    assert (found == 0) == (not 1 <= squeezes <= 30)
    assert found == 0 or found - 10 < squeezes <= found


def test_a_recipe_for_nothing_is_no_recipe() -> None:
    with pytest.raises(ValueError, match="above zero"):
        scaled(BY_ID["taste-sweet"].recipe[0], Fraction(0))


@pytest.mark.parametrize(
    ("change", "where"),
    [
        (lambda one: one.pop("words"), "words"),
        (lambda one: one["screening"].update(sets=[]), "screening.sets"),
        (lambda one: one["dosing"].update(count=14), "dosing"),
        (lambda one: one["dosing"].update(begins="filled"), "fill_s"),
        (lambda one: one["exercise"][6].update(stands_for="hop"), "stands_for"),
    ],
)
def test_a_protocol_that_makes_no_sense_is_named(change: Any, where: str) -> None:
    data = encode(BY_ID["taste-sweet"])
    change(data)
    with pytest.raises(DataError, match=where):
        read_protocol(data, "mine.toml")


# ---- a run to its end, and every way it is spoilt


@pytest.mark.parametrize("agent", AGENTS)
def test_to_the_end_without_it_is_a_pass_once_all_is_answered(agent: str) -> None:
    bench = bench_for(agent)
    bench.smell()
    assert outcome(bench.visit, bench.visit.tries[-1])[0] == "unfinished"
    assert finish(bench) == "pass"
    view = bench.view.tries[-1]
    assert view.overall == "" and view.level == "" and view.bound == "", "never a number"
    assert view.senses is not None and view.senses.threshold == (20 if agent in ("sweet", "bitter") else 0)


@pytest.mark.parametrize("agent", AGENTS)
@pytest.mark.parametrize("second", [0, 61, 199, 419])
@pytest.mark.parametrize("by", ["tester", "wearer"])
def test_sensed_at_any_second_is_a_fail_with_exercise_and_second(agent: str, second: int, by: Any) -> None:
    bench = bench_for(agent)
    run_id = bench.sense()
    if BY_ID[bench.visit.tries[-1].started.protocol_id].dosing.begins == "first_dose":  # type: ignore[union-attr]
        bench.say(ev.DoseGiven(run_id), 20)
    bench.note(ev.Detected(run_id, by), second * 1000)
    one = bench.visit.tries[-1]
    result, reasons = outcome(bench.visit, one)
    assert result == "fail" and f"second {second}" in reasons[0].sentence
    assert one.detection is not None and one.detection.exercise == second // 60
    assert not one.is_running


@pytest.mark.parametrize("agent", ["sweet", "odour"])
def test_sensed_before_the_first_exercise_fails_too(agent: str) -> None:
    """From hood on, or from entering the chamber; 29 CFR 1910.134 App. A Part I.B (recalled)."""
    bench = bench_for(agent)
    run_id = bench.sense()
    bench.say(ev.Detected(run_id, "wearer"), 3)
    assert outcome(bench.visit, bench.visit.tries[-1])[0] == "fail"


@pytest.mark.parametrize("skip", [1, 7, 13])
def test_a_dose_not_pressed_voids(skip: int) -> None:
    bench = bench_for("sweet")
    bench.smell(skip=skip)
    result, reasons = outcome(bench.visit, bench.visit.tries[-1])
    assert result == "void" and f"Dose {skip}" in reasons[0].sentence


def test_doses_further_apart_than_thirty_five_seconds_void() -> None:
    bench = bench_for("bitter")
    run_id = bench.sense()
    bench.say(ev.DoseGiven(run_id), 20)
    for number in range(1, 14):
        late = -4500 if number == 5 else 4800 if number == 6 else 0
        bench.note(ev.DoseGiven(run_id), number * 30_000 + late)
    bench.note(ev.QualitativeEnded(run_id, 0), 421_000)
    result, reasons = outcome(bench.visit, bench.visit.tries[-1])
    assert result == "void" and [one.code for one in reasons] == ["dose_gap"]


@given(st.lists(st.integers(-20_000, 440_000), max_size=25))
def test_extra_doses_move_nothing(extra: list[int]) -> None:
    """Doses on their beat stay counted for their slots whatever else was pressed away from every slot."""
    protocol = BY_ID["taste-sweet"]
    slots = protocol.slots(20)
    assert protocol.dosing is not None
    away = [one for one in extra if all(abs(one - slot.at_ms) > 5000 for slot in slots)]
    plain = [slot.at_ms for slot in slots]
    assert counted_doses(slots, protocol.dosing, plain + away) == counted_doses(slots, protocol.dosing, plain)
    assert None in counted_doses(slots, protocol.dosing, plain[:5] + plain[6:] + away)


@pytest.mark.parametrize(
    ("agent", "said", "outcome_wanted"),
    [
        ("sweet", ev.Touched(moved=True), "void"),
        ("sweet", ev.Touched(moved=False), "unfinished"),
        ("bitter", ev.Adjusted("strap"), "void"),
        ("odour", ev.Doffed("lifted"), "void"),
        ("smoke", ev.EyesOpened(), "void"),
        ("sweet", ev.EyesOpened(), "void"),
        ("smoke", ev.Distress(), "unfinished"),
        ("bitter", ev.Stopped(), "unfinished"),
    ],
)
def test_what_happens_in_mid_run(agent: str, said: ev.Payload, outcome_wanted: str) -> None:
    bench = bench_for(agent)
    run_id = bench.sense()
    if agent != "odour":
        bench.say(ev.DoseGiven(run_id), 20)
    bench.note(said, 10_000)
    assert outcome(bench.visit, bench.visit.tries[-1])[0] == outcome_wanted
    assert bench.visit.distress == isinstance(said, ev.Distress)


def test_stopping_after_a_missed_dose_is_void_with_that_reason() -> None:
    bench = bench_for("sweet")
    run_id = bench.sense()
    bench.say(ev.DoseGiven(run_id), 20)
    bench.at += timedelta(seconds=36)
    assert bench.view.run is not None and bench.view.run.sensing is not None
    assert [one.state for one in bench.view.run.sensing.doses][:2] == ["missed", "due"]
    bench.say(ev.Stopped(), 1)
    result, reasons = outcome(bench.visit, bench.visit.tries[-1])
    assert result == "void" and reasons[0].code == "dose_missed"


def test_ending_early_is_refused_and_a_screen_that_was_away_voids() -> None:
    bench = bench_for("odour")
    run_id = bench.sense()
    with pytest.raises(Refused, match="another"):
        bench.note(ev.QualitativeEnded(run_id, 0), 400_000)
    bench.note(ev.QualitativeEnded(run_id, 5_100), 421_000)
    result, reasons = outcome(bench.visit, bench.visit.tries[-1])
    assert result == "void" and reasons[0].code == "unwatched"


@pytest.mark.parametrize("agent", ["odour", "smoke"])
def test_a_proof_that_is_not_sensed_voids(agent: str) -> None:
    bench = bench_for(agent)
    run_id = bench.smell()
    if agent == "smoke":
        with pytest.raises(Refused, match="facepiece off"):
            bench.say(ev.ProofSensed(run_id, True))
        bench.say(ev.Doffed("done"))
    bench.say(ev.ProofSensed(run_id, False))
    assert finish(bench) == "void"
    assert [one.next for one in bench.view.offers] == [
        "same_again",
        "other_size",
        "other_facepiece",
        "other_method",
        "end",
    ]


def test_the_wearers_mistake_voids_and_nothing_revives_it() -> None:
    bench = bench_for("sweet")
    run_id = bench.sense()
    bench.say(ev.DoseGiven(run_id), 20)
    bench.note(ev.Detected(run_id, "wearer"), 95_000)
    with pytest.raises(Refused, match="reason"):
        bench.say(ev.DetectionMistaken(run_id, " "))
    bench.say(ev.DetectionMistaken(run_id, "brushed the screen"))
    assert outcome(bench.visit, bench.visit.tries[-1])[0] == "void"
    for said in (ev.QualitativeEnded(run_id, 0), ev.DetectionMistaken(run_id, "again")):
        visit = step(bench.visit, bench.event(said))
        assert outcome(visit, visit.tries[-1])[0] == "void"


def test_the_testers_own_press_is_no_mistake() -> None:
    bench = bench_for("sweet")
    run_id = bench.sense()
    bench.say(ev.Detected(run_id, "tester"), 3)
    with pytest.raises(Refused, match="tester pressed"):
        bench.say(ev.DetectionMistaken(run_id, "not so"))


def test_a_late_detection_from_within_the_run_undoes_a_pass() -> None:
    """A press on the wearer's screen that was kept while the network was away, and from before the hood came off."""
    bench = bench_for("bitter")
    run_id = bench.smell()
    assert finish(bench) == "pass"
    t0 = bench.visit.tries[-1].t0
    assert t0 is not None
    late = bench.event(ev.Detected(run_id, "wearer"), t0 + timedelta(seconds=300))
    visit = step(bench.visit, late)
    assert outcome(visit, visit.tries[-1])[0] == "fail"
    after = step(bench.visit, bench.event(ev.Detected(run_id, "wearer"), t0 + timedelta(seconds=500)))
    assert outcome(after, after.tries[-1])[0] == "pass", "pressed after the hood was off: recorded, asked about"
    assert any(one.code == "detected_late" for one in after.tries[-1].remarks)


def test_a_clogged_nebuliser_at_the_end_voids() -> None:
    bench = bench_for("sweet")
    bench.smell()
    bench.until("after_sprays")
    bench.answer("after_sprays", "not_fine")
    assert outcome(bench.visit, bench.visit.tries[-1])[0] == "void"


# ---- screening


def test_no_threshold_by_thirty_puts_the_agent_out_and_the_advice_says_what_is_left() -> None:
    bench = Bench(shipped_rules(), method="sweet", opened_on="2026-03-02")
    bench.until("screen", PIECES["sweet"])
    bench.screen(detect=False)
    assert bench.visit.out == {"sweet"}
    bench.until("choose_method")
    with pytest.raises(Refused, match="not tasted"):
        bench.say(ev.MethodChosen("sweet"))
    bench.say(ev.MethodChosen("bitter"))
    bench.method = "bitter"
    bench.until("run")
    bench.smell()
    assert finish(bench) == "pass"


def test_the_thirty_first_squeeze_is_refused_and_tasting_before_the_first_is_no_threshold() -> None:
    bench = Bench(shipped_rules(), method="bitter", opened_on="2026-03-02")
    bench.until("screen", PIECES["bitter"])
    made = ev.ScreeningStarted(
        "s", "bitter", "taste-bitter", nebuliser("bitter", "threshold", bench.at), (), "2026-03-02"
    )
    bench.say(made)
    bench.say(ev.Detected("s", "wearer"))
    assert bench.visit.screenings[-1].result == "spoilt"
    bench.say(ev.ScreeningStarted(**{**encode_shallow(made), "screening_id": "t"}))
    for _ in range(29):
        bench.say(ev.Squeezed("t"), 1)
    with pytest.raises(Refused, match="29 of 30"):
        bench.say(ev.Screened("t", "none"))
    bench.say(ev.Squeezed("t"), 1)
    with pytest.raises(Refused, match="30 squeezes are the last"):
        bench.say(ev.Squeezed("t"), 1)
    bench.say(ev.Detected("t", "tester"), 1)
    assert bench.visit.screening is not None and bench.visit.screening.threshold == 30


def encode_shallow(payload: Any) -> dict[str, Any]:
    """The fields of a payload, by name."""
    return {name: getattr(payload, name) for name in payload.__dataclass_fields__ if name != "kind"}


def test_the_wrong_jar_is_out_and_after_a_test_five_minutes_are_waited() -> None:
    bench = Bench(shipped_rules(), method="odour", opened_on="2026-03-02")
    bench.until("screen", PIECES["odour"])
    bench.screen(detect=False)
    assert bench.visit.out == {"odour"}
    again = bench_for("odour")
    again.say(ev.Detected(again.sense(), "tester"), 5)
    again.say(ev.Decided("other_size"))
    again.until("screen", facepiece(filter_kind="combined", cover="palms", size="L"))
    again.screen(detect=False)
    assert again.visit.out == frozenset(), "smelt it before: the nose is tired, not the person"
    with pytest.raises(Refused, match="Wait another"):
        again.screen()
    again.at += timedelta(seconds=300)
    again.screen()
    assert again.visit.screening is not None and again.visit.screening.is_passed


def test_it_is_not_donned_before_it_is_screened_and_clear() -> None:
    bench = Bench(shipped_rules(), method="sweet", opened_on="2026-03-02")
    bench.until("screen", PIECES["sweet"])
    with pytest.raises(Refused, match="screening comes first"):
        bench.say(ev.Donned(True))
    bench.screen()
    with pytest.raises(Refused, match="cleared"):
        bench.say(ev.Donned(True))
    shown = bench.view
    assert any(one.code == "cleared" and one.gravity == "waiting" for one in shown.between)


def test_eating_a_moment_ago_holds_up_the_screening_not_the_rest() -> None:
    bench = Bench(shipped_rules(), method="sweet", opened_on="2026-03-02")
    bench.until("eating", PIECES["sweet"])
    bench.answer("eating", "not_fine", minutes_ago=5)
    bench.until("screen")
    assert (bench.at - START).total_seconds() >= 600, "ten of the fifteen minutes were left"


@pytest.mark.parametrize(
    ("change", "code"),
    [
        ({"nebuliser": None}, "nebuliser_missing"),
        ({"role": "threshold"}, "nebuliser_role"),
        ({"use_by": "2026-03-01"}, "lot_expired"),
        ({"agent": "bitter"}, "lot_agent"),
        ({"filled": 5}, "refill"),
        ({"unchecked": True}, "spray_check"),
    ],
)
def test_the_kit_is_checked_when_the_test_starts(change: dict[str, Any], code: str) -> None:
    bench = bench_for("sweet")
    held = nebuliser("sweet", "fit", bench.at)
    if "nebuliser" in change:
        held = None
    elif "role" in change:
        held = nebuliser("sweet", "threshold", bench.at)
    elif "filled" in change:
        held = nebuliser("sweet", "fit", bench.at, filled_at=ev.instant(bench.at - timedelta(hours=5)))
    elif "unchecked" in change:
        held = nebuliser("sweet", "fit", bench.at, checked_at=ev.instant(bench.at - timedelta(hours=2)))
    else:
        held = nebuliser("sweet", "fit", bench.at, lot=lot("sweet", "fit", **change))
    with pytest.raises(Refused) as refused:
        bench.sense(nebuliser=held)
    assert refused.value.refusal.code == code


def test_smoke_is_off_where_the_book_says_so_and_cautions_are_acknowledged_once_a_day() -> None:
    assert shipped_rules("gb-hse-indg479").book.yes("smoke.allowed") is not True
    bench = Bench(shipped_rules(), method="smoke", opened_on="2026-03-02")
    bench.until("choose_method", PIECES["smoke"])
    bench.say(ev.MethodChosen("smoke", "2026-03-01"))
    asked = {one.item.id for one in standings_of(bench)}
    assert "smoke_cautions" in asked
    bench.say(ev.MethodChosen("smoke", "2026-03-02"))
    assert "smoke_cautions" not in {one.item.id for one in standings_of(bench)}
    with pytest.raises(Refused, match="highest class"):
        Bench(shipped_rules(), method="smoke").until("run", facepiece(filter_class="95-type"))


def standings_of(bench: Bench) -> Any:
    """Where every item stands now."""
    from moorfog.core.visit.steps import step_states

    return step_states(bench.visit, bench.at)


# ---- any order of events


def _any_event(run_id: str, screening_id: str) -> st.SearchStrategy[ev.Payload]:
    return st.one_of(
        st.just(ev.DoseGiven(run_id)),
        st.just(ev.Detected(run_id, "tester")),
        st.just(ev.Detected(screening_id, "wearer")),
        st.just(ev.QualitativeEnded(run_id, 0)),
        st.just(ev.QualitativeEnded(run_id, 60_000)),
        st.builds(ev.ProofSensed, st.just(run_id), st.booleans()),
        st.just(ev.DetectionMistaken(run_id, "x")),
        st.just(ev.EyesOpened()),
        st.just(ev.Stopped()),
        st.just(ev.Doffed("done")),
        st.just(ev.Squeezed(screening_id)),
        st.builds(ev.Screened, st.just(screening_id), st.sampled_from(["none", "left", "right"])),
        st.just(ev.MethodChosen("sweet")),
        st.builds(ev.Touched, st.booleans()),
    )


@settings(max_examples=60, deadline=None)
@given(st.data(), st.sampled_from(AGENTS))
def test_never_a_pass_after_a_detection_with_a_missed_dose_or_a_question_open(data: st.DataObject, agent: str) -> None:
    """Whatever order events come in, also orders no screen offers: the log is folded without asking admission."""
    bench = bench_for(agent)
    run_id = bench.sense()
    begun = bench.visit.tries[-1]
    protocol = BY_ID[begun.started.protocol_id]
    slots = protocol.slots(begun.sensed.threshold if begun.sensed else 0)
    moments = sorted(data.draw(st.lists(st.integers(0, 440), min_size=0, max_size=20)))
    said: list[tuple[float, ev.Payload]] = [(20.0 + at, data.draw(_any_event(run_id, "none"))) for at in moments]
    if data.draw(st.booleans()):
        first = [0] if protocol.dosing and protocol.dosing.begins == "first_dose" else []
        said += [(20.0 + ms / 1000, ev.DoseGiven(run_id)) for ms in (*first, *(slot.at_ms for slot in slots))]
        said.append((565.0, ev.QualitativeEnded(run_id, 0)))
    said.sort(key=lambda one: one[0])
    bench_start = bench.at
    for after, payload in said:
        bench.event(payload, bench.at + timedelta(seconds=after))
    visit = fold(bench.log, bench.rules)
    one = visit.tries[-1]
    assert outcome(visit, one)[0] != "pass", "the questions at the end were never answered"
    if one.detection is not None:
        assert outcome(visit, one)[0] in ("fail", "void")
    bench.visit, bench.at = visit, bench.at + timedelta(seconds=600)
    if finish(bench) != "pass":
        return
    assert one.detection is None and one.t0 is not None and one.ended_at is not None
    assert (one.ended_at - one.t0).total_seconds() >= protocol.total_s, "no exercise is missing"
    given = [round((dose - one.t0).total_seconds() * 1000) for dose in one.doses[1:]]
    assert protocol.dosing is not None
    assert None not in counted_doses(slots, protocol.dosing, given), "no dose is missing"
    until = [payload for at, payload in said if bench_start + timedelta(seconds=at) <= one.ended_at]
    assert not any(isinstance(payload, (ev.EyesOpened, ev.Stopped, ev.Doffed)) for payload in until)
    assert ev.Touched(moved=True) not in until
