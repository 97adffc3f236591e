"""What browser tests of quantitative runs share: to the start of a practice run, and to its seal."""

from __future__ import annotations

from moorfog.core.simulation.faults import PRACTICE
from tests.browser.desk import Desk
from tests.browser.walked import Walker


def at_the_start(
    tester: Desk,
    walker: Walker,
    who: str,
    method: str,
    model: str,
    protocol: str = "",
    fault: str = "",
    speed: int = 20,
) -> None:
    """Bring a tester to the start of a practice run, choose the protocol, and hide a fault."""
    visit, _ = walker.to("run", who, method=method, model=model, speed=speed)
    tester.at(visit)
    tester.until("run")
    tester.page.get_by_text("link is up").wait_for()
    for key, words in (("p", protocol), ("f", fault)):
        for _ in range(len(PRACTICE) + 2):
            if not words or tester.page.locator(".reading b", has_text=words).count():
                break
            tester.press(key)
            tester.page.wait_for_timeout(60)
        else:
            raise AssertionError(f"{words} is not offered")


def run(tester: Desk) -> None:
    """Start, and wait until the run is sealed."""
    tester.press("Space")
    tester.page.locator("[data-run]").wait_for()
    tester.page.locator("[data-item]").first.wait_for(timeout=90_000)


def to_the_papers(tester: Desk) -> str:
    """After a run that passed: everything to the released visit; what the closed view shows."""
    assert tester.item() != "decide", reasons(tester)
    tester.until("release")
    tester.press("Space")
    tester.page.get_by_role("button", name="Report, A4").wait_for()
    return tester.page.locator("main").inner_text()


def reasons(tester: Desk) -> str:
    """What stands on the card after a run that did not pass."""
    return tester.page.locator("[data-item]").first.inner_text()
