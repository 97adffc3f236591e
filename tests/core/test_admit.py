"""Every refusal of the core: what cannot be done when, in words a tester could say, and that it changes nothing."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from typing import Any

import pytest

from moorfog.core.events import payloads as ev
from moorfog.core.rules.book import Rules
from moorfog.core.transitions.admit import FUTURE_TOLERANCE, admit
from moorfog.core.visit.state import Visit
from tests.core.bench import BAD_FACTORS, Bench, Refused, counter, facepiece, task


def at(act: str) -> Callable[[Rules], Bench]:
    def make(rules: Rules) -> Bench:
        bench = Bench(rules)
        bench.until(act)
        return bench

    return make


def running(rules: Rules) -> Bench:
    bench = at("run")(rules)
    bench.start()
    return bench


def typing(rules: Rules) -> Bench:
    bench = at("run")(rules)
    bench.start("typed")
    bench.at += timedelta(seconds=160)
    return bench


def failed(rules: Rules) -> Bench:
    bench = at("run")(rules)
    bench.run(BAD_FACTORS)
    return bench


def passed(rules: Rules) -> Bench:
    bench = at("run")(rules)
    bench.run()
    bench.until("doff")
    return bench


def closed(rules: Rules) -> Bench:
    bench = passed(rules)
    bench.until("release")
    bench.do("release")
    return bench


def started(**changes: Any) -> ev.RunStarted:
    plain: dict[str, Any] = {
        "run_id": "r",
        "source": "counter",
        "method": "fast_count",
        "protocol_id": "fast-count-elastomeric",
        "mode": "ordinary",
        "level": "100",
        "count_in_ms": 5000,
        "instrument": counter(),
    }
    return ev.RunStarted(**{**plain, **changes})


def row(**changes: Any) -> ev.TypedExercise:
    return ev.TypedExercise(**{"outside": "5300", "inside": "4", "factor": None, **changes})


def typed(*rows: ev.TypedExercise, resolution: str = "1", run: str = "run-1") -> ev.NumbersTyped:
    return ev.NumbersTyped(run, resolution, rows or (row(), row(), row(), row()))


FRESH = at("identity")
CASES: list[tuple[str, Callable[[Rules], Bench], ev.Payload]] = [
    ("already_open", FRESH, ev.VisitOpened("p", "e", "s", "UTC", "A", False, 1, "")),
    ("unknown_question", FRESH, ev.Answered("shoe_size", "fine", "")),
    ("unknown_question", FRESH, ev.Answered("don", "fine", "")),
    ("facts_changed", FRESH, ev.Answered("inspected", "fine", "0" * 64)),
    ("no_facepiece", FRESH, ev.ProbeFitted(("valve_cover",), ())),
    ("not_ready", FRESH, ev.Donned(True)),
    ("not_worn", FRESH, ev.Adjusted("strap")),
    ("not_worn", FRESH, ev.SealChecked("positive", "holds", "holds")),
    ("no_alteration", FRESH, ev.AlterationUndone("tape:1")),
    ("no_alteration", FRESH, ev.AlterationMade("valve_cover")),
    ("nothing_to_decide", FRESH, ev.Decided("same_again")),
    ("no_pass", FRESH, ev.Withheld("run-1", "why not")),
    ("reason_missing", FRESH, ev.Withheld("run-1", " ")),
    ("reason_missing", FRESH, ev.TurnedAway(" ")),
    ("nothing_held", FRESH, ev.ProofGiven("run-1", True)),
    ("not_yet", FRESH, ev.Released()),
    ("not_yet", FRESH, ev.Signed("wearer", "0" * 64, 1)),
    ("not_closed", FRESH, ev.Corrected(1, "because")),
    ("idlh", FRESH, ev.TaskChosen(task(is_idlh=True))),
    ("already", at("don"), ev.ProbeFitted(("valve_cover",), ())),
    ("alterations", at("probe"), ev.ProbeFitted(("fan",), ())),
    ("worn", at("chin"), ev.Donned(True)),
    ("worn", at("chin"), ev.FacepieceChosen(facepiece(size="L"))),
    ("worn", at("chin"), ev.AlterationUndone("valve_cover:1")),
    ("no_such_check", at("chin"), ev.SealChecked("sideways", "holds", "holds")),  # type: ignore[arg-type]
    ("comfort_nose", at("settle"), started()),
    ("protocol", at("run"), started(protocol_id="fast-count-disposable")),
    ("mode", at("run"), started(mode="classified")),
    ("calibration", at("run"), started(instrument=counter(calibrated_until="2026-03-01"))),
    ("check_clean_air", at("run"), started(instrument=counter(checks=counter().checks[:1]))),
    ("running", running, ev.FacepieceChosen(facepiece())),
    ("running", running, ev.AlterationUndone("valve_cover:1")),
    ("running", running, ev.AlterationMade("tape")),
    ("running", running, ev.TurnedAway("enough")),
    ("run_over", running, ev.TaskChosen(task())),
    ("run_over", running, ev.SealChecked("negative", "holds", "holds")),
    ("worn", running, ev.Donned(True)),
    ("nothing_to_decide", running, ev.Decided("end")),
    ("no_run", running, typed()),
    ("no_run", typing, typed(run="another")),
    ("exercise_missing", typing, typed(row(), row(), row())),
    ("resolution", typing, typed(resolution="0")),
    ("resolution", typing, typed(resolution="0.000001")),
    ("resolution", typing, typed(resolution="fine")),
    ("not_a_number", typing, typed(row(inside="nan"), row(), row(), row())),
    ("both", typing, typed(row(factor="9"), row(), row(), row())),
    ("missing", typing, typed(row(inside=None), row(), row(), row())),
    ("ambient", typing, typed(row(outside="0"), row(), row(), row())),
    ("not_positive", typing, typed(row(outside=None, inside=None, factor="0"), row(), row(), row())),
    ("worn", failed, ev.FacepieceChosen(facepiece())),
    ("run_over", failed, ev.Adjusted("strap")),
    ("run_over", failed, ev.SealChecked("negative", "holds", "holds")),
    ("no_pass", failed, ev.Withheld("run-1", "no")),
    ("alterations_open", passed, ev.Released()),
    ("closed", closed, ev.Donned(True)),
    ("closed", closed, ev.Released()),
    ("closed", closed, ev.Answered("identity", "fine", "")),
    ("reason_missing", closed, ev.Corrected(1, "  ")),
    ("no_target", closed, ev.Corrected(0, "wrong size")),
    ("no_target", closed, ev.Corrected(9999, "wrong size")),
]
NAMES = [f"{code}-{type(payload).__name__}-{index}" for index, (code, _, payload) in enumerate(CASES)]


@pytest.mark.parametrize(("code", "make", "payload"), CASES, ids=NAMES)
def test_a_senseless_step_is_refused_in_words_and_changes_nothing(
    rules: Rules, code: str, make: Callable[[Rules], Bench], payload: ev.Payload
) -> None:
    bench = make(rules)
    before, length = bench.visit, len(bench.log)
    with pytest.raises(Refused) as refused:
        bench.say(payload, 0)
    assert refused.value.refusal.code == code
    assert refused.value.refusal.sentence.strip() and refused.value.refusal.remedy.strip()
    assert bench.visit is before and len(bench.log) == length


def test_nothing_comes_before_the_opening(rules: Rules) -> None:
    bench = Bench(rules)
    refusal = admit(Visit(rules), ev.Donned(True), bench.at, bench.at)
    assert refusal is not None and refusal.code == "not_open"


@pytest.mark.parametrize(("ahead", "taken"), [(0, True), (2, True), (2.001, False), (3600, False), (-3600, True)])
def test_only_the_future_is_refused(rules: Rules, ahead: float, taken: bool) -> None:
    bench = Bench(rules)
    at_ = bench.at + timedelta(seconds=ahead)
    refusal = admit(bench.visit, ev.TurnedAway("no shaving today"), at_, bench.at)
    assert admit(bench.visit, ev.Distress(), at_, bench.at) is None, "a safety press is never refused"
    assert (refusal is None) is taken and timedelta(seconds=2) == FUTURE_TOLERANCE


@pytest.mark.parametrize("make", [FRESH, at("chin"), running, failed, closed])
@pytest.mark.parametrize("payload", [ev.Touched(True), ev.Distress(), ev.Stopped()])
def test_an_observation_is_always_taken(rules: Rules, make: Callable[[Rules], Bench], payload: ev.Payload) -> None:
    bench = make(rules)
    bench.say(payload)
    assert bench.log[-1].payload == payload


def test_a_setup_that_used_up_its_tries_is_not_chosen_again(rules: Rules) -> None:
    bench = Bench(rules)
    for number in range(3):
        bench.until("run")
        bench.run(BAD_FACTORS)
        bench.say(ev.Decided("same_again" if number < 2 else "other_size"))
    with pytest.raises(Refused, match="tries"):
        bench.say(ev.FacepieceChosen(facepiece()))
    bench.say(ev.FacepieceChosen(facepiece(size="L")))
