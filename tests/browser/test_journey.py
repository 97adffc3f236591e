"""The main job in a real browser: from sign-in to the signed report, by keyboard alone."""

from __future__ import annotations

import io
from collections.abc import Callable

import pypdf
import pytest

from tests.browser.desk import Desk
from tests.browser.stack import Stack
from tests.browser.walked import Walker

Make = Callable[..., Desk]


def clean(desk: Desk, where: str) -> None:
    assert desk.axe() == [], where


def test_from_sign_in_to_the_signed_report_by_keyboard(desk: Make, stack: Stack) -> None:
    tester = desk()
    tester.page.goto(stack.address)
    tester.page.get_by_label("Name you sign in with").wait_for()
    clean(tester, "sign-in")
    tester.sign_in()
    clean(tester, "today")
    tester.check_counter()
    tester.open_visit("Idris", practice="60")
    looked: set[str] = set()

    def look(item: str) -> None:
        if item not in looked and item in ("identity", "choose", "probe", "seal_check", "run", "wait", "put_back"):
            clean(tester, item)
        looked.add(item)

    tester.until("shave", look=look)
    tester.press("n")
    tester.page.get_by_role("alert").wait_for()
    clean(tester, "remedy")
    assert tester.page.get_by_text("shave", exact=False).count()
    seq = tester.page.get_attribute(".bench", "data-seq")
    tester.fine("shave")
    tester.settle("shave", seq)
    tester.until("run", look=look)
    assert tester.page.get_by_label("To be put back before Idris goes").is_visible()
    tester.press("Space")
    tester.page.locator("[data-run]").wait_for()
    clean(tester, "live run")
    tester.until("sign_wearer", look=look)
    clean(tester, "signing")
    assert "overall" in tester.page.locator(".signed-text").inner_text()
    tablet = desk(width=820, height=1180)
    tester.page.evaluate("document.activeElement.blur()")  # out of the field: G is a key again
    page = tester.wearer_on(tablet)
    page.get_by_role("heading", name="Read it through").wait_for()
    clean(tablet, "the wearer's signature")
    assert page.evaluate("document.documentElement.scrollWidth") <= 820
    page.get_by_label("Your name").fill("Somebody Else")
    page.get_by_role("button", name="Sign").click()
    page.get_by_role("alert").wait_for()
    page.get_by_label("Your name").fill(tester.page.locator(".aside h2").first.inner_text())
    page.keyboard.press("Enter")
    page.get_by_role("heading", name="Nearly there").wait_for()
    tester.page.locator("[data-item='sign_tester']").wait_for()
    tester.until("release", look=look)
    tester.press("Space")
    tester.page.get_by_role("button", name="Report, A4").wait_for()
    clean(tester, "closed")
    assert tester.page.locator("h1").inner_text().startswith("pass")
    assert tester.page.get_by_text("PRACTICE").first.is_visible()
    tester.page.get_by_role("button", name="Report, A4").focus()
    assert "PRACTICE" in pypdf.PdfReader(io.BytesIO(tester.paper("Enter"))).pages[0].extract_text()


def test_a_real_run_in_real_time_shows_in_results_and_permissions(desk: Make, walker: Walker) -> None:
    """Up to the start the operations walk the visit with a clock of their own; the run itself is not hurried."""
    visit, person = walker.to("run", "1010", speed=1)
    tester = desk().sign_in().at(visit)
    assert tester.item() == "run"
    tester.page.get_by_text("link is up").wait_for()
    tester.press("Space")
    tester.page.locator("[data-run]").wait_for()
    tester.page.wait_for_selector("[data-run][data-t='40']", timeout=60_000)
    points = "document.querySelector('.ladder .inside-line').getAttribute('points').split(' ').length"
    before = tester.page.evaluate(points)
    assert before > 20
    tester.page.reload()
    tester.page.wait_for_selector("[data-run][data-t='46']", timeout=60_000)
    assert tester.page.evaluate(points) > before, "a reload in mid-exercise loses nothing"
    assert tester.page.get_by_text("then jog on the spot").count() == 1, "the next exercise is announced"
    for name in ("Jog on the spot", "Head side to side", "Head up and down"):
        tester.page.locator("h1", has_text=name).wait_for(timeout=60_000)
    tester.page.locator("[data-item]").wait_for(timeout=60_000)
    tester.until("goodbye", "card")
    card = pypdf.PdfReader(io.BytesIO(tester.paper("c"))).pages[0]
    assert person in card.extract_text(), "printed where it is handed over"
    tester.until("release")
    tester.press("Space")
    tester.page.get_by_role("button", name="Report, A4").wait_for()
    tester.press("Space")
    tester.page.get_by_label("Beginning of a name").wait_for()
    tester.press("Escape")
    tester.heading("Today")
    tester.at(visit)
    tester.page.get_by_role("link", name=person).click()
    tester.page.get_by_role("heading", name=person).wait_for()
    tester.page.get_by_text("Sedge").first.wait_for()
    assert tester.axe() == []
    tester.page.get_by_role("link", name="Pass results").click()
    tester.heading("Pass results")
    row = tester.page.locator("tr", has_text="Sedge")
    row.wait_for()
    assert "too few to tell" in row.inner_text() and tester.axe() == []
    row.get_by_role("button", name="1 passed at last").click()
    tester.page.get_by_label("People counted").get_by_role("link", name=person).wait_for()


def test_a_fail_offers_what_to_do_and_a_stop_turns_away(desk: Make, stack: Stack) -> None:
    tester = desk(width=820, height=1180, color_scheme="dark").sign_in()
    tester.open_visit("Brea", practice="60")
    tester.until("shave")
    tester.press("n")
    tester.page.get_by_role("alert").wait_for()
    clean(tester, "a stop, dark and narrow")
    tester.press("t")
    tester.page.get_by_label("Reason").fill("Beard, will shave.")
    tester.press("Enter")
    tester.page.locator("h1", has_text="Not tested").wait_for()
    clean(tester, "turned away")
    assert tester.page.evaluate("document.documentElement.scrollWidth") <= 820


def test_typed_numbers_that_make_no_sense_are_refused_and_stay_on_the_screen(desk: Make, stack: Stack) -> None:
    tester = desk().sign_in()
    tester.check_counter()
    tester.open_visit("Sorrel", practice="60")
    tester.until("run")
    tester.page.get_by_text("link is up").wait_for()
    tester.press("y")
    tester.page.locator("[data-item='typed']").wait_for(timeout=30_000)
    clean(tester, "typed numbers")
    boxes = tester.page.locator("table.typed input")
    assert boxes.count() == 8
    for index, value in enumerate(("5300", "4", "5300", "nan", "5300", "3", "5300", "5")):
        boxes.nth(index).fill(value)
    tester.press("Enter")
    tester.page.get_by_text("Not accepted").wait_for()
    assert "nan" in tester.page.locator(".mantine-Notification-root").inner_text()
    assert boxes.nth(0).input_value() == "5300"
    boxes.nth(3).fill("6")
    tester.press("Enter")
    tester.page.locator("[data-item='after_unwell']").wait_for()


@pytest.mark.parametrize("login", ["ines", "hollis"])
def test_other_roles_look_on_and_cannot_test(desk: Make, login: str) -> None:
    looker = desk().sign_in(login)
    assert looker.page.get_by_role("button", name="someone walks up").count() == 0
    assert looker.axe() == []


def test_signing_in_with_a_wrong_password_says_what_to_do(desk: Make, stack: Stack) -> None:
    stranger = desk()
    stranger.page.goto(stack.address)
    stranger.page.get_by_label("Name you sign in with").fill("maren")
    stranger.page.get_by_role("textbox", name="Password").fill("not this")
    stranger.press("Enter")
    stranger.page.get_by_text("Name or password is wrong").wait_for()
    assert stranger.axe() == []


def test_the_api_is_documented_with_local_assets(desk: Make, stack: Stack) -> None:
    reader = desk()
    asked: list[str] = []
    reader.page.on("request", lambda request: asked.append(request.url))
    reader.page.goto(f"{stack.address}/docs/")
    reader.page.get_by_text("/api/visits/{visit_id}/events").first.wait_for(timeout=90_000)  # some 200 routes
    assert all(url.startswith((stack.address, "data:", "blob:")) for url in asked)
