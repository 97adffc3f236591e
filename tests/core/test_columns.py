"""Readings taken by columns: the same seal and the same sums as one by one, whatever was done to the readings."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from moorfog.core.measuring import columns
from moorfog.core.measuring.columns import reduce_chunks, seal_of
from moorfog.core.measuring.readings import Chunk, Reading, chunk_of, merged, seal_digest
from moorfog.core.measuring.reduction import reduce_run
from moorfog.core.rules.protocols import Protocol
from moorfog.data import shipped_rules
from tests.core.bench import counter, simulate

RULES = shipped_rules()
KIT = counter()
MEASURED = [one for one in RULES.protocols if not one.is_qualitative]
COUNTED = [one for one in MEASURED if one.is_counted]


def run_of(protocol: Protocol, seed: int) -> list[Reading]:
    return simulate(protocol, (900,) * len(protocol.exercises()), seed)


def chunked(readings: list[Reading], sizes: list[int]) -> list[Chunk]:
    """Readings as chunks of these sizes, the last of which takes what is left."""
    out, at = [], 0
    for size in [*sizes, len(readings)]:
        part = readings[at : at + size]
        if part:
            out.append(chunk_of(at, part))
        at += size
    return out


DISTURBED: dict[str, Callable[[list[Reading], int], list[Reading]]] = {
    "nothing": lambda run, at: run,
    "shifted": lambda run, at: [one._replace(t=one.t + at % 251) for one in run],
    "begun before t0": lambda run, at: [one._replace(t=one.t - 500) for one in run] + run[-2:],
    "short of its end": lambda run, at: run[:-3],
    "a gap": lambda run, at: [*run[:at], *run[at + 2 :]],
    "a gap too long": lambda run, at: [*run[:at], *run[at + 9 :]],
    "twice": lambda run, at: [*run[:at], run[at], *run[at:]],
    "out of order": lambda run, at: [*run[:at], *run[max(0, at - 7) :]],
    "another valve": lambda run, at: [
        *run[:at],
        run[at]._replace(valve="O" if run[at].valve == "I" else "I"),
        *run[at + 1 :],
    ],
    "a flag": lambda run, at: [*run[:at], run[at]._replace(flags="FA"), *run[at + 1 :]],
    "longer by 3 ms": lambda run, at: [*run[:at], *(one._replace(t=one.t + 3) for one in run[at:])],
    "an interval across another": lambda run, at: [*run[:at], run[at]._replace(dt=254), *run[at + 1 :]],
    "an uneven interval": lambda run, at: [
        *run[:at],
        run[at]._replace(t=run[at].t - 40, dt=210),
        *(one._replace(dt=290) if index == 0 else one for index, one in enumerate(run[at + 1 :])),
    ],
}


@settings(deadline=None, max_examples=80)
@given(
    st.sampled_from(MEASURED),
    st.sampled_from(sorted(DISTURBED)),
    st.integers(1, 400),
    st.sampled_from(["complete", "stopped", "lost"]),
    st.lists(st.integers(1, 300), max_size=3),
)
def test_columns_come_to_what_single_readings_come_to(
    protocol: Protocol, how: str, at: int, end: Any, sizes: list[int]
) -> None:
    readings = DISTURBED[how](run_of(protocol, at), at)
    for chunks in (chunked(readings, sizes), merged(chunked(readings, sizes))):
        by_rows = reduce_run(protocol, RULES.book, readings, end, KIT)
        assert reduce_chunks(protocol, RULES.book, chunks, end, KIT) == by_rows
        assert seal_of(chunks) == seal_digest(readings)


@pytest.mark.parametrize("protocol", COUNTED, ids=lambda one: one.id)
def test_an_ordinary_run_takes_no_step_for_every_reading(protocol: Protocol, monkeypatch: pytest.MonkeyPatch) -> None:
    """Also with intervals that begin elsewhere than on the second."""
    monkeypatch.setattr(columns, "reduce_run", None)
    for phase in (0, 90):
        readings = [one._replace(t=one.t - phase) for one in run_of(protocol, 5)]
        readings.append(readings[-1]._replace(t=readings[-1].t + 250))
        sealed = reduce_chunks(protocol, RULES.book, merged(chunked(readings, [40, 40])), "complete", KIT)
        assert len(sealed.windows) == sum(one.use in ("outside", "inside") for one in protocol.windows())


def test_a_run_without_readings_comes_to_nothing_but_what_is_missing() -> None:
    assert seal_of([]) == seal_digest([])
    found = reduce_chunks(COUNTED[0], RULES.book, [], "complete")
    assert [one.code for one in found.deviations] == ["gap", "short_window"] and found.windows == ()
