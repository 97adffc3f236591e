"""The line protocol: what is written can be read; what is damaged is never taken for a reading."""

from __future__ import annotations

import os
import tty

import pytest
import serial
from hypothesis import given
from hypothesis import strategies as st

from moorfog.instruments.driver import LineDriver, open_wire
from moorfog.instruments.driver import MemoryWire as Wire
from moorfog.instruments.line import LineBuffer, LineError, checksum, read_line, write_line
from moorfog.instruments.simulated import SimulatedCounter

values = st.integers(-(10**9), 10**9) | st.from_regex(r"[A-Za-z0-9.,:_+-]{0,20}", fullmatch=True)


def test_the_checksum_is_crc_16_ccitt_false() -> None:
    """Check value of CRC-16/CCITT-FALSE over "123456789" is 29B1 (published catalogue value; recalled)."""
    assert checksum("123456789") == "29B1"


@given(
    st.dictionaries(st.from_regex(r"[a-z0-9]{1,12}", fullmatch=True).filter(lambda k: k != "type_"), values, max_size=6)
)
def test_what_is_written_is_read_back(fields: dict) -> None:
    line = read_line(write_line("R", **fields))
    assert line.type == "R" and line.fields == {key: str(value) for key, value in fields.items()}


@given(st.integers(0, 40), st.integers(1, 255))
def test_a_flipped_byte_is_never_taken(where: int, flip: int) -> None:
    good = write_line("R", n=7, t=1750, dt=250, c=811, v=416750, p="OUT", f="-")
    bad = bytearray(good)
    bad[where % (len(good) - 1)] ^= flip
    if bytes(bad).rstrip(b"\r\n") != good.rstrip(b"\n"):
        with pytest.raises(LineError):
            read_line(bytes(bad))


@given(st.binary(max_size=600), st.lists(st.integers(1, 30), max_size=20))
def test_garbage_and_half_lines_lose_no_good_line_after_them(noise: bytes, cuts: list[int]) -> None:
    good = write_line("R", n=1, t=250, dt=250, c=1, v=1, p="IN", f="-")
    stream = noise.replace(b"\n", b"") + b"\n" + good
    buffer, out = LineBuffer(), []
    for size in [*cuts, len(stream)]:
        out += list(buffer.feed(stream[:size]))
        stream = stream[size:]
    assert out[-1] == good


def test_a_driver_drops_what_it_cannot_trust_and_counts_it() -> None:
    good = SimulatedCounter(1).tick()
    driver = LineDriver(Wire(b"garbage\n" + good[:20], good[20:] + good.replace(b"c=", b"c=9"), b"R n=1 ~0000\n"))
    readings = [one for _ in range(4) for one in driver.poll()]
    assert len(readings) == 1 and driver.bad_lines == 3 and readings[0].reading.valve == "O"


def test_a_silent_or_older_counter_is_said_so() -> None:
    with pytest.raises(OSError, match="silence"):
        LineDriver(Wire()).greet(0.05)
    with pytest.raises(OSError, match="version 1"):
        LineDriver(Wire(write_line("HI", v=2))).greet(0.05)


def test_no_counter_at_an_address_names_the_address() -> None:
    with pytest.raises(OSError, match=r"socket://127\.0\.0\.1:1"):
        open_wire("socket://127.0.0.1:1")


def test_a_serial_line_is_read_like_tcp() -> None:
    """A pseudo terminal stands for the serial port."""
    ours, theirs = os.openpty()
    tty.setraw(ours)
    tty.setraw(theirs)
    driver = LineDriver(serial.Serial(os.ttyname(theirs), timeout=0.05))
    os.write(ours, write_line("HI", v=1, mode="counts") + SimulatedCounter(2).tick())
    readings = [one for _ in range(6) for one in driver.poll()]
    assert driver.said["mode"] == "counts" and len(readings) == 1
    driver.turn_valve("IN")
    assert read_line(os.read(ours, 200)).fields == {"p": "IN"}
    driver.wire.close()
    os.close(ours)


def test_the_simulated_counter_obeys_and_refuses() -> None:
    one = SimulatedCounter(4)
    assert read_line(one.command(write_line("VALVE", p="IN"))).type == "OK"
    assert read_line(one.tick()).fields["p"] == "IN"
    for bad in (b"VALVE p=IN\n", write_line("VALVE", p="SIDEWAYS"), write_line("SIM", seed="x"), b"\xff\n"):
        assert read_line(one.command(bad)).type == "ERR"
    assert one.is_inside


@pytest.mark.parametrize(("kind", "letter"), [("counter", b"R "), ("photometer", b"P "), ("pressure", b"Q ")])
def test_the_three_kinds_of_instrument_speak_and_are_read(kind: str, letter: bytes) -> None:
    made = SimulatedCounter(4, kind)
    lines = [made.tick() for _ in range(3)]
    made.command(write_line("VALVE", p="IN"))
    lines += [made.tick() for _ in range(3)]
    assert all(one.startswith(letter) for one in lines)
    wire = Wire(made.command(write_line("HELLO", v=1)), *lines)
    driver = LineDriver(wire)
    got = [one for _ in range(7) for one in driver.poll()]
    assert driver.said["mode"] == ("counts" if kind == "counter" else kind) and driver.bad_lines == 0
    assert [one.t_ms for one in got] == [250, 500, 750, 1000, 1250, 1500]
    assert [one.reading.valve for one in got] == ["O"] * 3 + ["I"] * 3
    has = (got[0].reading.signal is not None, got[0].reading.chamber is not None, got[0].reading.pressure is not None)
    assert has == {"counter": (False,) * 3, "photometer": (True, True, False), "pressure": (True, False, True)}[kind]


def test_a_stuck_valve_is_told_as_it_stands_and_a_fault_nobody_knows_is_refused() -> None:
    made = SimulatedCounter(4)
    sim = {"seed": 4, "speed": 1, "factors": "500,500", "starts": "0,1000"}
    assert made.command(write_line("SIM", **sim, fault="no_such")).startswith(b"ERR code=fault")
    made.command(write_line("SIM", **sim, fault="stuck_valve"))
    made.command(write_line("VALVE", p="IN"))
    assert b"p=OUT" in made.tick()
    assert made.command(write_line("MODE", m="photometer")).startswith(b"ERR code=mode")


def test_an_instrument_refuses_a_mode_that_is_not_its_own() -> None:
    made = SimulatedCounter(4, "pressure")
    assert made.command(write_line("MODE", m="pressure")).startswith(b"OK")
    assert made.command(write_line("MODE", m="ordinary")).startswith(b"ERR code=mode")
