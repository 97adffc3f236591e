"""The link on its own: what it keeps on disk, how it follows the plan, what it does when it is refused."""

from __future__ import annotations

import logging
from pathlib import Path
from typing import Any

import pytest

from moorfog.core.measuring.readings import Reading
from moorfog.instruments.complaint import Complaint
from moorfog.instruments.driver import LineDriver, RawReading
from moorfog.instruments.driver import MemoryWire as Wire
from moorfog.instruments.line import read_line
from moorfog.instruments.link import AT_REST_S, CHUNK, Link, Refused, Run, Server

PLAN: dict[str, Any] = {
    "run_id": "r1",
    "t0": "2026-03-02T09:00:05.000Z",
    "speed": 1,
    "mode": "ordinary",
    "windows": [[0, 4000, "OUT"], [4000, 9000, "OUT"], [9000, 20_000, "IN"], [20_000, 50_000, "IN"]],
    "total_ms": 50_000,
    "stop": False,
}


class Remembering(Server):
    """A server that answers from a script and remembers what it was told."""

    def __init__(self, *answers: Any) -> None:
        super().__init__("http://127.0.0.1:1", "token")
        self.answers, self.told = list(answers), []  # type: ignore[var-annotated]
        self.offset = 0.0

    def call(self, path: str, body: dict[str, Any]) -> Any:
        self.told.append((path, body))
        answer = self.answers.pop(0) if self.answers else {"plan": None, "stored": 0, "stop": False}
        if isinstance(answer, Exception):
            raise answer
        return answer


def reading(t: int, valve: str = "I") -> Reading:
    return Reading(t, 250, 7, 416_750, valve)


@pytest.fixture
def link(tmp_path: Path) -> Link:
    made = Link(Remembering(), "loop://", tmp_path)
    made.state = "reading"
    return made


def begin(link: Link, count: int = 0) -> Run:
    run = Run(PLAN, 0.0, link.spool / "r1.jsonl", zero_ms=0)
    for number in range(count):
        run.keep(reading(250 * (number + 1)))
    link.run = run
    return run


@pytest.mark.parametrize(
    ("t", "valve"),
    [(-1, "OUT"), (0, "OUT"), (8999, "OUT"), (9000, "IN"), (49_999, "IN"), (50_000, "OUT"), (10**9, "OUT")],
)
def test_the_valve_follows_the_plan_to_the_millisecond(link: Link, t: int, valve: str) -> None:
    assert begin(link).valve_at(t) == valve


def test_readings_are_on_disk_before_they_are_anywhere_else_and_survive_a_death(link: Link) -> None:
    run = begin(link, 3)
    with run.spool.open("a") as file:
        file.write('{"t": 1000, "dt": 250, "co')
    again = Run(PLAN, 0.0, run.spool)
    again.recall()
    assert again.readings == run.readings, "the half line is left out, the others are there"


def test_what_waited_is_sent_in_chunks_that_are_not_too_large(link: Link) -> None:
    begin(link, 2 * CHUNK + 5)
    link._send_readings()
    ((path, body),) = link.server.told  # type: ignore[attr-defined]
    assert path == "/api/link/runs/r1/chunks"
    assert [len(one["t"]) for one in body["chunks"]] == [CHUNK, CHUNK, 5]
    assert [one["first"] for one in body["chunks"]] == [0, CHUNK, 2 * CHUNK]
    link._send_readings()
    assert len(link.server.told) == 1, "what was taken is not sent again"  # type: ignore[attr-defined]


def test_a_server_that_is_away_loses_nothing(link: Link) -> None:
    run = begin(link, 8)
    link.server.answers = [OSError("away")]  # type: ignore[attr-defined]
    with pytest.raises(OSError, match="away"):
        link._send_readings()
    assert run.sent == 0
    run.keep(reading(2250))
    link._send_readings()
    assert run.sent == 9 and len(link.server.told[-1][1]["chunks"][0]["t"]) == 9  # type: ignore[attr-defined]


def test_a_fault_that_goes_on_is_said_once_a_minute_and_when_it_is_over(caplog: pytest.LogCaptureFixture) -> None:
    now = [0.0]
    complaint = Complaint(logging.getLogger("moorfog.link"), "it answers again", lambda: now[0])
    with caplog.at_level(logging.INFO, "moorfog.link"):
        complaint.well()
        for now[0] in (0.0, 0.5, 59.5):
            complaint.fault("the server is away")
        assert caplog.messages == ["the server is away"]
        now[0] = 60.0
        complaint.fault("the server is away")
        complaint.fault("its certificate is not trusted")
        complaint.well()
        complaint.well()
    assert caplog.messages[1:] == ["the server is away", "its certificate is not trusted", "it answers again"]


def test_a_server_that_lacks_readings_is_sent_them_from_where_it_stands(link: Link) -> None:
    run = begin(link, 8)
    run.sent = 8
    link._refused(Refused(409, "readings_missing", "", {"stored": 5}))
    assert run.sent == 5
    link._send_readings()
    assert link.server.told[-1][1]["chunks"][0]["first"] == 5  # type: ignore[attr-defined]


def test_a_run_without_a_lease_is_dropped_with_its_file(link: Link) -> None:
    run = begin(link, 2)
    link._refused(Refused(409, "no_lease", "", {}))
    assert link.run is None and not run.spool.exists() and "r1" in link.finished


def test_a_finished_run_is_sealed_with_its_digest_and_count(link: Link) -> None:
    run = begin(link, 4)
    run.end, run.ended_at = "complete", 100.0
    link._send_readings()
    path, body = link.server.told[-1]  # type: ignore[attr-defined]
    assert path.endswith("/close") and (body["end"], body["count"]) == ("complete", 4) and len(body["sha256"]) == 64
    assert link.run is None


def test_a_run_is_taken_up_once_and_stopped_when_the_plan_says_so(link: Link) -> None:
    wire = Wire()
    driver = LineDriver(wire, said={"serial": "SIM-0004"})
    link.wanted = {**PLAN, "simulated": {"seed": 4, "factors": [9, 9, 9, 9], "starts_ms": [0, 1, 2, 3]}}
    link._take_up(driver, None)
    heard = [read_line(line + b"\n") for line in bytes(wire.heard).strip().split(b"\n")]
    assert [one.type for one in heard] == ["MODE", "SIM"] and heard[1].fields["factors"] == "9,9,9,9"
    run = link.run
    assert run is not None
    link._take_up(driver, RawReading(1, 5000, reading(0), run.t0 - 2.0))
    assert run.zero_ms == 7000, "t0 on the counter's own clock"
    assert link._use(driver, RawReading(2, 16_250, reading(0), 0.0)) == "IN" and run.readings[-1].t == 9250
    link.wanted = {**PLAN, "stop": True}
    link._take_up(driver, None)
    assert run.end == "stopped"
    link._drop(run)
    link.wanted = PLAN
    link._take_up(driver, None)
    assert link.run is None, "a finished run is not begun again"


def test_a_counter_at_rest_counts_all_sizes_again(link: Link) -> None:
    """After a size-classified run the room would read a tenth of what it is, and the day's check of room air fail."""
    wire = Wire()
    driver = LineDriver(wire, said={"serial": "A-1", "mode": "counts"})
    link.wanted = {**PLAN, "mode": "classified"}
    link._take_up(driver, None)
    run = link.run
    assert run is not None
    link.wanted = None
    link._drop(run)
    link._take_up(driver, None)
    assert wire.heard.count(b"MODE") == 1, "the proof of that run may follow"
    link.rests_since -= AT_REST_S
    for _ in range(3):
        link._take_up(driver, None)
    modes = [read_line(one + b"\n").fields["m"] for one in bytes(wire.heard).split(b"\n") if b"MODE" in one]
    assert modes == ["classified", "ordinary"], "once"


def test_a_lost_counter_ends_the_run_as_lost(link: Link) -> None:
    run = begin(link, 4)
    link._lose()
    assert run.end == "lost"
