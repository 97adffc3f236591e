"""The simulated instrument: a process of its own that speaks the line protocol over TCP, driven by the core's model.

It is a counter, a photometer or a negative-pressure instrument, as it is started.
"""

from __future__ import annotations

import argparse
import logging
import os
import selectors
import signal
import socket
import time
from dataclasses import dataclass, field

from moorfog.core.simulation.faults import KIT_FAULTS
from moorfog.core.simulation.wearer import (
    AMBIENT,
    CHALLENGE,
    FLOW_NL_PER_MS,
    STEP_MS,
    SimulatedAir,
    SimulatedChamber,
    SimulatedPressure,
    SimulatedWearer,
    valve_shown,
)
from moorfog.instruments.line import SIMULATED_KEY, VERSION, LineBuffer, LineError, read_line, write_line
from moorfog.logs import set_up_logs
from moorfog.same import is_same

AMBIENTS = {"ordinary": AMBIENT, "classified": 420.0}
KINDS = {"counter": "counts", "photometer": "photometer", "pressure": "pressure"}
log = logging.getLogger("moorfog.simulated")
SERIAL = "SIM-0004"
"""What a simulated instrument says that is told no other serial number."""


@dataclass
class SimulatedCounter:
    """The instrument's state. Its clock runs ``speed`` times as fast as ours, for practice only."""

    seed: int
    kind: str = "counter"
    air: SimulatedAir = field(init=False)
    t_ms: int = 0
    number: int = 0
    is_inside: bool = False
    speed: int = 1
    wearer: SimulatedWearer | None = None
    run_t0: int = 0
    key: str = ""
    """What a link must say in its greeting before it may tell whom to stand in for; empty where anybody may."""
    knows_peer: bool = field(init=False)
    serial: str = SERIAL

    def __post_init__(self) -> None:
        self.air = SimulatedAir(self.seed, AMBIENT, FLOW_NL_PER_MS)
        self.knows_peer = not self.key
        self.chamber = SimulatedChamber(self.seed, CHALLENGE)
        self.negative_pressure = SimulatedPressure(self.seed)

    def command(self, raw: bytes) -> bytes:
        """Obey one line and return the answer."""
        try:
            line = read_line(raw)
            if line.type == "HELLO":
                self.knows_peer = not self.key or is_same(line.fields.get("key", ""), self.key)
                return write_line("HI", v=VERSION, mode=KINDS[self.kind], serial=self.serial, step=STEP_MS)
            if line.type == "VALVE" and line.fields.get("p") in ("IN", "OUT"):
                self.is_inside = line.fields["p"] == "IN"
                return write_line("OK", cmd="VALVE")
            if line.type == "MODE":
                return self._mode(line.fields.get("m", ""))
            if line.type == "SIM":
                return self._simulate(line.fields)
            return write_line("ERR", code="unknown")
        except (LineError, ValueError, KeyError) as error:
            log.warning("refused a line: %s", error)
            return write_line("ERR", code="bad")

    def _mode(self, mode: str) -> bytes:
        if self.kind != "counter":
            return write_line("OK", cmd="MODE") if mode == self.kind else write_line("ERR", code="mode")
        if mode not in AMBIENTS:
            return write_line("ERR", code="mode")
        self.air.ambient = AMBIENTS[mode]
        return write_line("OK", cmd="MODE")

    def _simulate(self, fields: dict[str, str]) -> bytes:
        """Stand in for a wearer, or for nobody; everything is read before anything is changed."""
        if not self.knows_peer:
            return write_line("ERR", code="refused")
        if "off" in fields:
            self.wearer, self.speed = None, 1
        elif "zero" in fields:
            self.run_t0 = _whole(fields["zero"], -(10**13), 10**13)
        else:
            factors = tuple(_whole(one, 1, MOST_FACTOR) for one in fields["factors"].split(","))
            starts = tuple(_whole(one, 0, 10**8) for one in fields["starts"].split(","))
            seed, speed = _whole(fields["seed"], 0, 2**32 - 1), _whole(fields["speed"], 1, 60)
            fault = fields.get("fault", "").replace("_", " ")
            if fault and fault not in KIT_FAULTS:
                return write_line("ERR", code="fault")
            if len(factors) != len(starts) or list(starts) != sorted(set(starts)):
                raise ValueError("a factor for every exercise, and their starts in order, are expected")
            self.wearer, self.speed = SimulatedWearer(seed, factors, starts, fault), speed
            for one in (self.air, self.chamber, self.negative_pressure):
                one.reseed(seed)
            self.run_t0 = 10**12
        return write_line("OK", cmd="SIM")

    def tick(self) -> bytes:
        """Take one reading and return its line."""
        self.t_ms += STEP_MS
        self.number += 1
        is_inside, run_t = valve_shown(self.wearer, self.is_inside), self.t_ms - self.run_t0
        head: dict[str, str | int] = {"n": self.number, "t": self.t_ms, "dt": STEP_MS}
        tail: dict[str, str | int] = {"p": "IN" if is_inside else "OUT", "f": "-"}
        if self.kind == "photometer":
            sample, chamber = self.chamber.next_signal(self.t_ms, STEP_MS, is_inside, self.wearer, run_t)
            return write_line("P", **head, s=sample, a=chamber, v=FLOW_NL_PER_MS * STEP_MS, **tail)
        if self.kind == "pressure":
            leak, pressure = self.negative_pressure.next_leak(is_inside, self.wearer, run_t)
            return write_line("Q", **head, q=leak, h=pressure, **tail)
        counts, volume = self.air.next_counts(self.t_ms, STEP_MS, is_inside, self.wearer, run_t)
        return write_line("R", **head, c=counts, v=volume, p=tail["p"], f=self.air.flags or "-")


MOST_FACTOR = 10**12
"""Far beyond any seal; a practice run of one too good to be read stands in for 10⁹."""
CATCH_UP_MS = 2000
"""How much of its own time it catches up after a hiccup of the machine. In practice at many times the speed more would
come in one burst than the link can turn the valve in, and the run would be void for nothing."""


def _whole(text: str, least: int, most: int) -> int:
    """Return a whole number within sense. Raises ValueError."""
    value = int(text)
    if not least <= value <= most:
        raise ValueError(f"{value}: from {least} to {most} is expected")
    return value


def serve(port: int, seed: int, kind: str = "counter", key: str = "", serial: str = SERIAL) -> None:
    """Serve one link at a time on loopback until SIGTERM."""
    running = True

    def stop(*_: object) -> None:
        nonlocal running
        running = False

    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGINT, stop)
    listener = socket.create_server(("127.0.0.1", port), reuse_port=False)
    listener.setblocking(False)
    selector = selectors.DefaultSelector()
    selector.register(listener, selectors.EVENT_READ)
    counter, client, buffer = SimulatedCounter(seed, kind, key=key, serial=serial), None, LineBuffer()
    due = time.monotonic()
    while running:
        for event, _ in selector.select(max(0.0, min(0.2, due - time.monotonic()))):
            if event.fileobj is listener:
                if client is not None:
                    selector.unregister(client)
                    client.close()
                client, _address = listener.accept()
                client.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
                buffer = LineBuffer()
                selector.register(client, selectors.EVENT_READ)
            elif client is not None:
                client = _hear(selector, client, buffer, counter)
                due = min(due, time.monotonic() + STEP_MS / 1000 / counter.speed)
        now = time.monotonic()
        if now < due:
            continue
        due = max(due + STEP_MS / 1000 / counter.speed, now - CATCH_UP_MS / 1000 / counter.speed)
        line = counter.tick()
        if client is not None:
            try:
                client.sendall(line)
            except OSError:
                selector.unregister(client)
                client.close()
                client = None
    listener.close()


def _hear(
    selector: selectors.BaseSelector, client: socket.socket, buffer: LineBuffer, counter: SimulatedCounter
) -> socket.socket | None:
    try:
        data = client.recv(4096)
        for raw in buffer.feed(data):
            client.sendall(counter.command(raw))
    except OSError:
        data = b""
    if data:
        return client
    selector.unregister(client)
    client.close()
    counter.is_inside, counter.wearer, counter.speed, counter.knows_peer = False, None, 1, not counter.key
    return None


def main() -> None:
    """Run the simulated instrument."""
    parser = argparse.ArgumentParser(description="A simulated counter, photometer or pressure instrument on loopback.")
    parser.add_argument("--port", type=int, required=True)
    parser.add_argument("--seed", type=int, default=4)
    parser.add_argument("--kind", choices=tuple(KINDS), default="counter")
    parser.add_argument("--serial", default=SERIAL, help="the serial number that it says it has")
    given = parser.parse_args()
    set_up_logs()
    serve(given.port, given.seed, given.kind, os.environ.get(SIMULATED_KEY, ""), given.serial)


if __name__ == "__main__":
    main()
