"""From arrival to sealed in a real browser: leaks by touch, measuring, rules and rosters by hand."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

from tests.browser.desk import Desk
from tests.browser.stack import Stack

Make = Callable[..., Desk]


def test_a_leak_is_touched_on_the_face_and_the_supervisor_is_told(desk: Make, stack: Stack) -> None:
    tester = desk().sign_in()
    tester.open_visit("1007")
    tester.until("seal_check")
    for count, place in enumerate(("3, cheek", "3, cheek, other side", "5, chin"), start=1):
        tester.press("n", "3")
        tester.page.get_by_role("button", name=place, exact=True).click()
        tester.page.get_by_text(f"It leaked, {count} so far").wait_for()
        if count < 3:
            tester.page.get_by_text("First refit it").wait_for()
            seq = tester.page.get_attribute(".bench", "data-seq")
            tester.press("x")
            tester.settle("seal_check", seq)
            tester.until("seal_check")
    assert "another facepiece" in tester.page.get_by_role("alert").inner_text()
    assert tester.axe() == []
    supervisor = desk().sign_in("ines")
    notice = supervisor.page.get_by_label("Failed seal checks")
    notice.wait_for()
    assert "3 times" in notice.inner_text() and supervisor.axe() == []
    supervisor.page.get_by_role("button", name="I know of it").click()
    notice.wait_for(state="detached")


def test_the_hold_of_a_seal_check_is_counted(desk: Make, stack: Stack) -> None:
    tester = desk().sign_in()
    tester.open_visit("1009")
    tester.until("seal_check")
    if tester.page.locator(".card .mode", has_text="positive").count():
        tester.press("Space")
        tester.page.locator(".card .mode", has_text="negative").wait_for()
    holds = tester.page.get_by_role("button", name="hands on: hold 10 s")
    holds.wait_for()
    tester.press("Space")
    tester.page.locator(".hold", has_text="hold").wait_for()
    assert tester.page.get_by_role("button", name="no leak: we both agree").is_disabled(), "not before it was held"
    tester.page.get_by_text("held long enough").wait_for(timeout=15_000)
    tester.press("Space")
    tester.page.locator(".hold").wait_for(state="detached")


def test_measuring_asks_for_a_third_reading_and_may_be_skipped(desk: Make, stack: Stack) -> None:
    tester = desk().sign_in()
    tester.open_visit("1010", practice="60")
    tester.until("choose")
    tester.page.get_by_text("enough for the task").first.wait_for()
    tester.press("m")
    box = tester.page.get_by_label("Face length, reading 1")
    box.fill("118")
    tester.page.get_by_label("Face length, reading 2").fill("123")
    tester.press("Enter")
    tester.page.get_by_text("take a third").first.wait_for()
    tester.page.get_by_label("Face length, reading 3").fill("122")
    assert tester.axe() == []
    tester.press("Enter")
    tester.page.get_by_role("button", name="Go on", exact=False).or_(
        tester.page.locator("[data-item='choose']")
    ).first.wait_for()
    if tester.item() == "measure":
        tester.page.get_by_role("button", name="Go on").click()
    tester.page.get_by_text("face 122.5").wait_for()


def test_an_administrator_changes_the_rule_book_and_the_bench_follows(desk: Make, stack: Stack) -> None:
    admin = desk().sign_in("hollis")
    admin.page.get_by_role("link", name="Rules").click()
    admin.heading("Rules")
    admin.page.get_by_label("Site").select_option(label="Ellerby Grain and Seed, Seed Barn")
    admin.page.get_by_text("Seed Barn uses this book").wait_for()
    assert admin.axe() == []
    admin.page.get_by_label("Show").select_option(label="Great Britain, HSE INDG479")
    admin.page.get_by_role("button", name="Use it at Seed Barn").click()
    meant = admin.page.get_by_role("button", name="It is meant: change it")
    admin.page.get_by_text("Seed Barn uses this book").or_(meant).first.wait_for()
    if meant.count():  # whom it stops is said first
        assert admin.axe() == []
        meant.click()
    admin.page.get_by_text("Seed Barn uses this book").wait_for()
    row = admin.page.locator("tr", has_text="level.half")
    row.get_by_role("button", name="Change or check").click()
    admin.page.get_by_label("level.half, at this site").fill("50")
    admin.page.get_by_role("button", name="Use here").click()
    admin.page.get_by_text("write the reason").wait_for()
    admin.page.get_by_label("level.half, at this site").fill("150")
    admin.page.get_by_role("button", name="Use here").click()
    admin.page.get_by_text("stricter than shipped (100)").wait_for()
    blank = admin.page.locator("form", has=admin.page.get_by_label("apf.half.100-type, value"))
    blank.get_by_label("apf.half.100-type, value").fill("20")
    blank.get_by_label("apf.half.100-type, edition of your copy").fill("our copy, 2026")
    blank.get_by_role("button", name="Enter").click()
    admin.page.get_by_label("apf.half.100-type, value").wait_for(state="detached")
    tester = desk().sign_in()
    tester.open_visit("2019", practice="60")
    tester.until("choose")
    tester.page.get_by_text("enough for the task").first.wait_for()
    tester.choose("Sedge")
    tester.page.get_by_text("No method may be used here today").wait_for()
    tester.page.get_by_text("Why not another way").click()
    tester.page.get_by_text("until the site confirms one from its own copy").first.wait_for()


def test_a_roster_with_mistakes_is_listed_and_a_good_one_imported(desk: Make, stack: Stack, tmp_path: Path) -> None:
    admin = desk().sign_in("hollis")
    admin.page.get_by_role("link", name="People").click()
    admin.page.get_by_role("link", name="Import a roster").click()
    admin.heading("Import a roster")
    bad, good = tmp_path / "bad.csv", tmp_path / "good.csv"
    bad.write_text("Name,No\nIda Holm,9001\n,9002\nPer Moss,9001\n")
    good.write_text("Name,No,Task\nIda Holm,9001,hull sanding\nPer Åsmoss,9002,hull sanding\n")
    chooser = admin.page.locator("input[type='file']:enabled")  # once the sites are there
    chooser.set_input_files(bad)
    admin.page.get_by_text("2 things are wrong").wait_for()
    assert admin.page.get_by_text("row 3, Name: the name is missing").count() == 1
    assert admin.page.get_by_role("button", name="Import 1 person").is_disabled() and admin.axe() == []
    chooser.set_input_files(good)
    admin.page.get_by_role("button", name="Import 2 people").click()
    admin.page.get_by_text("2 people imported").wait_for(timeout=20_000)
    admin.page.get_by_role("link", name="To the people").click()
    admin.page.get_by_label("Beginning of a name").fill("asmoss")
    admin.page.get_by_text("Per Åsmoss").click()
    admin.page.get_by_role("button", name="Enter a clearance").click()
    admin.page.get_by_label("Limit").select_option("no full facepiece")
    admin.page.get_by_label("By whom").fill("Harbour Row")
    admin.page.get_by_role("button", name="Put on file").click()
    admin.page.get_by_text("cleared, no full facepiece").wait_for()
    assert admin.axe() == []


def test_the_catalogue_is_shown_and_goes_out_as_a_file(desk: Make, stack: Stack) -> None:
    reader = desk().sign_in()
    reader.page.get_by_role("link", name="Facepieces").click()
    reader.heading("Facepieces")
    reader.page.get_by_text("Teasel V").wait_for()
    assert reader.axe() == []
    with reader.page.expect_download() as download:
        reader.page.get_by_role("link", name="Export CSV").click()
    text = Path(download.value.path()).read_text()
    assert text.startswith("maker,model,kind") and "Teasel V" in text


def test_a_long_catalogue_is_chosen_from_by_nines_and_by_words(desk: Make, tmp_path: Path) -> None:
    """An administrator brings in thirty models more; the tester turns by 0, finds by F, takes by Enter or digit."""
    admin, tester = desk().sign_in("hollis"), desk().sign_in()
    admin.page.get_by_role("link", name="Facepieces").click()
    admin.heading("Facepieces")
    shown = admin.page.evaluate("fetch('/api/catalogue.json').then((one) => one.text())")
    half = next(one for one in json.loads(shown) if one["model"] == "Sedge")
    names = [f"Heron {chr(ord('A') + number)}x" for number in range(26)]
    file = tmp_path / "more.json"
    file.write_text(json.dumps([{**half, "model": name} for name in names]))
    admin.page.set_input_files("input[type=file]", file)
    admin.page.get_by_text("26 new, 0 changed").wait_for()
    admin.page.get_by_role("button", name="Next page").click()
    admin.page.get_by_text("page 2 of 2").wait_for()
    admin.page.get_by_label("Find by maker").fill("heron qx")
    admin.page.get_by_text("page 2 of 2").wait_for(state="detached")
    assert admin.page.locator(".rows > li").count() == 1
    assert not admin.axe()

    tester.open_visit("2025", practice="20")
    tester.until("choose")
    page, rows = tester.page, tester.page.locator(".options li")
    page.get_by_role("button", name="more, 1 of 4").wait_for()
    first = page.locator(".options").inner_text()
    assert rows.count() == 9 and not tester.axe()
    tester.press("0")
    page.get_by_role("button", name="more, 2 of 4").wait_for()
    assert page.locator(".options").inner_text() != first
    tester.press("f")
    page.get_by_label("Maker, model or kind").wait_for()
    page.keyboard.type("no such")
    page.get_by_text("No facepiece has").wait_for()
    assert not tester.axe()
    page.keyboard.press("Escape")
    page.get_by_role("button", name="more, 1 of 4").wait_for()
    tester.press("f")
    page.keyboard.type("heron qx")
    tester.press("Enter")  # before the answer to the last letter may have come
    page.locator("h1", has_text="Heron Qx: which size?").wait_for()
    tester.press("1")
    page.get_by_text("Worn with it at work").wait_for()
    seq = page.get_attribute(".bench", "data-seq")
    tester.press("Space")
    tester.settle("choose", seq)
    assert not tester.problems and not admin.problems


def test_that_no_instrument_is_ready_is_said_when_somebody_arrives(desk: Make, stack: Stack) -> None:
    tester = desk().sign_in()
    visit = tester.open_visit("1016")
    band = tester.page.get_by_label("No instrument is ready")
    band.wait_for()
    assert tester.item() == "identity" and "test by another method" in band.inner_text()
    assert tester.axe() == []
    tester.page.goto(stack.address)
    tester.check_counter()
    tester.at(visit)
    tester.page.get_by_text("ambient").first.wait_for()
    band.wait_for(state="detached")
