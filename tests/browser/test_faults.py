"""Two web processes, one database, every part killed in turn: nothing acknowledged is lost, broken runs are void."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from datetime import timedelta
from itertools import pairwise

import pytest
from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.rules import Rules
from moorfog.demo.seed import best_size, catalogue, counter_id
from moorfog.demo.walk import Walk
from moorfog.operations.accounts import load_actor
from moorfog.operations.runs import load_chunks
from moorfog.store.base import DatabaseClock, run_in_transaction
from moorfog.store.models import Account, InstrumentCheckRow, Person
from tests.browser.desk import Desk
from tests.browser.stack import Stack

Make = Callable[..., Desk]


@pytest.fixture(scope="module")
def pair(rules: Rules) -> Iterator[Stack]:
    """Two web processes on a database with the product's durability."""
    one = Stack(rules, webs=2)
    yield one
    one.stop()


def at_the_run(stack: Stack, rules: Rules, who: int, speed: int = 10) -> str:
    """Walk a practice visit to its run and return its id; the counter's checks are done."""

    def walk(db: Session) -> str:
        account = db.scalar(select(Account).where(Account.login == "maren"))
        person = db.scalars(select(Person).where(Person.face_length.between(1150, 1230)).order_by(Person.number)).all()[
            who
        ]
        counter = counter_id(db)
        assert account and counter
        actor, now = load_actor(db, account), DatabaseClock().now(db)
        if not db.scalar(select(InstrumentCheckRow.id).limit(1)):
            from moorfog.demo.seed import check_counter

            check_counter(db, actor, counter, now)
        option = catalogue(db)["Sedge"]
        begin = now - timedelta(minutes=15)
        walked = Walk(db, actor, rules, person.id, "Bench A", begin, counter, is_practice=True, speed=speed)
        walked.until("choose_facepiece")
        walked.choose(option, best_size(option, person.face_length or 0))
        walked.until("run")
        return walked.visit_id

    return run_in_transaction(stack.engine, walk)


def run_for(tester: Desk, seconds: int) -> None:
    """Wait until the run has gone on for so many of the protocol's seconds."""
    tester.page.wait_for_function(
        "(s) => Number(document.querySelector('[data-run]')?.dataset.t) > s", arg=seconds, timeout=30_000
    )


def test_an_event_posted_to_one_process_shows_in_a_browser_on_the_other(desk: Make, pair: Stack) -> None:
    here = desk(pair.address).sign_in()
    visit = here.open_visit("Idris")
    there = desk(f"http://127.0.0.1:{pair.ports[1]}").sign_in()
    there.page.goto(f"{there.address}/visit/{visit}")
    assert there.item() == "identity"
    here.press("Space")
    there.page.locator("[data-item='medical']").wait_for(timeout=3000)
    pair.server.kill()
    there.page.get_by_text("The server is away").wait_for(timeout=15_000)
    here.press("Space")
    here.page.get_by_text("is kept here and sent when it is back").wait_for(timeout=15_000)
    pair.server.start()
    there.page.locator("[data-item='shave']").wait_for(timeout=20_000)
    here.page.locator("[data-item='shave']").wait_for(timeout=20_000)
    there.page.get_by_text("The server is away").wait_for(state="detached", timeout=15_000)
    here.press("Space")
    there.page.locator("[data-item='fit_today']").wait_for(timeout=5000)


def test_a_web_process_killed_in_mid_run_loses_no_reading(desk: Make, pair: Stack, rules: Rules) -> None:
    visit = at_the_run(pair, rules, 0)
    tester = desk(pair.address).sign_in()
    tester.page.goto(f"{pair.address}/visit/{visit}")
    tester.page.get_by_text("link is up").wait_for()
    tester.press("Space")
    run = tester.page.locator("[data-run]").get_attribute("data-run") or ""
    run_for(tester, 30)
    pair.kill("web0")
    time.sleep(2)
    pair.start_web(0)
    tester.page.locator("[data-item]").wait_for(timeout=40_000)
    with Session(pair.engine) as db:
        readings = [one for chunk in load_chunks(db, run) for one in chunk.readings()]
    times = [one.t for one in readings]
    assert times == sorted(set(times)) and max(times) >= 149_000, "each reading there once, to the end"
    assert max(b - a for a, b in pairwise(times)) == 250, "and none missing"


@pytest.mark.parametrize(("victim", "who"), [("counter", 1), ("link", 2)])
def test_a_counter_or_link_killed_in_mid_run_voids_it_and_keeps_its_readings(
    desk: Make, pair: Stack, rules: Rules, victim: str, who: int
) -> None:
    visit = at_the_run(pair, rules, who)
    tester = desk(pair.address).sign_in()
    tester.page.goto(f"{pair.address}/visit/{visit}")
    tester.page.get_by_text("link is up").wait_for()
    tester.press("Space")
    run = tester.page.locator("[data-run]").get_attribute("data-run") or ""
    run_for(tester, 40)
    pair.kill(victim)
    time.sleep(1)
    if victim == "counter":
        pair.start_counter()
    else:
        pair.start_link()
    tester.page.locator("[data-item='decide']").wait_for(timeout=60_000)
    assert tester.page.locator("h1").inner_text().startswith("void")
    with Session(pair.engine) as db:
        assert sum(len(chunk.t) for chunk in load_chunks(db, run)) > 100
    tester.press("1")
    tester.page.locator("[data-item='decide']").wait_for(state="detached", timeout=5000)
