"""Takes the pictures in docs/screenshots from a freshly started demo: python -m tests.browser.pictures ADDRESS."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path

from playwright.sync_api import Browser, sync_playwright

from tests.browser.desk import Desk
from tests.browser.senses import SLOTS, WORDS, begin
from tests.chromium import launched

OUT = Path(__file__).parents[2] / "docs" / "screenshots"


class Album:
    """Takes pictures of one browser at one address."""

    def __init__(self, browser: Browser, address: str) -> None:
        self.browser, self.address = browser, address

    def desk(self, login: str = "maren", **given: object) -> Desk:
        """Return a signed-in window."""
        return Desk(self.browser, self.address, **given).sign_in(login)  # type: ignore[arg-type]

    def to_choose(self, desk: Desk) -> None:
        """Go to the choice of a facepiece; somebody who passed before is not given the one of last time."""
        desk.until("task")
        desk.page.locator(".options li").first.wait_for()
        seq = desk.page.get_attribute(".bench", "data-seq")
        desk.press("1")
        desk.settle("task", seq)
        desk.until("choose")

    def take(self, desk: Desk, name: str) -> None:
        """Take a picture once the page is still."""
        desk.page.wait_for_timeout(400)
        desk.page.screenshot(path=OUT / f"{name}.png")

    def pages(self) -> None:
        """Take the pages outside the bench."""
        self.administration()
        desk = self.desk()
        for kind in ("counter", "photometer", "pressure"):
            desk.check_counter(kind)
        self.take(desk, "today")
        for link, heading in (
            ("Pass results", "Pass results"),
            ("Kit", "Kit"),
            ("Records", "Every test, the latest first"),
        ):
            desk.page.get_by_role("link", name=link).click()
            desk.heading(heading)
            if link == "Kit":
                desk.page.get_by_role("button", name="Room air").click()
                desk.page.locator(".trend svg").wait_for()
            if link == "Records":
                desk.page.locator("tbody tr").first.wait_for()
            self.take(desk, link.lower().replace(" ", "-"))

    def administration(self) -> None:
        """Take the administrator's rooms: what a first test still needs, and tomorrow's crew."""
        desk = self.desk("hollis")
        desk.page.get_by_role("link", name="Administration").click()
        desk.heading("The demo")
        desk.page.get_by_text("What a test needs").click()
        self.take(desk, "administration")
        desk.page.get_by_role("link", name="Tomorrow").click()
        desk.page.locator(".crew li").first.wait_for()
        self.take(desk, "tomorrow")

    def good_visit(self) -> None:
        """Walk a practice visit to a pass, with a picture of each kind of card."""
        desk = self.desk()
        desk.open_visit("1004", practice="5")
        seen: set[str] = set()
        wanted = {"placed": "bench-question"}

        def look(item: str) -> None:
            if item in wanted and item not in seen:
                seen.add(item)
                desk.page.locator(".look-lines").wait_for()
                self.take(desk, wanted[item])

        desk.until("shave")
        desk.press("n")
        desk.page.get_by_role("alert").wait_for()
        self.take(desk, "bench-remedy")
        seq = desk.page.get_attribute(".bench", "data-seq")
        desk.fine("shave")
        desk.settle("shave", seq)
        self.to_choose(desk)
        desk.page.get_by_text("enough for the task").first.wait_for()
        self.take(desk, "bench-choose")
        desk.until("seal_check", look=look)
        desk.press("n", "1")
        desk.page.get_by_text("Where does it leak?").wait_for()
        self.take(desk, "bench-seal-check")
        desk.page.reload()
        desk.until("run", look=look)
        desk.press("Space")
        desk.page.wait_for_function("(s) => Number(document.querySelector('[data-run]')?.dataset.t) > s", arg=96)
        self.take(desk, "bench-live-run")
        desk.until("told")
        self.take(desk, "bench-result")
        desk.until("release")
        desk.press("Space")
        desk.page.get_by_role("button", name="Report, A4").wait_for()
        self.take(desk, "visit-closed")

    def narrow_and_dark(self) -> None:
        """Walk to a fail on a tablet in the dark."""
        desk = self.desk(width=820, height=1180, color_scheme="dark")
        desk.open_visit("Kirsi", practice="20")
        self.to_choose(desk)
        seq = desk.page.get_attribute(".bench", "data-seq")
        desk.choose("Bracken", fitting=False)
        desk.press("Space")
        desk.settle("choose", seq)
        desk.until("run")
        desk.press("Space")
        desk.page.wait_for_function("(s) => Number(document.querySelector('[data-run]')?.dataset.t) > s", arg=80)
        self.take(desk, "bench-live-run-dark-narrow")
        desk.page.locator("[data-item]").wait_for(timeout=60_000)
        self.take(desk, "bench-decide-dark-narrow")

    def breath_hold(self) -> None:
        """Walk a negative-pressure test to its fourth hold."""
        desk = self.desk()
        desk.method = "Controlled negative pressure"
        desk.open_visit("2019", practice="10")
        self.to_choose(desk)
        desk.until("run")
        desk.page.get_by_text("link is up").wait_for()
        desk.press("f", "Space")
        desk.page.wait_for_function("(s) => Number(document.querySelector('[data-run]')?.dataset.t) > s", arg=225)
        self.take(desk, "bench-breath-hold")

    def senses(self) -> None:
        """Walk a bitter test to half-way, with the wearer's screen beside it."""
        desk = self.desk()
        desk.method = WORDS["bitter"]
        desk.open_visit("1016", practice="10")
        desk.until("run", model="Sedge")
        wearer = desk.wearer(1180, 820)
        desk.page.wait_for_timeout(500)
        begin(desk, "bitter")
        desk.doses([one for one in SLOTS["bitter"] if one < 125], 131)
        wearer.screenshot(path=OUT / "wearer.png")
        desk.page.get_by_text("127.0.0.1").first.evaluate("one => one.remove()")
        desk.page.screenshot(path=OUT / "bench-taste.png")

    def person(self) -> None:
        """Take the page of somebody who has passed something."""
        desk = self.desk()
        desk.page.get_by_role("link", name="Pass results").click()
        desk.page.get_by_role("link", name="People").click()
        desk.heading("People")
        desk.page.locator("input").first.fill("1011")
        desk.page.locator(".rows a").first.click()
        desk.page.locator("h2").first.wait_for()
        self.take(desk, "person")


def main() -> None:
    """Take all pictures, or those named."""
    OUT.mkdir(parents=True, exist_ok=True)
    with sync_playwright() as playwright:
        browser = launched(playwright)
        album = Album(browser, sys.argv[1])
        every: dict[str, Callable[[], None]] = {
            "pages": album.pages,
            "good": album.good_visit,
            "narrow": album.narrow_and_dark,
            "hold": album.breath_hold,
            "senses": album.senses,
            "person": album.person,
        }
        for name in sys.argv[2:] or every:
            every[name]()
        browser.close()


if __name__ == "__main__":
    main()
