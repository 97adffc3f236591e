"""The supervisor at seven, the stranger at the gate: tomorrow's crew, a change reported, a card that holds no more."""

from __future__ import annotations

import re
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.rules.book import Rules
from moorfog.demo.before import seed_before
from moorfog.platform.db.base import run_in_transaction
from moorfog.platform.db.clock import DatabaseClock
from moorfog.platform.log.summaries import TryKit, WearPermission
from moorfog.recompute import run as recompute
from moorfog.rooms.accounts.sessions import load_actor
from moorfog.rooms.accounts.tables import Account
from moorfog.rooms.kit.found_wrong import Found, open_recall
from moorfog.rooms.papers.papers import Printed, code_of, issue
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.tables import Site
from tests.browser.desk import Desk
from tests.browser.stack import Stack
from tests.browser.test_keys import passed_last_year

Make = Callable[..., Desk]


def with_a_card(stack: Stack) -> str:
    """Issue the card of the last pass, as a tester does; return its code."""

    def work(db: Session) -> str:
        visit = db.scalars(select(WearPermission.visit_id).order_by(WearPermission.tested_at.desc())).first()
        account = db.scalar(select(Account).where(Account.login == "maren"))
        assert visit and account
        printed = Printed("card", "A4", stack.address)
        issue(db, DatabaseClock(), load_actor(db, account), visit, printed)
        return code_of(db, DatabaseClock(), visit)

    return run_in_transaction(stack.engine, work)


def site_of(stack: Stack, number: str) -> str:
    """The site at which somebody works."""
    with Session(stack.engine) as db:
        return db.scalars(
            select(Site.name).join(Person, Person.site_id == Site.id).where(Person.number == number)
        ).one()


def test_a_reported_change_is_seen_at_once_by_crew_due_list_and_gate(desk: Make, stack: Stack, rules: Rules) -> None:
    name = passed_last_year(stack, rules, "1004")
    code = with_a_card(stack)
    gate = desk(width=390, height=844)
    gate.page.goto(f"{stack.address}/c/{code.lower()}")
    gate.heading("Valid")
    assert name not in gate.page.locator("body").inner_text() and gate.axe() == []

    supervisor = desk(width=820, height=1180, color_scheme="dark").sign_in("ines")
    page = supervisor.page
    page.get_by_role("link", name="Tomorrow").click()
    page.get_by_role("button", name="Paste numbers").click()
    page.get_by_label("Their numbers").fill("1004 1005")
    page.get_by_role("button", name="Show them").click()
    supervisor.heading("1 may, 1 may not")
    assert supervisor.axe() == []
    page.get_by_label("Keep them as").fill("Early shift")
    page.get_by_role("button", name="Save this crew").click()
    page.get_by_label("Crew").locator("option", has_text="Early shift, 2").wait_for(state="attached")
    page.wait_for_url("**crew=**")
    crew = page.url

    page.get_by_role("link", name=name).click()
    page.get_by_role("button", name="Something has changed").click()
    page.get_by_label("What", exact=True).select_option("face")
    page.get_by_label("In a few words").fill("new scar at the chin")
    page.get_by_role("button", name="Report it").click()
    page.get_by_text("A change of the face was reported").first.wait_for()
    assert supervisor.axe() == []
    page.goto(crew)
    supervisor.heading("0 may, 2 may not")
    page.locator(".crew li", has_text=name).get_by_text("A change of the face was reported").wait_for()
    page.get_by_role("link", name="Due").click()
    page.get_by_label("Site").select_option(label=f"Cold Haven Boatyard, {site_of(stack, '1004')}")
    supervisor.heading("1 can wear nothing")
    page.locator(".crew li", has_text=name).wait_for()
    assert supervisor.axe() == []

    gate.page.reload()
    gate.heading("Withdrawn")
    told = gate.page.locator("body").inner_text()
    assert gate.axe() == [] and "scar" not in told and "face was" not in told
    gate.page.goto(f"{stack.address}/c/0000-0000-0000")
    gate.heading("No such card")


def test_the_inspectors_question_is_answered_in_a_minute_and_computed_again_offline(
    desk: Make, stack: Stack, rules: Rules, tmp_path: Path
) -> None:
    """Who wears this model on a test that counts, under which rule; and all of it taken away."""
    name = passed_last_year(stack, rules, "1006")
    auditor = desk(width=1280, height=800).sign_in("hollis")
    page = auditor.page
    page.get_by_role("link", name="Records").click()
    auditor.heading("Every test, the latest first")
    assert auditor.axe() == []
    page.get_by_label("Whose, in what, with what").fill("1006")
    page.get_by_role("button", name=f"person {name}").wait_for()
    page.keyboard.press("Enter")
    auditor.heading("Tests:")
    page.wait_for_url("**person=**")
    row = page.locator("tbody tr", has_text=name).first
    row.get_by_text("29 CFR 1910.134").wait_for()
    model = row.locator("td").nth(1).locator("b").inner_text().rsplit(" ", 1)[0].split()[-1]
    page.get_by_role("button", name="take it away").click()
    page.get_by_label("Whose, in what, with what").fill(model)
    page.get_by_role("button", name="model").first.click()
    page.get_by_role("button", name="Who wears it on a test that counts").click()
    auditor.heading("Who wears")
    page.locator("tbody tr", has_text=name).get_by_text("may wear it until").wait_for()
    assert auditor.axe() == []
    page.reload()
    page.locator("tbody tr", has_text=name).wait_for()  # the view stands in the address
    page.get_by_role("button", name="Who wears it on a test that counts").click()
    with page.expect_download() as taken:
        page.get_by_role("link", name="Whole, for an inspector").click()
    archive, program = tmp_path / "records.zip", tmp_path / "verify.py"
    taken.value.save_as(archive)
    fingerprint = page.locator(".for-an-inspector code").inner_text()
    assert recompute([str(archive)], as_json=True, key=fingerprint) == 0
    with page.expect_download() as fetched:
        page.get_by_role("link", name="verify.py").click()
    fetched.value.save_as(program)
    done = subprocess.run([sys.executable, "-I", program, archive, "--key", fingerprint], check=False)
    assert done.returncode == 0


def test_a_counter_found_wrong_is_seen_within_a_second_on_board_gate_and_due_list(
    desk: Make, stack: Stack, rules: Rules
) -> None:
    name = passed_last_year(stack, rules, "1007")
    with_a_card(stack)
    supervisor = desk(width=1280, height=800).sign_in("ines")
    page = supervisor.page
    page.get_by_role("link", name="Tomorrow").click()
    page.get_by_label("Site").select_option(label=f"Cold Haven Boatyard, {site_of(stack, '1007')}")
    page.get_by_role("button", name="Against set-ups").click()
    cell = page.locator(".board tr", has_text=name).locator("td.may, td.may_not")
    cell.first.wait_for()
    assert cell.first.get_attribute("class") == "may" and supervisor.axe() == []
    page.get_by_role("button", name="For a tablet at the gate").click()
    path = page.locator("a[href^='/gate/']").get_attribute("href")
    gate = desk(width=820, height=1180)
    gate.page.goto(f"{stack.address}{path}")
    gate.page.get_by_label("Number or name").fill("1007")
    gate.page.locator("li.may", has_text=name).wait_for()
    assert gate.axe() == [] and gate.page.locator("li").count() == 1
    page.get_by_role("button", name="Person by person").click()
    short = page.get_by_role("button", name=re.compile("^a fit test: "))
    people = int(short.locator("b").inner_text())
    short.click()
    page.wait_for_function("n => document.querySelectorAll('.crew > li').length === n", arg=people)
    assert page.locator(".crew > li.may").count() == 0 and supervisor.axe() == []
    short.click()
    page.locator(".crew > li.may", has_text=name).wait_for()
    page.get_by_role("button", name="Their cards, ten on a sheet").click()
    with page.expect_download() as taken:
        page.get_by_role("link", name="Save the file").click(timeout=60_000)
    assert taken.value.suggested_filename == "cards.pdf"
    page.get_by_role("button", name="Against set-ups").click()
    cell.first.wait_for()

    began = time.monotonic()
    found_wrong(stack, name)
    page.locator(".board tr", has_text=name).locator("td.may_not").wait_for(timeout=5_000)
    assert time.monotonic() - began < 5
    gate.page.reload()
    gate.page.get_by_label("Number or name").fill("1007")
    gate.page.locator("li.may-not", has_text=name).wait_for()
    assert "found" not in gate.page.locator("li").inner_text(), "a gate is not told why"
    page.get_by_role("link", name="Due").click()
    page.locator(".crew li", has_text=name).get_by_text("found wrong in the test").wait_for()


def test_a_site_says_in_writing_that_results_of_before_count(desk: Make, stack: Stack) -> None:
    seed_before(stack.engine)
    office = desk(width=820, height=1180, color_scheme="dark").sign_in("hollis")
    page = office.page
    page.goto(f"{stack.address}/history")
    page.locator("tr", has_text="Sedge half mask").first.get_by_role("button", name="Let them count").click()
    form = page.get_by_role("form", name="Let them count")
    form.get_by_label("Find it in the catalogue").fill("sedge")
    form.get_by_label("Which facepiece it was").select_option(label="Tindle & Wray Sedge, half facepiece")
    form.get_by_label("Size", exact=True).select_option("M")
    form.get_by_label("Filters", exact=True).select_option("100-type")
    form.get_by_label("Harness", exact=True).select_option(index=1)
    form.get_by_label("Why they count").fill("seen")
    form.get_by_label("type your name").fill("Hollis Grey")
    form.get_by_role("button", name="Let them count").click()
    form.get_by_role("alert").get_by_text("Say why they count").wait_for()
    form.get_by_label("Why they count").fill("His papers were seen; the office keeps them.")
    form.get_by_role("button", name="Let them count").click()
    said = page.locator("li", has_text="counts as Tindle & Wray Sedge M")
    said.wait_for()
    assert office.axe() == []
    page.get_by_role("link", name="Tomorrow").click()
    rests = page.locator(".crew > li.may", has_text="not judged here")
    rests.first.wait_for()
    able = rests.count()
    page.goto(f"{stack.address}/history")
    said.get_by_role("button", name="It counts no more").click()
    said.get_by_label("Why it counts no more").fill("They were of another yard.")
    said.get_by_role("button", name="Take it back").click()
    said.get_by_text("taken back by Hollis Grey").wait_for()
    page.get_by_role("link", name="Tomorrow").click()
    page.locator(".crew > li").first.wait_for()
    assert able > 0 and rests.count() == 0


def found_wrong(stack: Stack, name: str) -> None:
    """Enter a failure of whatever somebody was last tested with."""

    def work(db: Session) -> None:
        query = select(TryKit).join(WearPermission, WearPermission.visit_id == TryKit.visit_id)
        whose = query.join(Person, Person.id == WearPermission.person_id).where(Person.name == name)
        used = db.scalars(whose.order_by(TryKit.tested_at.desc()).limit(1)).one()
        found = Found(
            kit_kind="instrument",
            kit_id=used.kit_id,
            kit_name="Counter",
            check_name="clean_air",
            what="The counter was found wrong in the test.",
            employer_id=used.employer_id,
            since=None,
            until=DatabaseClock().now(db),
        )
        open_recall(db, found, "test")

    run_in_transaction(stack.engine, work)
