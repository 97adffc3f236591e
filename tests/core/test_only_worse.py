"""A try only gets worse, and is judged by when things happened: over every protocol of the five books."""

from __future__ import annotations

from datetime import datetime

import pytest
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st

from moorfog.core.events import payloads as ev
from moorfog.core.visit.circumstances import facts_digest
from moorfog.core.visit.outcomes import outcome
from moorfog.core.visit.steps import is_signed, is_under_question
from moorfog.core.visit.tries import ends_at, is_redonning
from tests.core.all_ways import Way, inserted, outcomes, passing_log, refolded, ways

WAYS = ways()
ON_THE_FACE = (ev.Doffed, ev.Touched, ev.Adjusted)
"""What a protocol with a re-donning allows in it, and nowhere else."""
SLOW = settings(max_examples=6, deadline=None, suppress_health_check=list(HealthCheck))


def run_of(way: Way) -> tuple[datetime, datetime, int]:
    """When the run of a passing log begins and ends, and at which entry it is over."""
    log, _ = passing_log(way)
    visit = refolded(list(log), way)
    one = visit.tries[-1]
    end = ends_at(visit, one)
    assert one.t0 is not None and end is not None
    return one.t0, end, one.seq


def spoilers(way: Way) -> list[ev.Payload]:
    """Observations any of which voids or fails a run in which it happens."""
    log, _ = passing_log(way)
    run_id = refolded(list(log), way).tries[-1].started.run_id
    plain: list[ev.Payload] = [ev.Doffed("lifted"), ev.Touched(True), ev.Adjusted("strap"), ev.Stopped(), ev.Distress()]
    protocol = refolded(list(log), way).rules.protocol(way.protocol)
    if protocol is not None and protocol.is_qualitative:
        plain.append(ev.Detected(run_id, "wearer"))
    if protocol is not None and protocol.family == "smoke":
        plain.append(ev.EyesOpened())
    return plain


@pytest.mark.parametrize("way", WAYS, ids=str)
def test_every_way_passes_when_all_is_well(way: Way) -> None:
    log, _ = passing_log(way)
    visit = refolded(list(log), way)
    assert outcomes(visit) == ["pass"] and is_signed(visit) and visit.closed == "released"


@pytest.mark.parametrize("way", WAYS, ids=str)
@SLOW
@given(st.data())
def test_what_happened_in_the_run_counts_whenever_it_is_heard(way: Way, data: st.DataObject) -> None:
    """Heard in time, after the end, after the seal, after signing, after release: never a pass."""
    log, _ = passing_log(way)
    begin, end, started = run_of(way)
    payload = data.draw(st.sampled_from(spoilers(way)))
    at = begin + (end - begin) * data.draw(st.floats(0.02, 0.6))
    whole = refolded(list(log), way)
    assume(not (isinstance(payload, ON_THE_FACE) and is_redonning(whole, whole.tries[-1], at)))
    place = data.draw(st.integers(started, len(log)))
    visit = refolded(inserted(log, place, payload, at), way)
    assert "pass" not in outcomes(visit)
    if place == len(log):
        assert is_under_question(visit) and not is_signed(visit), "suspended at once, until a tester settles it"


@pytest.mark.parametrize("way", WAYS, ids=str)
@SLOW
@given(st.data())
def test_harmless_notes_change_nothing_whenever_they_are_heard(way: Way, data: st.DataObject) -> None:
    log, _ = passing_log(way)
    begin, end, started = run_of(way)
    payload = data.draw(st.sampled_from([ev.Touched(False), ev.ClockDiffered(4000)]))
    at = begin + (end - begin) * data.draw(st.floats(0, 1))
    visit = refolded(inserted(log, data.draw(st.integers(started, len(log))), payload, at), way)
    assert outcomes(visit) == ["pass"] and is_signed(visit) and not is_under_question(visit)


@pytest.mark.parametrize("way", WAYS, ids=str)
@SLOW
@given(st.data())
def test_nothing_said_later_makes_a_pass_of_what_was_none(way: Way, data: st.DataObject) -> None:
    """Later answers with the right facts, proofs, corrections, duplicates: a run that was spoilt stays so."""
    log = passing_log(way)[0]
    begin, end, started = run_of(way)
    at = begin + (end - begin) * data.draw(st.floats(0.02, 0.6))
    spoiler = data.draw(st.sampled_from(spoilers(way)))
    whole = refolded(list(log), way)
    assume(not (isinstance(spoiler, ON_THE_FACE) and is_redonning(whole, whole.tries[-1], at)))
    spoilt = inserted(log, started, spoiler, at)
    events, visit = list(spoilt), refolded(spoilt, way)
    one = visit.tries[-1]
    questions = [item.id for item in visit.rules.procedure.item if not item.act]
    for _ in range(data.draw(st.integers(1, 5))):
        question = data.draw(st.sampled_from(questions))
        item = visit.rules.procedure.find(question)
        assert item is not None
        later: list[ev.Payload] = [
            ev.Answered(question, "fine", facts_digest(visit, item), screen="s"),
            ev.ProofGiven(one.started.run_id, True, "9000"),
            ev.ProofSensed(one.started.run_id, True),
            ev.ProofMeasured(one.started.run_id, "s", "complete", 0, "0" * 64, "0", "9000"),
            ev.Corrected(one.chosen_seq, "wrong size", size="L"),
            ev.Corrected(1, "wrong person", person_id="q"),
            events[data.draw(st.integers(0, len(spoilt) - 1))].payload,
            ev.Signed("tester", "1" * 64, visit.seq),
        ]
        last = events[-1].occurred_at
        events = inserted(tuple(events), len(events), data.draw(st.sampled_from(later)), last)
        visit = refolded(events, way)
        assert outcomes(visit)[one.no - 1] != "pass", events[-1].payload


@pytest.mark.parametrize("way", WAYS, ids=str)
@SLOW
@given(st.data())
def test_every_finding_cites_what_judged_it(way: Way, data: st.DataObject) -> None:
    """Whatever is heard wherever in the log: each reason names its rule, or values that stand in the pinned book."""
    log = passing_log(way)[0]
    begin, end, _ = run_of(way)
    whole = refolded(list(log), way)
    run_id = whole.tries[-1].started.run_id
    item = data.draw(st.sampled_from([one for one in whole.rules.procedure.item if not one.act]))
    heard: list[ev.Payload] = [
        *spoilers(way),
        ev.Answered(item.id, "not_fine", facts_digest(whole, item), screen="s"),
        ev.RunVoided(run_id, "The door was open."),
        ev.TurnedAway("Unshaven."),
        ev.OpenedByMistake(),
        ev.ProofGiven(run_id, False),
        ev.NumbersTyped(run_id, "x", (ev.TypedExercise("x", "y"),)),
    ]
    place = data.draw(st.integers(1, len(log)))
    at = begin + (end - begin) * data.draw(st.floats(0, 1))
    visit = refolded(inserted(log, place, data.draw(st.sampled_from(heard)), at), way)
    found = [why for one in visit.tries for why in outcome(visit, one)[1]]
    for one in visit.tries:
        found += [*one.broken, *one.remarks, *one.numbers.reasons]
    for why in found:
        assert why.rule.strip() or why.keys, why
        protocol = visit.rules.protocol(way.protocol)
        assert all(visit.rules.book.find(key) or (protocol and key in protocol.kind) for key in why.keys), why
