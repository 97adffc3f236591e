"""Two web processes, one database, every part killed in turn: nothing acknowledged is lost, broken runs are void."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from itertools import pairwise

import pytest
from sqlalchemy.orm import Session

from moorfog.core.rules.book import Rules
from moorfog.platform.log.log import load_events
from moorfog.rooms.bench.readings import load_chunks
from tests.browser.desk import Desk
from tests.browser.stack import Stack
from tests.browser.walked import Walker

Make = Callable[..., Desk]


@pytest.fixture(scope="module")
def pair(rules: Rules) -> Iterator[Stack]:
    """Two web processes on a database with the product's durability and a clock that can be set."""
    one = Stack(rules, webs=2, is_clock_set=True)
    yield one
    one.stop()


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
    here.fine("identity")
    there.page.locator("[data-item='medical']").wait_for(timeout=3000)
    pair.server.kill()
    there.page.get_by_text("The server is away").wait_for(timeout=15_000)
    here.fine("medical")
    here.page.get_by_text("is kept here and sent when it is back").wait_for(timeout=15_000)
    pair.server.start()
    there.page.locator("[data-item='shave']").wait_for(timeout=20_000)
    here.page.locator("[data-item='shave']").wait_for(timeout=20_000)
    there.page.get_by_text("The server is away").wait_for(state="detached", timeout=15_000)
    here.fine("shave")
    there.page.locator("[data-item='fit_today']").wait_for(timeout=5000)


@pytest.mark.parametrize(("victim", "who"), [("web0", "1005"), ("database", "1006")])
def test_a_web_process_or_the_database_killed_in_mid_run_loses_no_reading(
    desk: Make, pair: Stack, rules: Rules, victim: str, who: str
) -> None:
    visit, _ = Walker(pair, rules).to("run", who)
    tester = desk(pair.address).sign_in().at(visit)
    tester.page.get_by_text("link is up").wait_for()
    tester.press("Space")
    run = tester.page.locator("[data-run]").get_attribute("data-run") or ""
    run_for(tester, 30)
    if victim == "database":
        pair.server.kill()
    else:
        pair.kill(victim)
    time.sleep(2)
    if victim == "database":
        pair.server.start()
        pair.engine.dispose()  # this test's own connections were to the one that died
    else:
        pair.start_web(0)
    tester.page.locator("[data-item]").wait_for(timeout=40_000)
    with Session(pair.engine) as db:
        readings = [one for chunk in load_chunks(db, run) for one in chunk.readings()]
    times = [one.t for one in readings]
    assert times == sorted(set(times)) and max(times) >= 149_000, "each reading there once, to the end"
    assert max(b - a for a, b in pairwise(times)) == 250, "and none missing"


@pytest.mark.parametrize(("victim", "who"), [("counter", "1007"), ("link", "1009")])
def test_a_counter_or_link_killed_in_mid_run_voids_it_and_keeps_its_readings(
    desk: Make, pair: Stack, rules: Rules, victim: str, who: str
) -> None:
    visit, _ = Walker(pair, rules).to("run", who)
    tester = desk(pair.address).sign_in().at(visit)
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


@pytest.mark.parametrize(("hours", "who"), [(1, "1010"), (-1, "1011")])
def test_clocks_set_in_mid_run_void_nothing_and_refuse_no_press(
    desk: Make, pair: Stack, rules: Rules, hours: int, who: str
) -> None:
    """The database's clock and the browser's are set an hour ahead or back: run and presses go on as they were."""
    visit, _ = Walker(pair, rules).to("run", who)
    tester = desk(pair.address).sign_in().at(visit)
    tester.page.get_by_text("link is up").wait_for()
    tester.press("Space")
    run_for(tester, 20)
    assert pair.clock is not None
    pair.clock.put(hours * 3600)
    tester.page.evaluate("off => { const now = Date.now; Date.now = () => now() + off; }", -hours * 3_600_000)
    run_for(tester, 60)
    tester.press("x")
    tester.page.get_by_text("did it move?").wait_for()
    tester.press("1")
    tester.page.get_by_text("did it move?").wait_for(state="detached")
    tester.page.locator("[data-item]").wait_for(timeout=60_000)
    assert not tester.page.locator("h1").first.inner_text().lower().startswith("void")
    pair.clock.put(0)
    with Session(pair.engine) as db:
        kinds = [one.payload.kind for one in load_events(db, visit)]
    assert kinds.count("touched") == 1 and "run_voided" not in kinds
