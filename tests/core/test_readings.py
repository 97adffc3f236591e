"""From readings to window sums: what counts, what is purged, what voids a run."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from moorfog.core.measuring.live import live_numbers, recent_value
from moorfog.core.measuring.readings import Chunk, Reading, seal_digest
from moorfog.core.measuring.reduction import Reduction
from moorfog.core.simulation.wearer import wearer_factors
from moorfog.data import shipped_rules
from tests.core.bench import GOOD, simulate

RULES = shipped_rules()
HALF = next(one for one in RULES.protocols if one.id == "fast-count-elastomeric")
RUN = simulate(HALF, GOOD)


def reduce(readings: list[Reading], end: str = "complete") -> tuple[list, list[str]]:
    reduction = Reduction(HALF, 1000)
    for one in readings:
        reduction.feed(one)
    sealed = reduction.sealed(end)  # type: ignore[arg-type]
    return list(sealed.windows), [one.code for one in sealed.deviations]


def test_only_sampled_seconds_count_and_purge_never_does() -> None:
    windows, deviations = reduce(RUN)
    assert deviations == []
    assert [(one.exercise, one.use, one.ms) for one in windows] == [
        (0, "outside", 5000),
        (0, "inside", 30_000),
        (1, "inside", 30_000),
        (2, "inside", 30_000),
        (3, "inside", 30_000),
        (3, "outside", 5000),
    ]
    noisy = [
        one._replace(counts=10**6) if one.t <= 4000 or 9000 < one.t <= 20_000 or 140_000 < one.t <= 144_000 else one
        for one in RUN
    ]
    assert reduce(noisy)[0] == windows


def without(start: int, end: int) -> list[Reading]:
    return [one for one in RUN if not start < one.t <= end]


@pytest.mark.parametrize(
    ("readings", "code"),
    [
        (without(60_000, 61_000), None),
        (without(60_000, 61_250), "gap"),
        (without(147_000, 150_000), "gap"),
        (without(0, 2000), "gap"),
        ([], "gap"),
        ([*RUN[:200], RUN[199], *RUN[200:]], "duplicate"),
        ([*RUN[:200], *RUN[100:]], "clock_jump"),
        ([one._replace(valve="O") if one.t == 70_000 else one for one in RUN], "wrong_valve"),
        ([one._replace(flags="F") if one.t == 70_000 else one for one in RUN], "flow_alarm"),
        ([one._replace(flags="A") if one.t == 70_000 else one for one in RUN], "alcohol_alarm"),
        ([one._replace(flags="X") if one.t == 70_000 else one for one in RUN], "not_finite"),
    ],
)
def test_what_breaks_the_protocol_is_found(readings: list[Reading], code: str | None) -> None:
    found = reduce(readings)[1]
    assert found == [] if code is None else code in found


def test_readings_across_an_edge_are_not_used() -> None:
    shifted = [one._replace(t=one.t + 120) for one in RUN]
    windows, _ = reduce(shifted)
    assert all(one.ms <= 30_000 for one in windows) and sum(one.ms for one in windows) < 130_000


@settings(max_examples=30, deadline=None)
@given(st.lists(st.integers(1, 40), min_size=1, max_size=60))
def test_how_readings_are_cut_into_chunks_is_no_difference(cuts: list[int]) -> None:
    chunks, at = [], 0
    for size in [*cuts, 10**6]:
        part = RUN[at : at + size]
        if not part:
            break
        chunks.append(
            Chunk(
                at,
                *(tuple(getattr(one, name) for one in part) for name in ("t", "dt", "counts", "volume_nl")),
                "".join(one.valve for one in part),
                tuple(one.flags for one in part),
            )
        )
        at += size
    again = [one for chunk in chunks for one in chunk.readings()]
    assert again == RUN and seal_digest(again) == seal_digest(RUN) and all(chunk.problem() is None for chunk in chunks)


def test_any_edited_reading_is_another_digest() -> None:
    for change in ({"counts": 0}, {"volume_nl": 1}, {"t": 1}, {"valve": "O"}, {"flags": "F"}, {"dt": 251}):
        assert seal_digest([RUN[300]._replace(**change), *RUN[301:]]) != seal_digest(RUN[300:])


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"t": ()}, "at least one"),
        ({"dt": (250,)}, "all columns"),
        ({"counts": (-1, 2)}, "0 or more"),
        ({"valve": "OX"}, "O or I"),
        ({"volume_nl": (0, 5)}, "above 0"),
    ],
)
def test_a_chunk_that_makes_no_sense_says_what_is_wrong(change: dict, words: str) -> None:
    chunk = replace(Chunk(0, (250, 500), (250, 250), (1, 2), (5, 5), "OI", ("", "")), **change)
    assert words in (chunk.problem() or "")


def test_the_live_budget_only_grows_and_ends_where_the_verdict_is() -> None:
    reduction, before = Reduction(HALF, 1000), Fraction(0)
    for one in RUN:
        reduction.feed(one)
        live = live_numbers(reduction, RULES.book, Fraction(100), "half")
        if one.t < 140_000:
            assert sum(live.shares) >= before
            before = sum(live.shares)
    assert len(live.shares) == 4 and not live.is_lost and live.outside is not None


def test_a_simulated_wearer_is_the_same_for_the_same_seed() -> None:
    assert simulate(HALF, GOOD, seed=3) == simulate(HALF, GOOD, seed=3) != simulate(HALF, GOOD, seed=4)
    assert wearer_factors(5, 2000, 1, 4) == wearer_factors(5, 2000, 1, 4)


def test_a_simulated_leak_shows_most_in_its_exercise() -> None:
    worst = [min(range(4), key=lambda i: wearer_factors(seed, 2000, 2, 4)[i]) for seed in range(200)]
    assert worst.count(2) >= 180


def test_the_number_on_the_screen_is_a_mean_of_about_two_seconds_of_one_valve_position() -> None:
    inside = [Reading(250 * n, 250, n % 2, 416_750, "I") for n in range(1, 20)]
    shown = recent_value(HALF, inside)
    assert shown == Fraction(sum(one.counts for one in inside[-8:]) * 1_000_000, 8 * 416_750)
    turned = [*inside, Reading(5000, 250, 2000, 416_750, "O")]
    assert recent_value(HALF, turned) == Fraction(2000 * 1_000_000, 416_750), "nothing of inside is mixed in"
    assert recent_value(HALF, []) is None
