"""What may come next after a try that did not pass: one rule for counting and for the senses."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from moorfog.core.events import payloads as ev
from moorfog.core.rules.overlay import Overlay
from moorfog.core.transitions.next_steps import cause, failed_configurations, offers, suggested
from moorfog.core.visit.outcomes import outcome
from moorfog.data import lay_over, rules_for, shipped_books, shipped_rules
from tests.core.bench import BAD_FACTORS, Bench, Refused, facepiece

SHELF = tuple(
    facepiece(model_id=model, kind=kind, size=size, suspension=suspension)
    for model, kind in (("a", "half"), ("b", "half"), ("c", "full"))
    for size in ("S", "M", "L")
    for suspension in ("fixed", "drop-down")
)


def tasted(bench: Bench, second: int = 250) -> None:
    """Run and taste at a second from t0."""
    run_id = bench.sense()
    bench.say(ev.DoseGiven(run_id), 20)
    bench.note(ev.Detected(run_id, "wearer"), second * 1000)


def names(bench: Bench) -> list[str]:
    """The offers, in order."""
    return [one.next for one in offers(bench.visit)]


def test_after_a_taste_another_facepiece_and_the_threshold_again() -> None:
    """29 CFR 1910.134 App. A Part I.B.3 and B.4 (recalled)."""
    bench = Bench(shipped_rules(), method="sweet", opened_on="2026-03-02")
    bench.until("run", facepiece())
    tasted(bench)
    assert names(bench) == ["other_size", "other_facepiece", "end"]
    assert "chin and the nose" in cause(bench.visit, bench.visit.tries[-1]), "sensed while talking"
    with pytest.raises(Refused, match="not tried again"):
        bench.say(ev.Decided("same_again"))
    bench.say(ev.Decided("other_size"))
    with pytest.raises(Refused, match="let the agent through"):
        bench.say(ev.FacepieceChosen(facepiece()))
    bench.say(ev.FacepieceChosen(facepiece(size="L")))
    assert bench.visit.method == "sweet", "the method stays"
    bench.until("screen")
    assert bench.visit.screening is None, "the threshold is taken again before each try"


def test_a_site_may_allow_refitting_with_its_reason_and_smoke_allows_it_anyway() -> None:
    book = shipped_books()["us-29cfr1910-134"]
    entry = Overlay("qlft.after_fail", "refit allowed", "our clinician's procedure 7", "", "2026-03-02", "Hollis Grey")
    for method, rules in (("sweet", rules_for(lay_over(book, [entry]))), ("smoke", shipped_rules())):
        bench = Bench(rules, method=method, opened_on="2026-03-02")
        bench.until("run", facepiece())
        tasted(bench)
        assert names(bench)[0] == "same_again"


def test_after_a_count_the_same_is_refitted_until_its_tries_are_used_up() -> None:
    bench = Bench(shipped_rules())
    for number in range(3):
        bench.until("run", facepiece())
        bench.run(BAD_FACTORS)
        assert (names(bench)[0] == "same_again") == (number < 2)
        if number < 2:
            bench.say(ev.Decided("same_again"))
    protocol = bench.rules.protocol_for("ambient_count", "half")
    assert protocol is not None
    assert protocol.exercise[2].look_at in cause(bench.visit, bench.visit.tries[-1]), "the third let most in"


@given(st.sets(st.sampled_from(range(len(SHELF)))), st.sampled_from(range(len(SHELF))))
def test_nothing_that_failed_is_suggested_and_the_same_model_comes_first(failed: set[int], after: int) -> None:
    digests = {SHELF[one].configuration for one in failed}
    found = suggested(SHELF, SHELF[after], digests)
    assert not digests & {one.configuration for one in found}
    assert SHELF[after].configuration not in {one.configuration for one in found}
    assert {one.configuration for one in found} == {
        one.configuration for one in SHELF if one.configuration not in digests and one is not SHELF[after]
    }
    same = [one.model_id == SHELF[after].model_id for one in found]
    assert same == sorted(same, reverse=True)


def test_a_long_face_that_failed_in_large_is_not_sent_to_small() -> None:
    """Common practice: the face decides before the model; of sizes not known the neighbour comes first."""
    here = [facepiece(size=size) for size in ("S", "M", "L")]
    there = [facepiece(model_id="another", size=size) for size in ("S", "M", "L")]
    long_face = suggested([*here, *there], here[2], {here[2].configuration}, lambda one: one.size == "L")
    assert next((one.model_id, one.size) for one in long_face) == ("another", "L")
    assert [one.size for one in long_face if one.model_id != "another"] == ["M", "S"], "kept, but last"
    assert long_face.index(here[0]) > long_face.index(there[2])
    unknown = suggested([*here, *there], here[2], {here[2].configuration})
    assert [one.size for one in unknown][:2] == ["M", "S"] and unknown[0].model_id == here[0].model_id


@settings(max_examples=12, deadline=None)
@given(st.lists(st.sampled_from(["taste", "count"]), min_size=1, max_size=4))
def test_over_a_whole_history_nothing_that_failed_by_taste_comes_back(history: list[str]) -> None:
    """Fails by taste and by count in any order: what let the agent through is refused when it is chosen again."""
    bench = Bench(shipped_rules(), method="sweet", opened_on="2026-03-02")
    for number, kind in enumerate(history):
        left = suggested(SHELF[:12], SHELF[0], failed_configurations(bench.visit))
        bench.method = "ambient_count" if kind == "count" else "sweet"
        bench.until("choose_facepiece")
        bench.say(ev.FacepieceChosen(left[(number * 5) % len(left)]))
        bench.say(ev.MethodChosen("ambient_count" if kind == "count" else "sweet"))
        bench.until("run")
        if kind == "count":
            bench.run(BAD_FACTORS)
        else:
            tasted(bench, 30 + number * 40)
        failed = failed_configurations(bench.visit)
        assert outcome(bench.visit, bench.visit.tries[-1])[0] == "fail" and failed
        if kind != "count":
            assert "same_again" not in names(bench)
        again = suggested(SHELF, SHELF[0], failed)
        assert not failed & {one.configuration for one in again}
        bench.say(ev.Decided("other_facepiece"))
        for one in bench.visit.tries:
            if one.sensed is not None:
                with pytest.raises(Refused):
                    bench.say(ev.FacepieceChosen(one.facepiece))
