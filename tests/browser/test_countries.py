"""Full counts under other countries' books: set up on the screen by an administrator, then run to a verdict."""

from __future__ import annotations

from collections.abc import Callable

from tests.browser.counting import at_the_start, reasons, run, to_the_papers
from tests.browser.desk import Desk
from tests.browser.stalls import on_a_running_machine
from tests.browser.walked import Walker

Make = Callable[..., Desk]
GB, CA = "Ambient count, seven exercises (GB)", "Ambient count, all exercises and the grimace (CA)"


def take_up(chief: Desk, site: str, book: str, protocol: str, values: dict[str, str]) -> None:
    """Use a rule book at a site: its protocol confirmed against the site's copy, its blanks entered."""
    page, name = chief.page, site.split(", ")[1]
    page.get_by_role("link", name="Rules").click()
    chief.heading("Rules")
    page.get_by_label("Site").select_option(label=site)
    page.get_by_text(f"{name} uses this book").wait_for()
    if page.get_by_label("Show").locator("option:checked").inner_text() == book:
        return  # a hurried test that is done once more has taken it up already
    page.get_by_label("Show").select_option(label=book)
    page.get_by_role("button", name=f"Use it at {name}").click()
    meant = page.get_by_role("button", name="It is meant: change it")
    page.get_by_text(f"{name} uses this book").or_(meant).first.wait_for()
    if meant.count():  # whom it stops is said first
        meant.click()
    page.get_by_text(f"{name} uses this book").wait_for()
    for key, value in values.items():
        page.get_by_label(f"{key}, value").fill(value)
        page.get_by_label(f"{key}, edition of your copy").fill("our copy, 2026")
        page.locator("form", has=page.get_by_label(f"{key}, value")).get_by_role("button", name="Enter").click()
        page.get_by_label(f"{key}, value").wait_for(state="detached")
    row = page.locator("li", has_text=protocol)
    page.get_by_label("Edition of your copy that allows it").fill("our copy, 2026")
    row.get_by_role("button", name="Our copy allows it").click()
    row.get_by_role("button").wait_for(state="detached")


@on_a_running_machine
def test_the_british_count_judges_every_exercise(desk: Make, walker: Walker) -> None:
    chief = desk().sign_in("hollis")
    values = {"interval": "12", "apf.half.100-type": "20"}
    take_up(chief, "Cold Haven Boatyard, Paint Hall", "Great Britain, HSE INDG479", GB, values)
    tester = desk().sign_in()
    at_the_start(tester, walker, "1016", "ambient_count", "Sedge", GB, "twisted strap")
    tester.press("Space")
    tester.page.get_by_text("It cannot pass any more").wait_for(timeout=60_000)
    tester.press("s")
    tester.page.locator("[data-item='decide']").wait_for(timeout=30_000)
    assert "could not reach" in reasons(tester)
    at_the_start(tester, walker, "1018", "ambient_count", "Sedge", GB, "good seal")
    run(tester)
    assert "PASS" in to_the_papers(tester).upper()


@on_a_running_machine
def test_the_canadian_count_once_its_blanks_are_entered(desk: Make, walker: Walker) -> None:
    chief = desk().sign_in("hollis")
    values = {"apf.half": "10", "interval": "24"}
    take_up(chief, "Ellerby Grain and Seed, Seed Barn", "Canada, CSA Z94.4", CA, values)
    tester = desk().sign_in()
    at_the_start(tester, walker, "2018", "ambient_count", "Sedge", CA, "good seal")
    run(tester)
    assert "PASS" in to_the_papers(tester).upper()
