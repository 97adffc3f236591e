"""Qualitative runs that fail or are void, in a real browser: the wearer's touch, missed doses, eyes, proof, a lid."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from tests.browser.desk import Desk
from tests.browser.senses import SLOTS, TOTAL_S, begin, ready, stock
from tests.browser.stalls import on_a_running_machine
from tests.browser.walked import Walker

Make = Callable[..., Desk]
PEOPLE = {"sweet": "Ylva Garrick", "bitter": "Callum Holm", "odour": "Piet Holm", "smoke": "Kirsi Marl"}
OTHERS = {"sweet": "Ruan Skerry", "bitter": "Linnet Haugh", "smoke": "Rhodri Birk"}


@pytest.fixture(scope="module", autouse=True)
def shelf(walker: Walker) -> None:
    """Solutions on the shelf."""
    stock(walker)


def outcome(tester: Desk) -> str:
    """What the last try came to, once it is decided on."""
    tester.page.locator("[data-item='decide']").wait_for(timeout=30_000)
    return tester.page.locator(".verdict .outcome").inner_text().strip()


@pytest.mark.parametrize("agent", list(PEOPLE))
@on_a_running_machine
def test_the_wearers_touch_fails_it_at_once_and_a_mistake_voids_it(desk: Make, walker: Walker, agent: str) -> None:
    tester = desk().sign_in()
    ready(tester, walker, PEOPLE[agent], agent)
    wearer = tester.wearer()
    begin(tester, agent)
    tester.doses([one for one in SLOTS[agent] if one < 65], 65)
    wearer.locator(".wearer-key").click()
    assert outcome(tester) == "fail"
    wearer.get_by_text("Thank you").or_(wearer.get_by_text("Done.")).first.wait_for()
    assert tester.axe() == [] and tester.axe(wearer) == []
    labels = tester.page.locator(".options b").all_inner_texts()
    assert ("Screen again, then the same once more" in labels) == (agent == "smoke")
    tester.press("b")
    tester.page.get_by_label("What the wearer says").fill("brushed the screen")
    tester.press("Enter")
    tester.page.locator(".verdict .outcome", has_text="void").wait_for()


@pytest.mark.parametrize("agent", list(OTHERS))
@on_a_running_machine
def test_what_breaks_the_protocol_voids_it(desk: Make, walker: Walker, agent: str) -> None:
    tester = desk().sign_in()
    ready(tester, walker, OTHERS[agent], agent)
    begin(tester, agent)
    if agent == "smoke":
        tester.doses([20], 30)
        tester.press("o")
        reason = "Eyes opened"
    else:
        tester.doses([30, 90], 100)
        tester.page.get_by_text("Void already").wait_for()
        assert tester.page.locator(".stone-missed").count() == 1
        tester.press("s")
        reason = "Dose 2"
    assert outcome(tester) == "void"
    assert tester.page.locator(".note h2").first.inner_text().startswith(reason)


@on_a_running_machine
def test_the_testers_key_fails_it_and_another_size_begins_with_the_threshold(desk: Make, walker: Walker) -> None:
    tester = desk().sign_in()
    ready(tester, walker, "Halla Reedmace", "sweet")
    begin(tester, "sweet")
    tester.press("x")
    tester.page.get_by_text("did it move?").wait_for()
    tester.press("1")
    tester.press("d")
    assert outcome(tester) == "fail"
    tester.page.get_by_text("To try next").wait_for()
    tester.press("1")
    tester.page.locator("[data-item='choose']").wait_for()
    seq = tester.page.get_attribute(".bench", "data-seq")
    tester.choose("Sedge", fitting=False)
    tester.press("Space")
    tester.settle("choose", seq)
    assert tester.until("screen", model="Sedge") == "screen"


@on_a_running_machine
def test_a_lid_closed_in_mid_run_voids_it_and_the_screen_says_so(desk: Make, walker: Walker) -> None:
    tester = desk().sign_in()
    ready(tester, walker, "Sunniva Pike", "odour")
    begin(tester, "odour")
    tester.page.reload()
    tester.page.locator("[data-run]").wait_for()
    assert tester.page.get_by_text("Void already").count() == 0, "a quick reload is no gap"
    address = tester.page.url
    tester.page.goto("about:blank")
    tester.page.wait_for_timeout(5600)
    tester.page.goto(address)
    tester.page.get_by_text("This screen was away").wait_for()
    tester.doses([], TOTAL_S["odour"] + 1)
    tester.page.locator(".countdown").wait_for(state="detached")
    tester.press("Space")
    assert outcome(tester) == "void"
    assert tester.page.get_by_text("what was sensed then is not known").count()


def test_not_tasted_by_thirty_and_the_scent_oil_question(desk: Make) -> None:
    tester = desk().sign_in()
    tester.open_visit("Idris Haugh", practice="20")
    tester.method = "Sweet taste"
    tester.until("method", model="Sedge")
    tester.page.locator(".options li").first.wait_for()
    assert tester.axe() == []
    tester.press("q")
    tester.page.get_by_role("heading", name="No threshold, no dose, no test").wait_for()
    assert tester.axe() == []
    tester.press("u")
    tester.until("screen", model="Sedge")
    assert tester.axe() == []
    tester.press("Space")
    tester.page.locator("[data-squeezes='0']").wait_for()
    for number in range(30):
        tester.press("Space")
        tester.page.locator(f"[data-squeezes='{number + 1}']").wait_for()
    assert tester.axe() == []
    tester.press("n")
    tester.page.locator("[data-item='method']").wait_for()
    assert tester.page.get_by_role("alert").inner_text().startswith("Sweet taste")


def test_a_clogged_nebuliser_on_the_kit_page(desk: Make) -> None:
    tester = desk().sign_in()
    tester.page.get_by_role("link", name="Kit").click()
    tester.heading("Kit")
    row = tester.page.get_by_label("Gorse 2")
    row.get_by_text("ready").wait_for()
    assert tester.axe() == []
    row.get_by_role("button", name="Clogged…").click()
    row.get_by_role("button", name="Clogged: void them").click()
    row.get_by_text("are void.").wait_for(timeout=20_000)
    row.get_by_text("clogged", exact=True).wait_for()
    row.get_by_role("button", name="Rinsed, filled").click()
    row.get_by_role("button", name="It sprays").click()
    row.get_by_text("ready").wait_for()
    assert tester.axe() == []
