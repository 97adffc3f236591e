"""A tester at a browser: presses keys, reads what the screen shows, and has axe look at it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from playwright.sync_api import Browser, Page

from tests.browser.stack import PASSWORD

AXE = Path(__file__).parents[2] / "web" / "node_modules" / "axe-core" / "axe.min.js"
MOVED_ON = """([seq, item]) => {
  const bench = document.querySelector('.bench'), card = document.querySelector('[data-item],[data-run]');
  return !bench || !card || bench.dataset.seq !== seq || (card.dataset.item || 'run-view') !== item;
}"""


class Desk:
    """One browser window with one account."""

    def __init__(self, browser: Browser, address: str, width: int = 1280, height: int = 800, **context: Any) -> None:
        self.context = browser.new_context(viewport={"width": width, "height": height}, **context)
        self.page: Page = self.context.new_page()
        self.address = address
        self.presses = 0
        self.problems: list[str] = []
        self.page.on("pageerror", lambda error: self.problems.append(str(error)))

    def sign_in(self, login: str = "maren") -> Desk:
        """Sign in by keyboard."""
        self.page.goto(self.address)
        self.page.get_by_label("Name you sign in with").wait_for()
        self.page.keyboard.type(login)
        self.page.keyboard.press("Tab")
        self.page.keyboard.type(PASSWORD)
        self.page.keyboard.press("Enter")
        self.heading("Today")
        return self

    def heading(self, words: str) -> None:
        """Wait for a page's heading."""
        self.page.locator("h1", has_text=words).first.wait_for()

    def press(self, *keys: str) -> None:
        """Press keys, one after the other."""
        for key in keys:
            self.page.keyboard.press(key)
            self.presses += 1

    def axe(self) -> list[str]:
        """Return what axe finds on the page, a line each."""
        self.page.evaluate(AXE.read_text())
        found = self.page.evaluate("axe.run(document, {resultTypes: ['violations']})")
        return [
            f"{one['id']}: {node['target']} {node['failureSummary']}"
            for one in found["violations"]
            for node in one["nodes"]
        ]

    def item(self) -> str:
        """Return what the bench asks now; "run-view" while a run goes on."""
        card = self.page.locator("[data-item],[data-run]").first
        card.wait_for()
        return card.get_attribute("data-item") or "run-view"

    def open_visit(self, who: str, practice: str = "") -> str:
        """Someone walks up: find them, Enter; return the visit's id."""
        self.heading("Today")
        self.press("Space")
        self.page.get_by_label("Beginning of a name").wait_for()
        self.page.keyboard.type(who)
        self.page.locator(".rows li", has_text=who).first.wait_for()
        if practice:
            self.page.get_by_label("Practice").check()
            self.page.get_by_label("Time runs").select_option(practice)
            self.page.get_by_label("Beginning of a name").focus()
        self.press("Enter")
        self.page.wait_for_url("**/visit/*")
        self.item()
        return self.page.url.rsplit("/", 1)[-1]

    def settle(self, item: str, seq: str | None) -> None:
        """Wait until the bench has moved on from ``item``."""
        self.page.wait_for_function(MOVED_ON, arg=[seq, item], timeout=90_000)

    def until(self, *wanted: str, model: str = "Bracken", look: Any = None) -> str:
        """Press Space, and what a card needs besides, until one of ``wanted`` is shown."""
        for _ in range(300):
            item = self.item()
            if item in wanted:
                return item
            seq = self.page.get_attribute(".bench", "data-seq")
            if look is not None:
                look(item)
            if item == "wait" or item == "run-view":
                self.settle(item, seq)
                continue
            if item == "choose":
                self.choose(model)
            elif item == "task":
                self.page.locator(".options li").first.wait_for()
            if item.startswith("sign_"):
                self.page.get_by_label("name").first.fill("A Name")
                self.press("Enter")
            else:
                self.press("Space")
            self.settle(item, seq)
        raise AssertionError(f"none of {wanted} came up; now at {self.item()}")

    def choose(self, model: str, fitting: bool = True) -> None:
        """Choose a model by its digit, then the size whose range this face is within."""
        option = self.page.locator(".options li", has_text=model).first
        self.page.get_by_text("enough for the task").first.wait_for()
        self.press(option.locator("kbd").inner_text())
        sizes = self.page.locator(".options.sizes li")
        if sizes.count() or self.page.locator("h1", has_text="which size?").count():
            words = "this face is within" if fitting else "this face is outside"
            size = sizes.filter(has_text=words)
            self.press((size if size.count() else sizes).first.locator("kbd").inner_text())
        self.page.get_by_text("Worn with it at work").wait_for()

    def check_counter(self) -> None:
        """Do the daily checks on the Kit page, by keyboard."""
        self.page.get_by_role("link", name="Kit").click()
        self.heading("Kit")
        for words, value in (("Particle check", "5400"), ("Zero check", "0"), ("Maximum fit", "48000")):
            row = self.page.locator(".check", has_text=words)
            row.locator("input").focus()
            self.page.keyboard.type(value)
            self.press("Enter")
            row.get_by_text("within the limit").wait_for()
        self.page.get_by_role("link", name="Today").click()
        self.heading("Today")
