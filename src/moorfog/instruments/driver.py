"""How the link reads an instrument. TCP, serial and in-memory wires are siblings behind one address.

A driver for another instrument is one class with the methods of :class:`Driver`; see docs/formats/line-protocol.md.
"""

from __future__ import annotations

import os
import time
from dataclasses import dataclass, field
from typing import Protocol

import serial

from moorfog.core.measuring.readings import Reading
from moorfog.instruments.line import SIMULATED_KEY, VERSION, Line, LineBuffer, LineError, read_line, write_line
from moorfog.plugged import NetworkPlace, NoPlace, device_of, place_of

SIMULATED = "SIM-"
"""How the serial number of a simulated instrument begins."""


class Wire(Protocol):
    """Anything bytes go in and out of."""

    def read(self, size: int = 1) -> bytes:
        """Return up to ``size`` bytes, fewer on time-out."""

    def write(self, data: bytes) -> int | None:
        """Send bytes."""

    def close(self) -> None:
        """Hang up."""


class MemoryWire:
    """A wire in memory: says what it was given, keeps what it hears. For tests and for trying a driver."""

    def __init__(self, *lines: bytes) -> None:
        self.lines, self.heard = list(lines), bytearray()

    def read(self, size: int = 1) -> bytes:
        """Return the next of what it was given, nothing at the end of it."""
        return self.lines.pop(0) if self.lines else b""

    def write(self, data: bytes) -> int:
        """Keep what is sent."""
        self.heard += data
        return len(data)

    def close(self) -> None:
        """Say nothing more."""
        self.lines.clear()


@dataclass(frozen=True)
class RawReading:
    """A reading on the counter's own clock, with when it arrived here (monotonic seconds)."""

    number: int
    t_ms: int
    reading: Reading
    arrived: float


class Driver(Protocol):
    """What the link needs of an instrument. Times are the instrument's own milliseconds; nothing is converted here."""

    said: dict[str, str]
    """What it said of itself: ``mode`` (counts, photometer or pressure), ``serial``, ``step`` in ms."""

    def greet(self, wait_s: float = 2.0) -> None:
        """Find out who is there. Raises OSError where nobody answers, or in a language unknown."""

    def turn_valve(self, position: str) -> None:
        """Ask for the valve position IN or OUT; what counts is what the readings then say."""

    def set_mode(self, mode: str) -> None:
        """Ask for ordinary or classified counting, photometer or pressure."""

    def simulate(self, **fields: str | int) -> None:
        """Tell a simulated instrument whom to stand in for; a real one ignores it."""

    def poll(self) -> list[RawReading]:
        """Return the readings that have arrived, at once or after a short wait. Raises OSError when it is gone."""

    def close(self) -> None:
        """Hang up."""


def open_wire(address: str) -> Wire:
    """Open a counter at a serial device or a host and port, as :mod:`moorfog.plugged` writes them. Raises OSError."""
    try:
        place = place_of(address)
        if isinstance(place, NetworkPlace):
            wire: Wire = serial.serial_for_url(str(place), baudrate=115200, timeout=0.05, write_timeout=1)
        else:
            wire = serial.Serial(device_of(place), baudrate=115200, timeout=0.05, write_timeout=1, exclusive=True)
    except NoPlace as error:
        raise OSError(str(error)) from error
    except serial.SerialException as error:
        raise OSError(f"no counter at {address}: {error}. Is it switched on and plugged in?") from error
    return wire


@dataclass
class LineDriver:
    """Speaks the line protocol over a wire. Lines that cannot be trusted are counted and dropped."""

    wire: Wire
    buffer: LineBuffer = field(default_factory=LineBuffer)
    bad_lines: int = 0
    said: dict[str, str] = field(default_factory=dict)

    def greet(self, wait_s: float = 2.0) -> None:
        """Say hello and wait for the answer. Raises OSError where none comes or the version differs."""
        key = os.environ.get(SIMULATED_KEY, "")
        self.wire.write(write_line("HELLO", v=VERSION, key=key) if key else write_line("HELLO", v=VERSION))
        deadline = time.monotonic() + wait_s
        while time.monotonic() < deadline and not self.said:
            self.poll()
        if self.said.get("v") != str(VERSION):
            raise OSError(
                f"the counter did not answer in version {VERSION} of the line protocol: {self.said or 'silence'}"
            )

    def turn_valve(self, position: str) -> None:
        """Ask for the valve position IN or OUT; what counts is what the readings then say."""
        self.wire.write(write_line("VALVE", p=position))

    def set_mode(self, mode: str) -> None:
        """Ask for ordinary or classified counting, photometer or pressure."""
        self.wire.write(write_line("MODE", m=mode))

    def simulate(self, **fields: str | int) -> None:
        """Tell a simulated counter which wearer to stand in for; to one that does not say it is simulated nothing is
        sent."""
        if self.said.get("serial", "").startswith(SIMULATED):
            self.wire.write(write_line("SIM", **fields))

    def poll(self) -> list[RawReading]:
        """Return the readings that have arrived. Raises OSError when the wire is gone."""
        try:
            data = self.wire.read(4096)
        except serial.SerialException as error:
            raise OSError(str(error)) from error
        out = []
        for raw in self.buffer.feed(data):
            try:
                line = read_line(raw)
                if line.type == "HI":
                    self.said = line.fields
                elif line.type in READINGS:
                    reading = READINGS[line.type](line)
                    out.append(RawReading(line.whole("n"), line.whole("t"), reading, time.monotonic()))
            except (LineError, KeyError, IndexError):
                self.bad_lines += 1
        return out

    def close(self) -> None:
        """Hang up."""
        self.wire.close()


def _valve(line: Line) -> str:
    return "I" if line.fields["p"] == "IN" else "O"


def _flags(line: Line) -> str:
    return line.fields.get("f", "-").replace("-", "")


def _counts(line: Line) -> Reading:
    return Reading(
        t=0,
        dt=line.whole("dt"),
        counts=line.whole("c"),
        volume_nl=line.whole("v"),
        valve=_valve(line),
        flags=_flags(line),
    )


def _signal(line: Line) -> Reading:
    chamber = line.whole("a") if "a" in line.fields else None
    return Reading(
        t=0,
        dt=line.whole("dt"),
        counts=0,
        volume_nl=line.whole("v"),
        valve=_valve(line),
        flags=_flags(line),
        signal=line.whole("s"),
        chamber=chamber,
    )


def _leak(line: Line) -> Reading:
    return Reading(
        t=0,
        dt=line.whole("dt"),
        counts=0,
        volume_nl=0,
        valve=_valve(line),
        flags=_flags(line),
        signal=line.whole("q"),
        chamber=None,
        pressure=line.whole("h"),
    )


READINGS = {"R": _counts, "P": _signal, "Q": _leak}
"""How each kind of reading line is read."""
