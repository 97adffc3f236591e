"""Every room without a mouse: each key and field is come to by Tab, seen where it is, on a tablet and in the dark."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from playwright.sync_api import Page
from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.rules.book import Rules
from moorfog.platform.db.base import run_in_transaction
from moorfog.platform.db.clock import DatabaseClock
from moorfog.rooms.accounts import managing
from moorfog.rooms.accounts.sessions import load_actor
from moorfog.rooms.accounts.tables import Account
from moorfog.rooms.crews import board, crews
from moorfog.rooms.sites.tables import Site
from tests.browser.desk import Desk
from tests.browser.stack import Stack
from tests.browser.test_keys import passed_last_year
from tests.browser.test_programme import with_a_card

Make = Callable[..., Desk]
ROOMS = {
    "/": "Today",
    "/kit": "Kit",
    "/people": "",
    "/import": "Import a roster",
    "/tomorrow": "",
    "/due": "",
    "/results": "",
    "/records": "Every test",
    "/history": "Results of before",
    "/outbox": "Outbox",
    "/rules": "",
    "/facepieces": "",
    "/account": "Hollis",
    "/admin": "",
    "/admin/places": "",
    "/admin/accounts": "",
    "/admin/instruments": "",
    "/admin/facepieces": "",
    "/admin/journal": "",
    "/admin/tokens": "",
}
"""Each room, and the beginning of its heading where it is the same whatever is in it."""
SHAPES = {
    "tablet": {"width": 820, "height": 1180},
    "phone, dark": {"width": 390, "height": 844, "color_scheme": "dark"},
    "desk, dark": {"width": 1280, "height": 800, "color_scheme": "dark"},
}
NUMBERS = dict(zip(SHAPES, ("1004", "1012", "1011"), strict=True))
"""Of whom something is on record, for each shape: an empty list is easily walked."""
CAN_BE_USED = """() => [...document.querySelectorAll(
    'a[href], button, input, select, textarea, summary, [tabindex="0"]')]
  .filter(one => !one.disabled && one.tabIndex >= 0 && one.type !== 'hidden')
  .filter(one => one.checkVisibility({visibilityProperty: true}))"""
TOTAL = f"({CAN_BE_USED})().length"
MARKED = "[...document.querySelectorAll('[data-come-to]')].length"
COME_TO = """() => {
  const one = document.activeElement;
  if (!one || one === document.body) return null;
  const known = one.hasAttribute('data-come-to');
  one.setAttribute('data-come-to', '');
  if (one.type === 'radio' && one.name)  // a group is one stop: arrows go on in it
    document.getElementsByName(one.name).forEach(other => other.setAttribute('data-come-to', ''));
  const style = getComputedStyle(one), box = one.getBoundingClientRect();
  const around = [style, ...[...document.querySelectorAll('label')].filter(l => l.contains(one)).map(
    l => getComputedStyle(l)), one.nextElementSibling && getComputedStyle(one.nextElementSibling)].filter(Boolean);
  const outlined = s => s.outlineStyle !== 'none' && parseFloat(s.outlineWidth) > 0;
  const seen = around.some(s => outlined(s) || s.boxShadow !== 'none');
  return {known, seen, words: (one.innerText || one.getAttribute('aria-label') || one.name || one.tagName).slice(0, 60),
    above: box.bottom <= 0 || box.top >= innerHeight};
}"""
MISSED = f"""() => ({CAN_BE_USED})().filter(one => !one.hasAttribute('data-come-to')).map(
  one => (one.innerText || one.getAttribute('aria-label') || one.outerHTML).slice(0, 80))"""


def walked_by_tab(page: Page) -> list[str]:
    """Press Tab until everything was come to once; return what is wrong."""
    wrong: list[str] = []
    page.evaluate("document.activeElement && document.activeElement.blur()")
    steps = 0
    while steps < page.evaluate(TOTAL) + 20:
        steps += 1
        page.keyboard.press("Tab")
        found = page.evaluate(COME_TO)
        if found is None or found["known"]:
            if page.evaluate(MISSED) == []:
                break
            continue
        if not found["seen"]:
            wrong.append(f"not seen where it is: {found['words']}")
        if found["above"]:
            wrong.append(f"out of sight: {found['words']}")
    return wrong + [f"never come to: {one}" for one in page.evaluate(MISSED)]


BESIDE = """() => {
  const wide = document.documentElement.clientWidth;
  if (document.documentElement.scrollWidth <= wide) return [];
  const over = [...document.querySelectorAll('main *')].filter(one => one.getBoundingClientRect().right > wide + 1);
  return over.slice(0, 3).map(one => `${one.tagName}.${one.className}: ${(one.textContent || '').slice(0, 40)}`);
}"""
"""What lies beside the screen, where anything does."""


@pytest.mark.parametrize("shape", SHAPES)
def test_every_room_is_walked_by_keyboard(desk: Make, stack: Stack, rules: Rules, shape: str) -> None:
    passed_last_year(stack, rules, NUMBERS[shape])
    chief = desk(**SHAPES[shape]).sign_in("hollis")
    wrong: dict[str, list[str]] = {}
    person = chief.page.request.get(f"{stack.address}/api/people?q={NUMBERS[shape]}").json()["rows"][0]["id"]
    for room, words in {**ROOMS, f"/people/{person}": ""}.items():
        chief.page.goto(f"{stack.address}{room}")
        chief.heading(words)
        chief.page.get_by_text("is being fetched").first.wait_for(state="detached")
        found = walked_by_tab(chief.page) + chief.axe()
        wrong[room] = found + [f"beside the screen: {one}" for one in chief.page.evaluate(BESIDE)]
    assert "\n".join(f"{room}: {one}" for room, found in wrong.items() for one in found) == ""


def doors(stack: Stack, shape: str) -> dict[str, str]:
    """The pages that open without an account, and the words each of them begins with."""

    def work(db: Session) -> tuple[str, str]:
        chief = db.scalar(select(Account).where(Account.login == "hollis"))
        site = db.scalars(select(Site.id).order_by(Site.name)).first()
        assert chief and site
        actor, clock = load_actor(db, chief), DatabaseClock()
        everywhere = (managing.GrantEntry("tester", None),)
        login = f"walker{list(SHAPES).index(shape)}"
        invited = managing.invite(db, clock, actor, managing.AccountEntry(login, "Walker Reed", everywhere))
        return invited.address, board.open_gate(db, clock, actor, crews.CrewAsked(site)).path

    join, gate = run_in_transaction(stack.engine, work)
    code = with_a_card(stack)
    return {"/": "Moorfog", f"/c/{code}": "Valid", "/c/0000-0000-0000": "", join: "Walker Reed", gate: ""}


@pytest.mark.parametrize("shape", SHAPES)
def test_every_page_without_an_account_is_walked_by_keyboard(
    desk: Make, stack: Stack, rules: Rules, shape: str
) -> None:
    passed_last_year(stack, rules, NUMBERS[shape])
    wrong: dict[str, list[str]] = {}
    for door, words in doors(stack, shape).items():
        stranger = desk(**SHAPES[shape])
        stranger.page.goto(door if door.startswith("http") else f"{stack.address}{door}")
        stranger.heading(words)
        stranger.page.get_by_text("is being fetched").first.wait_for(state="detached")
        found = walked_by_tab(stranger.page) + stranger.axe()
        wrong[door] = found + [f"beside the screen: {one}" for one in stranger.page.evaluate(BESIDE)]
    assert "\n".join(f"{door}: {one}" for door, found in wrong.items() for one in found) == ""
