"""A tester at a browser: presses keys, reads what the screen shows, and has axe look at it."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

from playwright.sync_api import Browser, Page, TimeoutError

from moorfog.demo.scenario import GOOD_CHECKS
from tests.browser.stack import PASSWORD

AXE = Path(__file__).parents[2] / "web" / "node_modules" / "axe-core" / "axe.min.js"
MOVED_ON = """([seq, item]) => {
  const bench = document.querySelector('.bench'), card = document.querySelector('[data-item],[data-run]');
  return !bench || !card || bench.dataset.seq !== seq || (card.dataset.item || 'run-view') !== item;
}"""


SPACE_WAITS = """() => [...document.querySelectorAll('.foot .key')].some(
  key => key.querySelector('kbd').innerText === 'Space' && !key.disabled)"""


class Desk:
    """One browser window with one account."""

    def __init__(self, browser: Browser, address: str, width: int = 1280, height: int = 800, **context: Any) -> None:
        self.context = browser.new_context(viewport={"width": width, "height": height}, **context)
        self.page: Page = self.context.new_page()
        self.address = address
        self.presses = 0
        self.method = "Ambient particle count"
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

    def axe(self, page: Page | None = None) -> list[str]:
        """Return what axe finds on the page, or on another one, a line each."""
        page = page or self.page
        page.evaluate(AXE.read_text())
        found = page.evaluate("axe.run(document, {resultTypes: ['violations']})")
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
            self.page.get_by_role("button", name="Practice instead").click()
            self.page.get_by_label("Time runs").select_option(practice)
            self.page.get_by_label("Beginning of a name").focus()
        self.press("Enter")
        self.page.wait_for_url("**/visit/*")
        self.item()
        return self.page.url.rsplit("/", 1)[-1]

    def at(self, visit_id: str) -> Desk:
        """Open a visit that is under way."""
        self.page.goto(f"{self.address}/visit/{visit_id}")
        self.item()
        return self

    def settle(self, item: str, seq: str | None) -> None:
        """Wait until the bench has moved on from ``item``."""
        try:
            self.page.wait_for_function(MOVED_ON, arg=[seq, item], timeout=60_000, polling=100)
        except TimeoutError as error:
            raise AssertionError(f"nothing moved on from {item}: {self.page.locator('body').inner_text()}") from error

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
            elif item in ("task", "method"):
                self.page.locator(".options li").first.wait_for()
            if item == "screen":
                self.screen()
                continue
            if item == "method":
                self.take_method()
                self.settle(item, seq)
                continue
            if item.startswith("sign_"):
                self.sign()
            elif item == "proof" and not self.page.locator("[data-proof]").count():
                self.prove()
            elif item == "proof":
                pass  # the instrument reads it
            else:
                self.fine(item)
            self.settle(item, seq)
        raise AssertionError(f"none of {wanted} came up; now at {self.item()}")

    def fine(self, item: str) -> None:
        """Say that all is well: by the key of its own where a card can stop the test, once it may be pressed."""
        gate = self.page.locator(f"[data-item='{item}']").first.get_attribute("data-gate")
        if self.page.locator(f"[data-item='{item}'][data-look]").count():
            self.page.locator("[data-look='open']").wait_for()
        if gate is not None:
            try:
                self.page.locator("[data-gate='open']").wait_for()
            except TimeoutError as error:
                raise AssertionError(f"{item} never opens: {self.page.locator('body').inner_text()}") from error
            self.press("y")
            return
        if item == "seal_check":
            self.page.wait_for_function(SPACE_WAITS, polling=50)
        if item == "task" and not self.page.locator(".foot .tarn").count():
            self.press("1")
            return
        self.press("Space")

    def sign(self) -> None:
        """Type the name that is asked for, and sign."""
        whose = self.page.locator("label", has_text="type your name").first.inner_text()
        self.page.get_by_label("type your name").fill(whose.split(", type")[0])
        self.press("Enter")

    def prove(self, seen: str = "4000") -> None:
        """Type what the display showed when the seal was broken on purpose."""
        self.page.get_by_label("Highest number seen inside").fill(seen)
        self.press("Enter")

    def take_method(self) -> None:
        """Choose the method this desk tests by, by its digit."""
        self.press(self.page.locator(".options li", has_text=self.method).locator("kbd").inner_text())

    def screen(self, squeezes: int = 12) -> None:
        """Screen: taste it, name the odour jar, or react; whatever the screen asks for."""
        page = self.page
        page.wait_for_function("() => document.querySelector('.foot .key')?.disabled === false", polling=100)
        jars = page.get_by_text("Draw the order").count()
        whiff = page.get_by_text("give a weak whiff").count()
        self.press("Space")
        page.locator(".card.sense").wait_for()
        if jars:
            side = page.locator(".jars .odour small").inner_text()
            self.press("Space")
            page.get_by_text("says left").wait_for()
            self.press("1" if side == "left" else "2")
        else:
            for number in range(0 if whiff else squeezes):
                self.press("Space")
                page.locator(f"[data-squeezes='{number + 1}']").wait_for()
            self.press("d")
        page.wait_for_function("() => document.querySelector('[data-item]')?.dataset.item !== 'screen'", polling=100)

    def doses(self, slots: list[int], until_s: float) -> None:
        """Press Space at each of ``slots`` (seconds from t0), until ``until_s`` of the run."""
        self.page.evaluate(
            """([slots, until]) => new Promise(done => {
              const left = [...slots];
              const timer = setInterval(() => {
                const run = document.querySelector('[data-run]');
                const t = run ? Number(run.dataset.t) : until;
                while (left.length && t >= left[0] - 2) {
                  left.shift();
                  window.dispatchEvent(new KeyboardEvent('keydown', {key: ' '}));
                }
                if (!run || t >= until) { clearInterval(timer); done(); }
              }, 25);
            })""",
            [slots, until_s],
        )

    def paper(self, *keys: str) -> bytes:
        """Press what opens a paper in a window of its own; return the paper."""
        is_paper = re.compile(r"/reports/[^/]+/\d+$").search
        with (
            self.context.expect_page() as opened,
            self.context.expect_event("request", lambda request: is_paper(request.url) is not None) as asked,
        ):
            self.press(*keys)
        opened.value.close()
        return self.context.request.get(asked.value.url).body()

    def wearer(self, width: int = 820, height: int = 1180) -> Page:
        """Open the wearer's screen from the bench, as a window of its own."""
        with self.context.expect_page() as opened:
            self.press("g")
        page = opened.value
        page.on("pageerror", lambda error: self.problems.append(str(error)))
        page.set_viewport_size({"width": width, "height": height})
        page.wait_for_url("**/w/*")
        page.locator("main.wearer h1").wait_for()
        self.page.bring_to_front()
        return page

    def wearer_on(self, tablet: Desk) -> Page:
        """Open the wearer's screen on another machine, by its address."""
        page = self.wearer()
        address = page.url
        page.close()
        tablet.page.goto(address)
        tablet.page.locator("main.wearer h1").wait_for()
        return tablet.page

    def choose(self, model: str, fitting: bool = True) -> None:
        """Choose a model by its digit, then the size whose range this face is within."""
        option = self.page.locator(".options li", has_text=model).first
        self.page.locator(".options li").first.wait_for()
        if not option.count():
            self.press("o")
        self.page.get_by_text("enough for the task").first.wait_for()
        self.press(option.locator("kbd").inner_text())
        sizes = self.page.locator(".options.sizes li")
        if sizes.count() or self.page.locator("h1", has_text="which size?").count():
            words = "this face is within" if fitting else "this face is outside"
            size = sizes.filter(has_text=words)
            self.press((size if size.count() else sizes).first.locator("kbd").inner_text())
        self.page.get_by_text("Worn with it at work").wait_for()

    def check_counter(self, kind: str = "counter") -> None:
        """Do the daily checks of an instrument as values, charge its alcohol where it has any; back to Today."""
        self.page.get_by_role("link", name="Kit").click()
        self.heading("Kit")
        self.page.locator(".counter[data-kind]").first.wait_for()
        switch = self.page.locator(f".instruments button[data-kind='{kind}']")
        if switch.count():
            switch.first.click()
        section = self.page.locator(f".counter[data-kind='{kind}']").first
        section.wait_for()
        for value, line in zip(GOOD_CHECKS[kind].values(), section.locator(".check").all(), strict=True):
            line.locator("input").fill(value)
            line.get_by_role("button", name="Record").click()
            line.get_by_text("within the limit").wait_for()
        if kind == "counter":
            section.locator(".acts").first.get_by_role("button", name="Done").click()
        section.get_by_text("Ready for runs today").wait_for()
        self.page.get_by_role("link", name="Today").click()
        self.heading("Today")
