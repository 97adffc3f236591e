"""Every room without a mouse: each key and field is come to by Tab, seen where it is, on a tablet and in the dark."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from playwright.sync_api import Page

from moorfog.core.rules.book import Rules
from tests.browser.desk import Desk
from tests.browser.stack import Stack
from tests.browser.test_keys import passed_last_year

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
