"""The simulated instrument: whatever a peer writes, it goes on; and only its own link tells it whom to stand in for."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from moorfog.instruments.driver import LineDriver, MemoryWire
from moorfog.instruments.line import read_line, write_line
from moorfog.instruments.simulated import SimulatedCounter

GOOD = {"seed": "4", "speed": "20", "factors": "100,200", "starts": "0,30000"}
BAD = [
    {"seed": "-1"},
    {"seed": "x"},
    {"seed": "99999999999"},
    {"speed": "0"},
    {"speed": "61"},
    {"factors": "100"},
    {"factors": "0,0"},
    {"factors": "100,-5"},
    {"starts": "0,-30000"},
    {"starts": "30000,0"},
    {"starts": ""},
    {"fault": "nonsense"},
]


def answer(counter: SimulatedCounter, kind: str, **fields: str) -> str:
    return read_line(counter.command(write_line(kind, **fields))).type


@pytest.mark.parametrize("change", BAD)
def test_nonsense_is_refused_and_changes_nothing(change: dict[str, str]) -> None:
    counter = SimulatedCounter(4)
    assert answer(counter, "SIM", **GOOD) == "OK"
    before = (counter.wearer, counter.speed, counter.run_t0)
    assert answer(counter, "SIM", **{**GOOD, **change}) == "ERR"
    assert (counter.wearer, counter.speed, counter.run_t0) == before and counter.tick()


def test_a_seal_too_good_to_be_read_and_its_breaking_can_be_stood_in_for() -> None:
    counter = SimulatedCounter(4)
    assert answer(counter, "SIM", **{**GOOD, "factors": "1000000000,2"}) == "OK"
    assert counter.wearer is not None and counter.wearer.factors == (10**9, 2)


def test_only_who_knows_the_key_says_whom_it_stands_in_for() -> None:
    counter = SimulatedCounter(4, key="abc1")
    for greeting in ({}, {"key": "abc2"}, {"key": ""}):
        answer(counter, "HELLO", v="1", **{key: one for key, one in greeting.items() if one})
        assert answer(counter, "SIM", **GOOD) == "ERR" and counter.wearer is None
    answer(counter, "HELLO", v="1", key="abc1")
    assert answer(counter, "SIM", **GOOD) == "OK" and counter.wearer is not None


def test_a_counter_that_does_not_say_it_is_simulated_is_told_nothing() -> None:
    wire = MemoryWire(write_line("HI", v=1, mode="counts", serial="A-17", step=250))
    driver = LineDriver(wire)
    driver.greet()
    driver.simulate(off=1)
    assert b"SIM" not in wire.heard


@given(st.lists(st.binary(max_size=80), max_size=12), st.sampled_from(["counter", "photometer", "pressure"]))
def test_nothing_a_peer_writes_ends_it(lines: list[bytes], kind: str) -> None:
    counter = SimulatedCounter(4, kind)
    for one in lines:
        assert counter.command(one)
        assert counter.tick()


@given(st.dictionaries(st.sampled_from([*GOOD, "zero", "off"]), st.from_regex(r"-?[0-9,]{1,12}", fullmatch=True)))
def test_whatever_it_is_told_to_stand_in_for_it_goes_on_reading(fields: dict[str, str]) -> None:
    counter = SimulatedCounter(4)
    answer(counter, "SIM", **{**GOOD, **fields})
    for _ in range(8):
        assert counter.tick()
