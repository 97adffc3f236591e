"""How many keys a visit costs, counted in a real browser; and that a card is seen whole and read from a step away."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from typing import Any

import pytest
from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.rules.book import Rules
from moorfog.demo.seed import best_size, catalogue, check_counter, counter_id
from moorfog.demo.walk import Walk
from moorfog.platform.db.base import new_id, run_in_transaction
from moorfog.platform.db.clock import DatabaseClock
from moorfog.rooms.accounts.sessions import load_actor
from moorfog.rooms.accounts.tables import Account
from moorfog.rooms.people.tables import Person, TrainingRow
from tests.browser.desk import Desk
from tests.browser.stack import Stack
from tests.browser.stalls import on_a_running_machine

Make = Callable[..., Desk]
HIDDEN = """() => {
  const stage = document.querySelector('.stage');
  return stage ? stage.scrollHeight - stage.clientHeight : 0;
}"""
"""How much of a card lies below the edge of the screen, in px."""
SMALL = """() => [...document.querySelectorAll(
    '.question, .look-lines button, .verdict-rows, .foot .tarn span, .running-factor .mono, .heading-for'
  )].filter(one => one.offsetParent && parseFloat(getComputedStyle(one).fontSize) < 26)
  .map(one => `${one.className}: ${getComputedStyle(one).fontSize}`)"""
"""What is read standing and is too small for it."""
OWN_EYES = {"piece", "probe", "zero_filter", "line_dry", "hygiene", "sign_tester"}
"""Cards of which nothing is said to the wearer."""
PX = 2  # a border that is rounded up


def passed_last_year(stack: Stack, rules: Rules, number: str) -> str:
    """Walk a visit of eleven months ago to a signed pass; return the person's name."""

    def walk(db: Session) -> str:
        account = db.scalar(select(Account).where(Account.login == "maren"))
        person = db.scalar(select(Person).where(Person.number == number))
        counter = counter_id(db)
        assert account and person and counter
        at = DatabaseClock().now(db) - timedelta(days=330)
        actor = load_actor(db, account, at + timedelta(days=1))
        check_counter(db, actor, counter, at - timedelta(minutes=5))
        trained = {"id": new_id(), "person_id": person.id, "account_id": account.id, "entered_at": at}
        db.add(TrainingRow(**trained, trained_on=(at - timedelta(days=1)).date(), what="donning"))
        db.flush()
        walked = Walk(db, actor, rules, person.id, "Bench A", at, counter)
        walked.until("choose_facepiece")
        option = catalogue(db)["Sleet"]
        walked.choose(option, best_size(option, person.face_length or 0))
        walked.until("run")
        walked.run_counter((9800, 5200, 3100, 7400), seed=5)
        walked.until("release")
        walked.do("release")
        return person.name

    return run_in_transaction(stack.engine, walk)


def to_the_end(tester: Desk, wanted: dict[str, int], cards: list[str]) -> None:
    """Go on to the closed visit; note in ``wanted`` how many keys each of its cards was reached with. Every card is
    whole on the screen, and what is read standing is large."""
    wrong: list[str] = []

    def look(item: str) -> None:
        cards.append(item)
        if item in wanted:
            wanted[item] = tester.presses
        below = tester.page.evaluate(HIDDEN)
        wrong.extend([f"{item}: {below} px below the edge"] if below > PX else [])
        wrong.extend(f"{item}: {one}" for one in tester.page.evaluate(SMALL))

    while tester.item() != "release":
        tester.until("release", look=look)
    look("release")
    assert wrong == []
    tester.press("Space")
    tester.page.get_by_role("button", name="Report, A4").wait_for()


@on_a_running_machine
def test_a_returning_worker_costs_forty_keys_from_the_door_to_the_card(desk: Make, stack: Stack, rules: Rules) -> None:
    """To donned 12, to the start key 25, to released 40; beside typing a number and a name."""
    name = passed_last_year(stack, rules, "1004")
    tester = desk().sign_in()
    tester.check_counter()
    tester.presses = 0
    tester.open_visit(name, practice="20")
    wanted, cards = {"placed": 0, "run": 0}, list[str]()
    to_the_end(tester, wanted, cards)
    assert (wanted["placed"] <= 12, wanted["run"] + 1 <= 25, tester.presses <= 40) == (True,) * 3, (wanted, cards)
    assert len(set(cards) - {"wait", "run-view"} - OWN_EYES) <= 25, cards
    assert tester.page.locator("h1").inner_text().startswith("pass")


@on_a_running_machine
def test_a_refit_after_a_fail_costs_twelve_keys(desk: Make, stack: Stack) -> None:
    tester = desk().sign_in()
    tester.check_counter()
    tester.open_visit("1005", practice="10")
    tester.until("run", model="Sedge")
    tester.page.get_by_text("link is up").wait_for()
    for _ in range(12):
        if tester.page.locator(".reading b", has_text="tubble").count():
            break
        tester.press("f")
    tester.press("Space")
    tester.page.locator("[data-item='decide']").wait_for(timeout=90_000)

    assert "needs 100" in tester.page.locator(".verdict").inner_text(), tester.page.locator("body").inner_text()
    assert tester.page.evaluate(HIDDEN) <= PX
    tester.presses = 0
    seq = tester.page.get_attribute(".bench", "data-seq")
    tester.press("1")
    tester.settle("decide", seq)
    tester.until("run")
    assert tester.presses <= 12, tester.presses


@pytest.mark.parametrize("size", [(820, 1180)])
def test_somebody_nobody_has_entered_is_donned_in_sixty_keys(desk: Make, stack: Stack, size: Any) -> None:
    """On a tablet that is set to another zone, a day ahead for most of the day: the site's day counts."""
    tester = desk(width=size[0], height=size[1], timezone_id="Pacific/Kiritimati").sign_in()
    tester.presses = 0
    tester.press("Space")
    tester.page.get_by_label("Beginning of a name").wait_for()
    tester.page.keyboard.type("Orla Wick")
    tester.page.get_by_text("Nobody of that name").wait_for()
    tester.press("Enter")
    tester.page.get_by_label("New person").get_by_text("Full name").wait_for()
    tester.page.keyboard.type("7001")
    tester.page.get_by_role("checkbox").check()
    tester.page.get_by_label("Cleared by").fill("Harbour Row practice")
    assert tester.axe() == []
    tester.press("Enter")
    tester.page.wait_for_url("**/visit/*")
    train = tester.page.get_by_role("button", name="trained now, put it on file")
    train.wait_for()  # said at arrival, settled with one key
    tester.press("j")
    train.wait_for(state="detached")
    hidden: list[str] = []
    tester.until("choose")
    tester.page.get_by_role("button", name="which size?").wait_for()
    tester.press("Space")  # the first that is enough, as the key says
    tester.page.locator(".options.sizes").wait_for()
    tester.page.reload()
    tester.item()

    def look(item: str) -> None:
        hidden.extend([item] if tester.page.evaluate(HIDDEN) > PX else [])

    tester.until("placed", look=look)
    assert tester.presses + 6 <= 60 and hidden == [], (tester.presses, hidden)
    assert "Orla Wick" in tester.page.locator(".aside").inner_text()
