"""From a reading's end to the pixels of a real browser: one live run, and forty at once. Printed, never asserted."""

from __future__ import annotations

import http.client
import json
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from playwright.sync_api import Page, sync_playwright
from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.kernel.codec import encode
from moorfog.core.measuring.readings import Reading, chunk_of
from moorfog.core.rules.book import Rules
from moorfog.core.rules.protocols import Protocol
from moorfog.core.simulation.wearer import SimulatedWearer, simulate
from moorfog.demo.scenario import COUNTER_FIGURES
from moorfog.demo.seed import best_size, catalogue, check_counter
from moorfog.demo.walk import Walk
from moorfog.instruments.link import Refused, Server
from moorfog.platform.db.base import run_in_transaction
from moorfog.platform.db.clock import DatabaseClock
from moorfog.platform.web.errors import DomainError
from moorfog.rooms.accounts.sessions import load_actor
from moorfog.rooms.accounts.tables import Account
from moorfog.rooms.kit.entering import create_instrument
from moorfog.rooms.people.tables import Person
from tests.browser.stack import PASSWORD, TOKEN, Stack
from tests.browser.walked import Walker
from tests.chromium import launched

VISITS = 40
SECONDS = 60
LISTEN = """(visit) => {
  window.late = [];
  let t0 = null;
  const source = new EventSource(`/api/live?visit=${visit}`);
  source.addEventListener('state', (e) => { t0 = JSON.parse(e.data).visit.run?.t0 ?? t0; });
  source.addEventListener('live', (e) => {
    const t = JSON.parse(e.data).t;
    requestAnimationFrame(() => requestAnimationFrame(() => {
      if (t0) window.late.push(Date.now() - (Date.parse(t0) + t));
    }));
  });
}"""


@contextmanager
def watching(stack: Stack, visit: str) -> Iterator[Page]:
    """A signed-in Chromium on a visit's bench, taking the time from each reading's end to the second frame after it."""
    with sync_playwright() as playwright:
        browser = launched(playwright)
        page = browser.new_page()
        page.goto(stack.address)
        page.get_by_label("Name you sign in with").fill("maren")
        page.get_by_role("textbox", name="Password").fill(PASSWORD)
        page.keyboard.press("Enter")
        page.get_by_role("link", name="Kit").wait_for()
        page.goto(f"{stack.address}/visit/{visit}")
        page.locator("[data-item]").first.wait_for()
        page.evaluate(LISTEN, visit)
        yield page
        browser.close()


def one_run(rules: Rules) -> list[float]:
    """Return the milliseconds to the screen of a live run in real time, with simulated counter and link."""
    stack = Stack(rules)
    try:
        visit, _ = Walker(stack, rules).to("run", "1010", speed=1)
        with watching(stack, visit) as page:
            page.get_by_text("link is up").wait_for()
            page.keyboard.press("Space")
            page.wait_for_timeout(45_000)
            return [float(one) for one in page.evaluate("() => window.late")]
    finally:
        stack.stop()


@dataclass
class Feeder(threading.Thread):
    """What a link does to the server during one run: asks for the plan, sends each reading as it ends."""

    server: Server
    readings: list[Reading]
    until: float
    sent: int = 0
    trouble: list[str] = field(default_factory=list)

    def __hash__(self) -> int:
        return id(self)

    def __post_init__(self) -> None:
        super().__init__(daemon=True)

    def run(self) -> None:
        """Feed until the time is up."""
        try:
            plan = None
            while plan is None and time.monotonic() < self.until:
                plan = self._call("/api/link/status", {"state": "reading", "ambient": "5300"})["plan"]
                time.sleep(0.3)
            if plan is not None:
                self._feed(plan)
        except (OSError, Refused) as error:
            self.trouble.append(str(error))

    def _call(self, path: str, body: dict[str, Any]) -> Any:
        """Call, once again where an idle connection was closed meanwhile, as a link does."""
        try:
            return self.server.call(path, body)
        except OSError:
            return self.server.call(path, body)

    def _feed(self, plan: dict[str, Any]) -> None:
        t0 = datetime.fromisoformat(plan["t0"]).timestamp()  # the database's clock is this machine's
        said = 0.0
        while self.sent < len(self.readings) and time.monotonic() < self.until:
            wait = t0 + self.readings[self.sent].t / 1000 - time.time()
            if wait > 0:
                time.sleep(wait)
            due = self.sent
            while due < len(self.readings) and t0 + self.readings[due].t / 1000 <= time.time():
                due += 1
            chunk = encode(chunk_of(self.sent, self.readings[self.sent : due]))
            self._call(f"/api/link/runs/{plan['run_id']}/chunks", {"chunks": [chunk]})
            self.sent = due
            if time.monotonic() - said > 1:
                said = time.monotonic()
                self._call("/api/link/status", {"state": "in_run", "ambient": "5300"})


@dataclass
class Follower(threading.Thread):
    """A bench's screen as far as the server sees it: an event stream; it takes the time of each message."""

    port: int
    cookie: str
    visit: str
    late: list[float] = field(default_factory=list)

    def __hash__(self) -> int:
        return id(self)

    def __post_init__(self) -> None:
        super().__init__(daemon=True)

    def run(self) -> None:
        """Follow until the server goes."""
        connection = http.client.HTTPConnection("127.0.0.1", self.port, timeout=60)
        t0, kind = 0.0, b""
        try:
            connection.request("GET", f"/api/live?visit={self.visit}", headers={"Cookie": self.cookie})
            for line in connection.getresponse():
                now = time.time()
                if line.startswith(b"event: "):
                    kind = line[7:].strip()
                elif line.startswith(b"data: ") and kind == b"state":
                    run = json.loads(line[6:])["visit"]["run"]
                    t0 = datetime.fromisoformat(run["t0"]).timestamp() if run and run["t0"] else t0
                elif line.startswith(b"data: ") and kind == b"live" and t0:
                    self.late.append((now - t0 - json.loads(line[6:])["t"] / 1000) * 1000)
        except (OSError, http.client.HTTPException):
            return


def sign_in(port: int) -> str:
    """Return the cookie of a signed-in tester."""
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=10)
    body = json.dumps({"login": "maren", "password": PASSWORD})
    connection.request("POST", "/api/session", body, {"Content-Type": "application/json"})
    answer = connection.getresponse()
    answer.read()
    return (answer.getheader("Set-Cookie") or "").split(";")[0]


def at_their_starts(stack: Stack, rules: Rules, count: int) -> list[tuple[str, str]]:
    """Enter ``count`` counters and walk as many people to the start of a run in real time, a counter each.

    Returns visits with the counters they will use.
    """
    with Session(stack.engine) as db:
        numbers = list(db.scalars(select(Person.number).order_by(Person.number)))
    out: list[tuple[str, str]] = []

    def walk(db: Session, number: str) -> tuple[str, str]:
        account = db.scalar(select(Account).where(Account.login == "maren"))
        person = db.scalar(select(Person).where(Person.number == number))
        assert account and person
        now = DatabaseClock().now(db)
        content = {**COUNTER_FIGURES, "serial_number": f"SIM-{number}", "calibrated_until": "2099-01-01", "zone": "UTC"}
        token = f"{TOKEN}.{len(out)}"
        counter = create_instrument(
            db, name=f"Counter {number}", employer_id=None, content=content, is_simulated=True, token=token
        )
        actor = load_actor(db, account)
        check_counter(db, actor, counter, now)
        one = Walk(db, actor, rules, person.id, "Bench A", now - timedelta(minutes=40), counter)
        one.until("choose_facepiece")
        one.choose(catalogue(db)["Sedge"], best_size(catalogue(db)["Sedge"], person.face_length or 0))
        one.until("run")
        return one.visit_id, counter

    for number in numbers:
        if len(out) == count:
            break
        try:
            out.append(run_in_transaction(stack.engine, lambda db: walk(db, number)))  # noqa: B023
        except (DomainError, RuntimeError, StopIteration):
            continue  # a clearance stands against this facepiece
    return out


def start_all(ports: list[int], cookie: str, starts: list[tuple[str, str]]) -> None:
    """Start all runs one after the other, as forty testers would."""
    from uuid6 import uuid7

    connection = http.client.HTTPConnection("127.0.0.1", ports[0], timeout=20)

    def call(method: str, path: str, body: dict[str, Any] | None = None, token: str = "") -> Any:
        headers = {"Cookie": cookie, "Content-Type": "application/json", "X-Moorfog-Token": token}
        connection.request(method, path, json.dumps(body) if body else None, headers)
        answer = connection.getresponse()
        content = json.loads(answer.read())
        if answer.status >= 400:
            raise RuntimeError(f"{path}: {content}")
        return content

    token = call("GET", "/api/session")["token"]
    for visit, counter in starts:
        seen = call("GET", f"/api/visits/{visit}")
        body = {"kind": "start_run", "run_id": str(uuid7()), "instrument_id": counter, "source": "counter"}
        proposal = {
            "id": str(uuid7()),
            "expects": seen["visit"]["seq"],
            "occurred_at": call("GET", "/api/time")["now"],
            "visit_id": visit,
            "person_id": seen["person_id"],
            "mark": seen["mark"],
            "body": {**body, "protocol_id": "", "fault": ""},
        }
        call("POST", f"/api/visits/{visit}/events", proposal, token)


@dataclass(frozen=True)
class Forty:
    """What came of it: milliseconds to the screen and to every stream, readings stored, what went wrong, memory."""

    painted: list[float]
    heard: list[float]
    readings: int
    visits: int
    trouble: list[str]
    resident_mb: float


def resident_mb(stack: Stack) -> float:
    """Return the memory of the larger web process, in MB; each is the one child of its master."""
    masters = [child.pid for name, child in stack.parts.children.items() if name.startswith("web")]
    kb = [0]
    for pid in masters:
        for child in Path(f"/proc/{pid}/task/{pid}/children").read_text().split():
            status = Path(f"/proc/{child}/status").read_text()
            kb.append(int(status.split("VmRSS:")[1].split()[0]))
    return max(kb) / 1024


def forty_runs(rules: Rules) -> Forty:
    """Forty live runs on two web processes, each followed by a screen; one of them is a real browser."""
    stack = Stack(rules, webs=2)
    try:
        starts = at_their_starts(stack, rules, VISITS)
        cookies = [sign_in(port) for port in stack.ports]
        protocol = rules.protocol("fast-count-elastomeric")
        assert isinstance(protocol, Protocol)
        followers = [
            Follower(stack.ports[n % 2], cookies[n % 2], visit) for n, (visit, _) in enumerate(starts) if n > 0
        ]
        with watching(stack, starts[0][0]) as page:
            for one in followers:
                one.start()
            until = time.monotonic() + SECONDS
            feeders = [
                Feeder(
                    Server(f"http://127.0.0.1:{stack.ports[n % 2]}", f"{TOKEN}.{n}"),
                    simulate(protocol, SimulatedWearer(n, (2400,) * 4, protocol.starts_ms()), 5300.0),
                    until,
                )
                for n in range(len(starts))
            ]
            for feeder in feeders:
                feeder.start()
            start_all(stack.ports, cookies[0], starts)
            page.wait_for_timeout(max(0.0, until - time.monotonic()) * 1000)
            painted = [float(one) for one in page.evaluate("() => window.late")]
            resident = resident_mb(stack)
        for feeder in feeders:
            feeder.join(5)
        heard = [late for one in followers for late in one.late]
        trouble = [text for one in feeders for text in one.trouble]
        return Forty(painted, heard, sum(one.sent for one in feeders), len(starts), trouble, resident)
    finally:
        stack.stop()
