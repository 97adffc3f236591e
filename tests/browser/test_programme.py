"""The supervisor at seven, the stranger at the gate: tomorrow's crew, a change reported, a card that holds no more."""

from __future__ import annotations

from collections.abc import Callable

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.rules.book import Rules
from moorfog.operations.accounts.sessions import load_actor
from moorfog.operations.records.papers import Printed, code_of, issue
from moorfog.store.base import run_in_transaction
from moorfog.store.clock import DatabaseClock
from moorfog.store.models import Account, Person, Site, WearPermission
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
