"""What is refused around a test by taste, smell or smoke, in which words, and where exactly the bounds are."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any

import pytest

from moorfog.core.events import payloads as ev
from moorfog.core.qualitative.judgement import KIT_WORDS
from moorfog.core.transitions.admit import admit
from moorfog.core.transitions.fold import step
from moorfog.core.visit.blocks import run_blocks
from moorfog.core.visit.outcomes import outcome
from moorfog.core.visit.refusal import Refusal
from moorfog.data import shipped_rules
from tests.core.bench import Bench, Refused, day, facepiece, lot, nebuliser, task
from tests.core.test_qualitative import PIECES, bench_for


def said(bench: Bench, payload: ev.Payload, at: datetime | None = None) -> Refusal | None:
    """What the core says to a proposal, which is not made."""
    when = at or bench.at + timedelta(seconds=1)
    return admit(bench.visit, payload, when, when)


def code(bench: Bench, payload: ev.Payload, at: datetime | None = None) -> str:
    """Why a proposal is refused; nothing where it is not."""
    found = said(bench, payload, at)
    return found.code if found is not None else ""


def at_screening(method: str = "sweet") -> Bench:
    bench = Bench(shipped_rules(), method=method, opened_on="2026-03-02")
    bench.until("screen", PIECES[method])
    return bench


def screening(bench: Bench, **changes: Any) -> ev.ScreeningStarted:
    plain: dict[str, Any] = {
        "screening_id": "new",
        "agent": "sweet",
        "protocol_id": "taste-sweet",
        "nebuliser": nebuliser("sweet", "threshold", bench.at),
        "lots": (),
        "used_on": day(bench.at),
    }
    return ev.ScreeningStarted(**{**plain, **changes})


def test_a_screening_is_by_the_method_chosen_and_by_no_other() -> None:
    bench = at_screening()
    assert code(bench, screening(bench)) == ""
    assert code(bench, screening(bench, protocol_id="no-such")) == "protocol"
    assert code(bench, screening(bench, protocol_id="taste-bitter")) == "protocol"
    assert code(bench, screening(bench, agent="bitter")) == "protocol"
    of_bitter = {"agent": "bitter", "protocol_id": "taste-bitter"}
    assert (
        code(bench, screening(bench, **of_bitter, nebuliser=nebuliser("bitter", "threshold", bench.at))) == "protocol"
    )


def test_the_first_thing_wrong_with_the_kit_is_said_first() -> None:
    bench = at_screening()
    wrong = nebuliser("sweet", "fit", bench.at, filled_at=ev.instant(bench.at - timedelta(days=2)), checked_at="")
    found = said(bench, screening(bench, nebuliser=wrong))
    assert found is not None and found.code == "nebuliser_role" and KIT_WORDS["nebuliser_role"][1] == found.remedy


def test_a_screening_is_refused_while_anything_stands_in_its_way() -> None:
    bench = at_screening()
    bench.say(screening(bench, screening_id="s"))
    assert code(bench, screening(bench)) == "screening"
    bench.say(ev.Squeezed("s"), 1)
    bench.say(ev.Detected("s", "tester"), 1)
    assert code(bench, screening(bench)) == "screened"
    bench.until("run")
    assert code(bench, screening(bench)) == "worn"
    run = bench.sense()
    assert code(bench, screening(bench)) == code(bench, ev.MethodChosen("sweet")) == "run_over", "while it runs"
    bench.say(ev.Detected(run, "tester"), 5)
    assert bench.visit.running is None and bench.visit.current_try is not None
    assert code(bench, screening(bench)) == code(bench, ev.MethodChosen("sweet")) == "run_over", "and once it is over"


def test_after_a_test_the_mouth_is_clear_at_the_very_second() -> None:
    bench = bench_for("odour")
    bench.say(ev.Detected(bench.sense(), "tester"), 5)
    bench.say(ev.Decided("other_size"))
    bench.until("screen", facepiece(filter_kind="combined", cover="palms", size="L"))
    bench.screen(detect=False)
    clear = bench.visit.clear_at()
    assert clear is not None
    jars = screening(bench, agent="odour", protocol_id="odour", nebuliser=None, odour_jar="left")
    lots = tuple(lot("odour", role) for role in ("odour_jar", "blank_jar"))
    jars = replace(jars, lots=lots)
    early = said(bench, jars, clear - timedelta(seconds=2))
    assert early is not None and early.code == "not_clear" and "another 2 s" in early.sentence
    assert code(bench, jars, clear) != "not_clear"


def test_a_method_is_chosen_for_a_facepiece_and_for_what_the_task_needs() -> None:
    bench = Bench(shipped_rules(), method="sweet", opened_on="2026-03-02")
    bench.until("choose_facepiece")
    assert code(bench, ev.MethodChosen("sweet")) == "no_facepiece"
    for much, wanted in (("100", ""), ("900", "method")):
        bench = Bench(shipped_rules(), method="sweet", opened_on="2026-03-02")
        bench.task = task(
            contaminants=tuple(replace(one, concentration=much, limit="20") for one in task().contaminants)
        )
        bench.until("choose_method", facepiece(kind="full"))
        assert code(bench, ev.MethodChosen("sweet")) == wanted, "by taste a full one is good for ten times the limit"


def test_a_squeeze_belongs_to_its_screening_and_to_its_time() -> None:
    bench = at_screening()
    assert code(bench, ev.Squeezed("s")) == "no_screening", "none was begun"
    bench.say(screening(bench, screening_id="s"))
    assert code(bench, ev.Squeezed("s")) == "" and code(bench, ev.Squeezed("other")) == "no_screening"
    assert code(bench, ev.Screened("other", "none")) == "no_screening"
    bench.say(ev.Squeezed("s"), 1)
    bench.say(ev.Detected("s", "tester"), 1)
    ended = bench.visit.screenings[-1].ended_at
    assert ended is not None
    assert code(bench, ev.Squeezed("s"), ended) == "", "given before it was tasted, heard only now"
    assert code(bench, ev.Squeezed("other"), ended) == "no_screening"
    assert code(bench, ev.Squeezed("s"), ended + timedelta(seconds=1)) == "no_screening"
    assert code(bench, ev.Screened("s", "none")) == "no_screening"


def test_the_last_screening_is_the_one_a_late_squeeze_is_of() -> None:
    bench = at_screening()
    for name in ("s", "t"):
        bench.say(screening(bench, screening_id=name))
        bench.say(ev.Detected(name, "wearer"), 1)
    assert [one.result for one in bench.visit.screenings] == ["spoilt", "spoilt"]
    first, last = (one.ended_at for one in bench.visit.screenings)
    assert first is not None and last is not None
    assert code(bench, ev.Squeezed("t"), last) == "" and code(bench, ev.Squeezed("s"), first) == "no_screening"


def test_a_run_starts_once_with_the_threshold_it_was_screened_at_and_when_nothing_stands_open() -> None:
    bench = bench_for("sweet")
    screened = bench.visit.screening
    assert screened is not None
    with pytest.raises(Refused) as other:
        bench.sense(threshold=screened.threshold + 10)
    assert other.value.refusal.code == "threshold"
    early = Bench(shipped_rules(), method="sweet", opened_on="2026-03-02")
    early.until("choose_facepiece")
    early.say(ev.FacepieceChosen(PIECES["sweet"]))
    blocks = run_blocks(early.visit, early.at + timedelta(seconds=1))
    assert len({one.code for one in blocks}) > 2
    found = said(early, ev.QualitativeStarted("r", "sweet", "taste-sweet", 10, None, (), day(early.at), True))
    assert found is not None and found.code == blocks[0].code
    assert found.remedy == (blocks[0].detail or "Settle it first.")
    run = bench.sense()
    with pytest.raises(Refused, match="running"):
        bench.sense()
    bench.say(ev.Detected(run, "tester"), 5)
    with pytest.raises(Refused, match="undecided"):
        bench.sense()


def test_a_stop_says_what_to_do_about_it() -> None:
    bench = bench_for("sweet")
    bench.say(ev.Distress())
    (first, *_) = run_blocks(bench.visit, bench.at)
    found = said(bench, ev.QualitativeStarted("r", "sweet", "taste-sweet", 10, None, (), day(bench.at), True))
    assert found is not None and (found.code, found.remedy) == (first.code, first.detail) and first.detail


def test_a_mistake_is_of_this_run_and_of_a_detection_there_was() -> None:
    bench = bench_for("sweet")
    assert code(bench, ev.DetectionMistaken("run-1", "not so")) == "no_detection"
    run = bench.sense()
    assert code(bench, ev.DetectionMistaken(run, "not so")) == "no_detection"
    bench.say(ev.DoseGiven(run), 20)
    bench.note(ev.Detected(run, "wearer"), 95_000)
    assert code(bench, ev.DetectionMistaken("another", "not so")) == "no_detection"
    assert code(bench, ev.DetectionMistaken(run, "not so")) == ""


def test_a_run_ends_by_its_own_id_and_at_its_very_last_second() -> None:
    bench = bench_for("odour")
    assert code(bench, ev.QualitativeEnded("run-1", 0)) == "run_over"
    run = bench.sense()
    ends = bench.visit.run_ends_at(bench.visit.tries[-1])
    assert ends is not None
    assert code(bench, ev.QualitativeEnded("another", 0), ends) == "run_over"
    assert code(bench, ev.QualitativeEnded(run, 0), ends - timedelta(seconds=1)) == "too_early"
    assert code(bench, ev.QualitativeEnded(run, 0), ends) == ""


def test_a_proof_is_of_a_verdict_that_is_held() -> None:
    bench = bench_for("odour")
    assert code(bench, ev.ProofSensed("run-1", True)) == "nothing_held"
    run = bench.sense()
    assert code(bench, ev.ProofSensed(run, True)) == "nothing_held", "while it runs"
    held = bench_for("odour")
    run = held.smell()
    assert held.visit.tries[-1].numbers.state == "held"
    assert code(held, ev.ProofSensed("another", True)) == "nothing_held"
    assert code(held, ev.ProofSensed(run, True)) in ("", "worn")


@pytest.mark.parametrize(("squeezes", "raised"), [(10, True), (20, True), (14, False), (9, False)])
def test_a_late_squeeze_that_raises_the_threshold_spoils_the_test_given_by_the_lower_one(
    squeezes: int, raised: bool
) -> None:
    bench = at_screening()
    bench.screen(squeezes=squeezes)
    bench.until("run")
    bench.sense()
    ended, name = bench.visit.screenings[-1].ended_at, bench.visit.screenings[-1].started.screening_id
    assert ended is not None
    visit = step(bench.visit, bench.event(ev.Squeezed(name), ended))
    result, reasons = outcome(visit, visit.tries[-1])
    assert (result == "void") is raised
    assert not raised or [one.code for one in reasons] == ["threshold"]


def test_what_was_sensed_is_said_with_its_second() -> None:
    bench = bench_for("sweet")
    run = bench.sense()
    bench.say(ev.DoseGiven(run), 20)
    bench.note(ev.Detected(run, "wearer"), 95_999)
    result, reasons = outcome(bench.visit, bench.visit.tries[-1])
    assert result == "fail" and reasons[0].sentence.endswith("second 95.")


def test_squeezes_end_with_the_last_set_and_jars_have_none() -> None:
    bench = at_screening()
    bench.say(screening(bench, screening_id="s"))
    for _ in range(30):  # three sets of ten, 29 CFR 1910.134 Appendix A, I.B.4(a), recalled
        assert code(bench, ev.Squeezed("s")) == "" and code(bench, ev.Screened("s", "none")) == "sets_left"
        bench.say(ev.Squeezed("s"), 1.2)
    assert code(bench, ev.Squeezed("s")) == "last_set" and code(bench, ev.Screened("s", "none")) == ""
    jars = at_screening("odour")
    lots = tuple(lot("odour", role) for role in ("odour_jar", "blank_jar"))
    plain = {"agent": "odour", "protocol_id": "odour", "nebuliser": None, "odour_jar": "left"}
    jars.say(screening(jars, screening_id="j", **plain, lots=lots))
    assert code(jars, ev.Squeezed("j")) == "last_set"


@pytest.mark.parametrize(("squeezes", "result"), [(29, "spoilt"), (30, "none")])
def test_not_tasted_is_a_result_only_after_the_last_squeeze_whatever_the_log_says(squeezes: int, result: str) -> None:
    bench = at_screening()
    bench.say(screening(bench, screening_id="s"))
    for _ in range(squeezes):
        bench.say(ev.Squeezed("s"), 1.2)
    visit = step(bench.visit, bench.event(ev.Screened("s", "none"), bench.at + timedelta(seconds=1)))
    assert visit.screenings[-1].result == result


@pytest.mark.parametrize(("later_s", "counts"), [(-1, True), (0, True), (1, False)])
def test_a_dose_that_is_heard_late_counts_up_to_the_end_of_its_run(later_s: int, counts: bool) -> None:
    bench = bench_for("sweet")
    run = bench.sense()
    bench.say(ev.DoseGiven(run), 20)
    bench.note(ev.Detected(run, "wearer"), 95_000)
    ended, before = bench.visit.tries[-1].ended_at, len(bench.visit.tries[-1].doses)
    assert ended is not None
    visit = step(bench.visit, bench.event(ev.DoseGiven(run), ended + timedelta(seconds=later_s)))
    assert len(visit.tries[-1].doses) - before == counts


@pytest.mark.parametrize(("after_s", "result"), [(-1, "fail"), (0, "fail"), (1, "held")])
def test_what_is_sensed_counts_up_to_the_answer_that_closes_the_senses(after_s: int, result: str) -> None:
    bench = bench_for("odour")
    run = bench.smell()
    closing = next(
        one for one in bench.rules.procedure.item if one.closes_senses and "odour" in (one.when.methods or ("odour",))
    )
    bench.until(closing.id)
    bench.answer(bench.view.queue[0])
    asked = next(one.at for one in bench.visit.asked if one.question == closing.id)
    visit = step(bench.visit, bench.event(ev.Detected(run, "wearer"), asked + timedelta(seconds=after_s)))
    assert (outcome(visit, visit.tries[-1])[0] == "fail") is (result == "fail")
    assert any(one.code == "detected_late" for one in visit.tries[-1].remarks) is (result == "held")


@pytest.mark.parametrize(("after_s", "counts"), [(-1, True), (0, True), (1, False)])
def test_without_a_question_that_closes_the_senses_the_hood_does(after_s: int, counts: bool) -> None:
    bench = bench_for("odour")
    run = bench.smell()
    procedure = bench.rules.procedure
    left = tuple(one for one in procedure.item if not one.closes_senses)
    visit = replace(bench.visit, rules=replace(bench.rules, procedure=replace(procedure, item=left)))
    ended = visit.tries[-1].ended_at
    assert ended is not None
    after = step(visit, bench.event(ev.Detected(run, "wearer"), ended + timedelta(seconds=after_s)))
    assert (after.tries[-1].detection is not None) is counts
