"""The link between one instrument and the program: its own process, token and disk buffer.

It fetches the run plan, turns the valve, binds readings to the run's clock and sends them in chunks. It never
waits for the server while the counter speaks: reading and sending are two threads, with a file between them.
"""

from __future__ import annotations

import argparse
import http.client
import json
import logging
import os
import signal
import ssl
import threading
import time
from dataclasses import dataclass, field
from datetime import UTC, datetime
from fractions import Fraction
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from moorfog.core.events.payloads import instant
from moorfog.core.kernel.codec import encode
from moorfog.core.measuring.live import must_end
from moorfog.core.measuring.readings import Reading, chunk_of, seal_digest
from moorfog.core.measuring.reduction import Reduction, reduction_for
from moorfog.core.rules.protocols import read_protocol
from moorfog.core.visit.proof import ProofStream
from moorfog.instruments.complaint import Complaint
from moorfog.instruments.driver import Driver, LineDriver, RawReading, open_wire
from moorfog.logs import set_up_logs

SILENT_S = 2.5
STATUS_S = 0.3
STATUS_IN_RUN_S = 1.0
"""How often the link says how it is: seldom while readings are taken, as every answer to them says what to do too."""
ORDINARY, AT_REST_S = "ordinary", 10.0
"""How a counter counts while nobody tests with it, and after how many seconds of that it is told to."""
LEAD_MS = 2000
CHUNK = 200
"""Readings in one chunk at most, when many have waited for the server."""
log = logging.getLogger("moorfog.link")


class Refused(Exception):
    """The server answered with an error."""

    def __init__(self, status: int, code: str, message: str, detail: dict[str, Any]) -> None:
        super().__init__(f"{status} {code}: {message}")
        self.status = status
        self.code = code
        self.detail = detail


@dataclass
class Server:
    """The program's API over one kept-alive connection. ``offset`` is server time minus our monotonic clock."""

    url: str
    token: str
    connection: http.client.HTTPConnection | None = None
    offset: float | None = None

    def call(self, path: str, body: dict[str, Any]) -> Any:
        """Post JSON and return the answer. Raises OSError when the server is away, :class:`Refused` on an error."""
        parts = urlsplit(self.url)
        if self.connection is None:
            kind = http.client.HTTPSConnection if parts.scheme == "https" else http.client.HTTPConnection
            self.connection = kind(parts.hostname or "127.0.0.1", parts.port, timeout=5)
        try:
            before = time.monotonic()
            self.connection.request(
                "POST",
                path,
                json.dumps(body),
                {"Content-Type": "application/json", "Authorization": f"Bearer {self.token}"},
            )
            answer = self.connection.getresponse()
            content = json.loads(answer.read() or b"{}")
            after = time.monotonic()
        except (OSError, http.client.HTTPException, ValueError) as error:
            self.connection.close()
            self.connection = None
            if isinstance(error, ssl.SSLCertVerificationError):
                raise OSError(
                    f"the certificate of {self.url} is not trusted here: {error.verify_message}; "
                    "is it one of your own, set SSL_CERT_FILE to its file"
                ) from error
            raise OSError(f"the server is away: {error}") from error
        if answer.status >= 400:
            raise Refused(answer.status, content.get("code", ""), content.get("message", ""), content.get("detail", {}))
        if "now" in content and after - before < 0.5:
            moment = datetime.fromisoformat(content["now"]).timestamp()
            self.offset = moment - (before + after) / 2
        return content


@dataclass
class Run:
    """A run in hand. ``zero_ms`` is the counter's clock at t0, set once when the run is taken up."""

    plan: dict[str, Any]
    t0: float
    spool: Path
    zero_ms: int | None = None
    readings: list[Reading] = field(default_factory=list)
    sent: int = 0
    end: str = ""
    ended_at: float = 0.0
    watched: Reduction | None = None
    proof: ProofStream | None = None

    def __post_init__(self) -> None:
        """A run whose protocol may end it early is followed here too, so that it ends at once; so is a proof."""
        proof = self.plan.get("proof")
        if proof:
            protocol = read_protocol(self.plan["protocol"], "plan.protocol")
            self.proof = ProofStream(protocol, Fraction(proof["least"]), proof["still_ms"], proof["mean_ms"])
        if self.plan.get("may_end_early"):
            self.watched = reduction_for(read_protocol(self.plan["protocol"], "plan.protocol"), 10**9)

    def is_over_early(self, reading: Reading) -> bool:
        """Tell whether the protocol itself ends the run with this reading: a single peak, a broken hold."""
        if self.watched is None:
            return False
        self.watched.feed(reading)
        return must_end(self.watched, str(self.plan["level_key"]))

    def is_proved(self, reading: Reading) -> bool:
        """Tell whether this reading shows the rise that a proof waits for."""
        if self.proof is None:
            return False
        self.proof.feed(reading)
        return self.proof.risen

    @property
    def id(self) -> str:
        """The run's id."""
        return str(self.plan["run_id"])

    def valve_at(self, t_ms: int) -> str:
        """Return where the plan wants the valve at ``t_ms`` after t0; outside before and after."""
        for start, end, valve in self.plan["windows"]:
            if start <= t_ms < end:
                return str(valve)
        return "OUT"

    def recall(self) -> None:
        """Read back what an earlier process kept of this run before it died; the gap it left will void the run."""
        if self.spool.exists():
            for text in self.spool.read_text().splitlines():
                try:
                    self.readings.append(Reading(**json.loads(text)))
                except (ValueError, TypeError):
                    log.warning("half a line in %s is left out", self.spool.name)

    def keep(self, reading: Reading) -> None:
        """Keep a reading, on disk first."""
        with self.spool.open("a") as file:
            file.write(json.dumps({key: one for key, one in reading._asdict().items() if one is not None}) + "\n")
        self.readings.append(reading)


class Link:
    """One counter, one server."""

    def __init__(self, server: Server, address: str, spool: Path) -> None:
        self.server = server
        self.address = address
        self.spool = spool
        self.spool.mkdir(parents=True, exist_ok=True)
        self.lock = threading.Lock()
        self.run: Run | None = None
        self.wanted: dict[str, Any] | None = None
        self.finished: set[str] = set()
        self.ambient: str | None = None
        self.serial = ""
        self.mode, self.rests_since = "", time.monotonic()
        self.window = [0, 0]
        self.state = "starting"
        self.stopping = threading.Event()
        self.wake = threading.Event()
        self.counter_fault = Complaint(log, f"counter {address} is back", time.monotonic)
        self.server_fault = Complaint(log, f"{server.url} answers again", time.monotonic)

    def work(self) -> None:
        """Read the counter until told to stop, reconnecting when it is lost."""
        sender = threading.Thread(target=self._send_forever, daemon=True)
        sender.start()
        while not self.stopping.is_set():
            try:
                driver = LineDriver(open_wire(self.address))
                driver.greet()
                self.serial = driver.said.get("serial", "")[:60]
                self.mode = ""  # whoever spoke with it before may have left it in another
                log.info("counter %s speaks: %s", self.address, driver.said)
                self.counter_fault.well()
                self._read(driver)
            except Exception as error:  # whatever a counter says, it ends a run and not this process
                self.counter_fault.fault(str(error), with_trace=not isinstance(error, OSError))
                self.state = "silent"
                self._lose()
                self.stopping.wait(0.5)
        sender.join(3)

    def _lose(self) -> None:
        with self.lock:
            if self.run is not None and not self.run.end:
                self.run.end, self.run.ended_at = "lost", time.monotonic()
        self.wake.set()

    def _read(self, driver: Driver) -> None:
        valve, heard = "", time.monotonic()
        self.state = "reading"
        while not self.stopping.is_set():
            fresh = driver.poll()
            if not fresh:
                if time.monotonic() - heard > SILENT_S:
                    driver.close()
                    raise OSError("the counter has gone silent")
                self._take_up(driver, None)
                continue
            heard = fresh[-1].arrived
            self._take_up(driver, fresh[-1])
            for raw in fresh:
                want = self._use(driver, raw)
                if want != valve:
                    driver.turn_valve(want)
                    valve = want
                self._note_ambient(raw.reading)
        driver.close()

    def _note_ambient(self, one: Reading) -> None:
        """Keep what is read outside, smoothed: per cm³, or µg/m³ on a photometer; nothing where there is no such."""
        if one.pressure is not None or (one.valve == "I" and one.chamber is None):
            return
        if one.signal is not None:
            self.ambient = str(max(one.signal if one.chamber is None else one.chamber, 0) // 1000)
            return
        self.window = [self.window[0] * 3 // 4 + one.counts, self.window[1] * 3 // 4 + one.volume_nl]
        self.ambient = str(self.window[0] * 1_000_000 // max(self.window[1], 1))

    def _take_up(self, driver: Driver, last: RawReading | None) -> None:
        with self.lock:
            wanted, run = self.wanted, self.run
            if run is not None and wanted is not None and wanted["run_id"] == run.id and wanted["stop"] and not run.end:
                run.end, run.ended_at = "stopped", time.monotonic()
                self.wake.set()
            if run is not None and run.end and run.zero_ms is not None:
                driver.simulate(off=1)
                run.zero_ms = None
            if (
                run is None
                and wanted is not None
                and not wanted["stop"]
                and wanted["run_id"] not in self.finished
                and self.server.offset is not None
            ):
                t0 = datetime.fromisoformat(wanted["t0"]).timestamp() - self.server.offset
                self.run = run = Run(wanted, t0, self.spool / f"{wanted['run_id']}.jsonl")
                run.recall()
                self.mode = str(wanted["mode"])
                driver.set_mode(self.mode)
                simulated = wanted.get("simulated")
                if simulated:
                    driver.simulate(
                        seed=simulated["seed"],
                        speed=wanted["speed"],
                        factors=",".join(map(str, simulated["factors"])),
                        starts=",".join(map(str, simulated["starts_ms"])),
                        fault=str(simulated.get("kit_fault", "")).replace(" ", "_"),
                    )
                log.info("run %s taken up", run.id)
                return
            if run is None:
                self._rest(driver)
            if run is not None and run.zero_ms is None and not run.end and last is not None:
                run.zero_ms = (
                    last.t_ms + round((run.t0 - last.arrived) * 1000 * wanted["speed"]) if wanted else last.t_ms
                )
                if run.plan.get("simulated"):
                    driver.simulate(zero=run.zero_ms)

    def _rest(self, driver: Driver) -> None:
        """Let a counter that nobody tests with count all sizes again: what it shows and is checked by is room air."""
        rests = time.monotonic() - self.rests_since
        if driver.said.get("mode") == "counts" and self.mode != ORDINARY and rests >= AT_REST_S:
            self.mode = ORDINARY
            driver.set_mode(self.mode)

    def _use(self, driver: Driver, raw: RawReading) -> str:
        """Bind a reading to the run in hand; return where the valve must stand for the next one."""
        with self.lock:
            run = self.run
            if run is None or run.zero_ms is None or run.end:
                return "OUT"
            t = raw.t_ms - run.zero_ms
            if t > -LEAD_MS:
                run.keep(raw.reading._replace(t=t))
            total = int(run.plan["total_ms"])
            if run.is_over_early(raw.reading._replace(t=t)):
                run.end, run.ended_at = "stopped", time.monotonic()
            if not run.end and (t >= total or run.is_proved(raw.reading._replace(t=t))):
                run.end, run.ended_at = "complete", run.t0 + min(t, total) / 1000 / int(run.plan["speed"])
            want = run.valve_at(t)
        self.wake.set()
        return want

    def _send_forever(self) -> None:
        last_status = 0.0
        while not self.stopping.is_set():
            self.wake.wait(STATUS_S)
            self.wake.clear()
            try:
                if time.monotonic() - last_status >= (STATUS_S if self.run is None else STATUS_IN_RUN_S):
                    last_status = time.monotonic()
                    self._say_status()
                self._send_readings()
                self.server_fault.well()
            except OSError as error:
                self.server_fault.fault(f"{error}; readings are kept on disk")
                self.stopping.wait(0.5)
            except Refused as error:
                self.server_fault.fault(str(error))
                self._refused(error)
            except Exception:  # an answer that is none: what was read is kept and sent again
                log.exception("sending")
                self.stopping.wait(1.0)

    def _refused(self, error: Refused) -> None:
        if error.code == "no_lease" and self.run is not None:
            self._drop(self.run)
        elif error.code == "readings_missing" and self.run is not None:
            self.run.sent = int(error.detail.get("stored", 0))
        else:
            self.stopping.wait(1.0)

    def _say_status(self) -> None:
        state = "in_run" if self.run is not None and self.state == "reading" else self.state
        known = self.run.plan if self.run is not None else {"run_id": ""}
        ambient = self.ambient if self.state == "reading" else None
        said = {"state": state, "ambient": ambient, "run_id": known["run_id"], "serial": self.serial}
        answer = self.server.call("/api/link/status", said)
        plan = answer["plan"]
        with self.lock:
            self.wanted = {**known, **plan} if plan is not None and plan["run_id"] == known["run_id"] else plan
            gone = self.run is not None and self.wanted is None and not self.run.end
        if gone and self.run is not None:
            self._drop(self.run)

    def _send_readings(self) -> None:
        run = self.run
        if run is None:
            return
        with self.lock:
            pending = run.readings[run.sent :]
            first, end = run.sent, run.end
        if pending:
            chunks = [encode(chunk_of(first + at, pending[at : at + CHUNK])) for at in range(0, len(pending), CHUNK)]
            answer = self.server.call(f"/api/link/runs/{run.id}/chunks", {"chunks": chunks})
            run.sent = first + len(pending)
            if answer["stop"] and not run.end:
                with self.lock:
                    self.wanted = {**run.plan, "stop": True}
        if end and run.sent == len(run.readings):
            at = datetime.fromtimestamp(run.ended_at + (self.server.offset or 0.0), UTC)
            self.server.call(
                f"/api/link/runs/{run.id}/close",
                {
                    "end": end,
                    "count": len(run.readings),
                    "sha256": seal_digest(run.readings),
                    "occurred_at": instant(at),
                },
            )
            log.info("run %s sealed: %s, %d readings", run.id, end, len(run.readings))
            self._drop(run)

    def _drop(self, run: Run) -> None:
        with self.lock:
            self.finished.add(run.id)
            run.end = run.end or "stopped"
            self.run, self.rests_since = None, time.monotonic()
        run.spool.unlink(missing_ok=True)


def main() -> None:
    """Run the link. The token comes from MOORFOG_LINK_TOKEN, so that it is on no command line."""
    parser = argparse.ArgumentParser(description="The link between a counter and Moorfog.")
    parser.add_argument("--server", required=True, help="http://127.0.0.1:8000")
    parser.add_argument("--counter", required=True, help="socket://127.0.0.1:9000 or /dev/ttyUSB0")
    parser.add_argument("--spool", type=Path, required=True, help="folder for readings not sent yet")
    given = parser.parse_args()
    set_up_logs()
    token = os.environ.get("MOORFOG_LINK_TOKEN", "")
    if not token:
        parser.error("MOORFOG_LINK_TOKEN is not set; take the token from the counter's entry")
    link = Link(Server(given.server, token), given.counter, given.spool)
    signal.signal(signal.SIGTERM, lambda *_: link.stopping.set())
    signal.signal(signal.SIGINT, lambda *_: link.stopping.set())
    link.work()


if __name__ == "__main__":
    main()
