"""Each qualitative test from its start to a signed pass, in a real browser, on the tester's and the wearer's screen."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from tests.browser.desk import Desk
from tests.browser.senses import SLOTS, TOTAL_S, begin, ready, stock
from tests.browser.stalls import on_a_running_machine
from tests.browser.walked import Walker

Make = Callable[..., Desk]
PEOPLE = {"sweet": "Wynn Harrowby", "odour": "Brea Culver", "smoke": "Fenn Sedgley"}


@pytest.fixture(scope="module", autouse=True)
def shelf(walker: Walker) -> None:
    """Solutions on the shelf."""
    stock(walker)


@pytest.mark.parametrize("agent", list(PEOPLE))
@on_a_running_machine
def test_from_the_method_to_a_signed_pass(desk: Make, walker: Walker, agent: str) -> None:
    tester = desk().sign_in()
    ready(tester, walker, PEOPLE[agent], agent, begin="choose_method")
    assert tester.axe() == [], "start"
    wearer = tester.wearer()
    assert wearer.locator(".wearer-key").count() == 0, "nothing to sense before it begins"
    begin(tester, agent)
    wearer.locator(".wearer-key").wait_for()
    assert tester.axe() == [] and tester.axe(wearer) == []
    big = tester.page.locator(".sensed-key").bounding_box()
    assert big and all(
        big["height"] > (box["height"] if (box := one.bounding_box()) else 0)
        for one in tester.page.locator(".key").all()
    ), "the biggest key"
    tester.doses([one for one in SLOTS[agent] if one < 150], 140)
    assert wearer.locator("main").get_attribute("data-exercise") == ("deep" if agent == "smoke" else "side")
    tester.doses([one for one in SLOTS[agent] if one >= 150], TOTAL_S[agent] + 1)
    tester.page.locator(".countdown").wait_for(state="detached")
    tester.press("Space")
    tester.until("sign_wearer")
    signed = tester.page.locator(".signed-text").inner_text()
    assert "pass" in signed.lower() and "overall" not in signed.lower()
    tester.until("release")
    tester.press("Space")
    tester.page.get_by_role("button", name="Report, A4").wait_for()
    assert tester.page.get_by_text("pass or fail, no number").count()
    assert tester.axe() == [], "closed"
    wearer.get_by_text("Thank you. You are done here.").wait_for()


@on_a_running_machine
def test_the_whole_run_with_the_server_away_counts_because_every_press_has_its_time(desk: Make, walker: Walker) -> None:
    """Twenty seconds without the server are four hundred of the run: all doses are pressed while it is away."""
    tester = desk().sign_in()
    ready(tester, walker, "Marit Holm", "bitter")
    begin(tester, "bitter")
    tester.page.wait_for_function("() => document.querySelectorAll('.stone-due').length === 13", polling=100)
    tester.context.set_offline(True)
    tester.doses(SLOTS["bitter"], 400)
    assert tester.page.get_by_text("kept here and sent when it is back").count()
    assert tester.page.locator(".stone-given").count() == 13 and tester.page.locator(".stone-missed").count() == 0
    tester.context.set_offline(False)
    tester.doses([], TOTAL_S["bitter"] + 1)
    tester.press("Space")
    tester.until("sign_wearer")
    assert "pass" in tester.page.locator(".signed-text").inner_text().lower()
    assert tester.page.get_by_text("entries were recorded late").count()


@on_a_running_machine
def test_the_verdict_waits_for_the_wearers_screen_and_what_it_holds_decides(desk: Make, walker: Walker) -> None:
    """The tablet loses its network in the run, the wearer presses, and everything else is done before it is back."""
    tester = desk().sign_in()
    ready(tester, walker, "2022", "bitter")
    tablet = desk(width=820, height=1180)
    wearer = tester.wearer_on(tablet)
    begin(tester, "bitter")
    wearer.locator(".wearer-key").wait_for()
    tablet.context.set_offline(True)
    wearer.locator(".wearer-key").click()
    wearer.get_by_text("Raise your hand").wait_for()
    tester.doses(SLOTS["bitter"], TOTAL_S["bitter"] + 1)
    tester.press("Space")
    tester.until("wait")
    tester.page.get_by_text("Not heard of since the run: the wearer").first.wait_for()
    tablet.context.set_offline(False)
    tester.page.get_by_text("Tasted").first.wait_for()
    assert tester.page.get_by_text("not passed").count() or "fail" in tester.page.locator("body").inner_text().lower()
