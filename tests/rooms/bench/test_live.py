"""Live updates within one process: whole states, a run from its beginning, and what happens to a slow browser."""

from __future__ import annotations

import json
import time
from collections.abc import Iterator
from queue import Empty, Queue
from typing import Any

import pytest
from sqlalchemy import select, update

from moorfog.platform.db.scope import Scope
from moorfog.platform.log.log import forget_states
from moorfog.platform.log.tables import EventRow
from moorfog.rooms.bench.live import QUEUE_LENGTH, Hub
from moorfog.rooms.today.day import Day
from tests.rooms.bench.test_runs import columns, readings_of
from tests.rooms.house import Client, House
from tests.unguarded import unguarded


@pytest.fixture
def hub(house: House) -> Iterator[Hub]:
    one = Hub(house.engine, house.clock)
    yield one
    for visit, watch in list(one.watches.items()):
        for queue in list(watch.queues):
            one.unsubscribe(visit, queue)


def next_of(queue: Queue[str], kind: str, wait_s: float = 5) -> dict[str, Any]:
    """Return the next message of a kind, passing over others."""
    deadline = time.monotonic() + wait_s
    while time.monotonic() < deadline:
        try:
            head, data = queue.get(timeout=0.2).strip().split("\n", 1)
        except Empty:
            continue
        if head == f"event: {kind}":
            return dict(json.loads(data.removeprefix("data: ")))
    raise AssertionError(f"no {kind} came")


def at_run(house: House) -> tuple[Client, str, str]:
    tester = house.client()
    tester.check_counter()
    visit = tester.open()
    tester.until(visit, "run")
    return tester, visit, tester.start(visit)


def test_a_browser_first_hears_the_whole_state_and_then_every_change(house: House, hub: Hub) -> None:
    tester = house.client()
    visit = tester.open()
    queue = hub.subscribe(visit)
    assert next_of(queue, "state")["visit"]["seq"] == 1
    card = tester.get(f"/api/visits/{visit}")["visit"]["queue"][0]
    tester.say(visit, {"kind": "answered", "question": card["id"], "answer": "fine", "facts": card["facts"]})
    assert next_of(queue, "state")["visit"]["seq"] == 2


def test_time_alone_brings_a_new_state(house: House, hub: Hub) -> None:
    tester = house.client()
    visit = tester.open()
    tester.until(visit, "don")
    tester.say(visit, {"kind": "donned", "unaided": True})
    queue = hub.subscribe(visit)
    first = next_of(queue, "state")["visit"]
    assert any(one["code"] == "wear" for one in first["between"])
    house.clock.pass_by(301)
    later = next_of(queue, "state")["visit"]
    assert later["seq"] == first["seq"] and not any(one["code"] == "wear" for one in later["between"])


def test_whoever_comes_in_the_middle_of_a_run_gets_it_from_its_beginning(house: House, hub: Hub) -> None:
    tester, visit, run = at_run(house)
    readings = readings_of(house)
    first = hub.subscribe(visit)
    next_of(first, "state")
    tester.link(f"runs/{run}/chunks", {"chunks": [columns(readings[:200])]})
    assert len(next_of(first, "live")["points"]) == 200
    second = hub.subscribe(visit)
    whole = next_of(second, "live")
    assert len(whole["points"]) == 200 and whole["points"][0][0] == readings[0].t
    tester.link(f"runs/{run}/chunks", {"chunks": [columns(readings[200:204], 200)]})
    for queue in (first, second):
        while len((message := next_of(queue, "live"))["points"]) != 4:
            assert len(message["points"]) == 200
        assert message["inside_live"] and message["outside"] and len(message["shares"]) >= 1


def test_a_slow_browser_is_told_to_fetch_everything_anew(house: House, hub: Hub) -> None:
    tester = house.client()
    visit = tester.open()
    queue = hub.subscribe(visit)
    next_of(queue, "state")
    watch = hub.watches[visit]
    for number in range(QUEUE_LENGTH + 1):
        hub._send(watch, f"event: filler\ndata: {number}\n\n")
    assert queue.qsize() == 1 and "resync" in queue.get()


def test_nobody_watching_means_nothing_is_read(house: House, hub: Hub) -> None:
    visit = house.client().open()
    queue = hub.subscribe(visit)
    next_of(queue, "state")
    hub.unsubscribe(visit, queue)
    assert hub.watches == {}
    deadline = time.monotonic() + 5
    while hub.thread is not None and time.monotonic() < deadline:
        time.sleep(0.05)
    assert hub.thread is None, "the thread ends with its last browser"


def test_a_page_of_the_day_hears_of_its_own_employers_and_of_nobody_elses(house: House) -> None:
    """Within a second of what is pressed at a bench, filed at a desk, or found wrong with a counter."""
    tester = house.client()
    day, ours = Day(house.engine), Scope(frozenset({house.ours.employer}))
    theirs = Scope(frozenset({house.theirs.employer}))
    queue, end = day.listen(ours)
    other, end_other = day.listen(theirs)

    def heard(queue: Queue[str]) -> bool:
        try:
            return bool(queue.get(timeout=3))
        except Empty:
            return False

    def settled() -> None:
        """Wait until nothing is heard any more: other tests of this house may still be written."""
        while True:
            try:
                queue.get(timeout=1.2)
            except Empty:
                break
        while not other.empty():
            other.get_nowait()

    assert heard(queue) and heard(other), "whoever comes asks first"
    settled()
    visit = tester.open()
    assert heard(queue), "somebody is at a bench"
    settled()
    assert other.empty(), "which is nobody else's business"
    tester.until(visit, "choose_facepiece")
    assert heard(queue)
    settled()
    on = house.clock.at.date().isoformat()
    tester.post(f"/api/people/{house.ours.people[1]}/training", {"trained_on": on, "what": "donning"})
    assert heard(queue), "what is filed decides who may wear what"
    settled()
    tester.check_counter()
    house.clock.pass_by(60)
    tester.post(f"/api/counters/{house.ours.counter}/checks", {"name": "clean_air", "value": "900"})
    assert heard(queue), "a counter found wrong"
    end()
    end_other()
    deadline = time.monotonic() + 5
    while day.thread is not None and time.monotonic() < deadline:
        time.sleep(0.05)
    assert day.thread is None, "with its last page it looks no more"


@pytest.fixture
def torn(house: House) -> Iterator[str]:
    """A visit of which nobody can read the first entry any more, mended afterwards."""
    visit = house.client().open(house.ours.people[0])
    row = select(EventRow.payload).where(EventRow.visit_id == visit)
    with unguarded(house.engine) as db:
        content = db.scalars(row).one()
        db.execute(update(EventRow).where(EventRow.visit_id == visit).values(payload="{}"))
    forget_states()
    yield visit
    with unguarded(house.engine) as db:
        db.execute(update(EventRow).where(EventRow.visit_id == visit).values(payload=content))


@pytest.mark.parametrize("is_first", [True, False])
def test_a_visit_that_cannot_be_read_silences_no_other(house: House, hub: Hub, torn: str, is_first: bool) -> None:
    tester = house.client()
    other = tester.open(house.ours.people[1])
    queues = {one: hub.subscribe(one) for one in ((torn, other) if is_first else (other, torn))}
    assert next_of(queues[torn], "away") == {}, "its own screen hears that there is nothing to show"
    assert next_of(queues[other], "state")["visit"]["seq"] == 1
    card = tester.get(f"/api/visits/{other}")["visit"]["queue"][0]
    tester.say(other, {"kind": "answered", "question": card["id"], "answer": "fine", "facts": card["facts"]})
    assert next_of(queues[other], "state")["visit"]["seq"] == 2
