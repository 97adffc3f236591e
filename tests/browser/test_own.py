"""From an empty folder to the first signed result, as somebody who has never seen the code does it; then a fire."""

from __future__ import annotations

import os
import re
import shutil
import signal
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser

from moorfog.plugged import ALLOWED
from moorfog.serving.ports import free_port
from tests.browser.desk import Desk
from tests.browser.test_demo import Demo
from tests.browser.test_rooms import walked_by_tab

LONG = "four-quiet-herons-adrift"
ROOT = Path(__file__).parents[2]
FIGURES = {
    "Serial number": "SIM-0004",
    "Calibrated until": "2099-06-01",
    "Counted flow": "100",
    "Smallest step": "1",
    "Least room air, ordinary": "1500",
    "Least room air, size": "70",
    "Most room air": "20000",
    "Own limit of clean-line": "20000",
}


def moorfog(home: Path, *words: str) -> subprocess.CompletedProcess[str]:
    env = {**os.environ, "MOORFOG_HOME": str(home)}
    return subprocess.run([ROOT / "moorfog", *words], env=env, capture_output=True, text=True, check=False)


@pytest.fixture
def counter() -> Iterator[str]:
    """Where a counter is plugged in: a simulated one, as there is no other here."""
    port = free_port()
    command = [sys.executable, "-m", "moorfog.instruments.simulated", "--port", str(port), "--kind", "counter"]
    child = subprocess.Popen(command)
    yield f"socket://127.0.0.1:{port}"
    child.terminate()
    child.wait(10)


class Administrator(Desk):
    """Somebody who looks after an installation, at a browser."""

    def fill(self, **given: str) -> None:
        for label, text in given.items():
            self.page.get_by_label(re.compile("^" + re.escape(label.replace("_", " ")))).first.fill(text)

    def click(self, name: str) -> None:
        self.page.get_by_role("button", name=name, exact=True).first.click()

    def room(self, name: str) -> None:
        self.page.get_by_role("link", name="Administration").click()
        self.page.get_by_role("navigation", name="Administration").get_by_role("link", name=name).click()
        self.heading(name if name != "First test and backups" else "Cold Haven")
        assert self.axe() == [], name

    def set_up(self, code: str) -> None:
        self.page.goto(self.address)
        self.fill(Code_from="aaaa-bbbb-cccc", Who_runs="Cold Haven", Your_name="Hollis Grey", Name_you="hollis")
        self.fill(Password=LONG)
        assert self.axe() == walked_by_tab(self.page) == []
        self.click("Begin")
        self.page.get_by_text("not the code").wait_for()
        self.fill(Code_from=code)
        self.click("Begin")
        self.heading("Cold Haven")

    def enter_places(self) -> None:
        self.room("Employers and sites")
        self.fill(Another_employer="Cold Haven Boatyard")
        self.click("Enter it")
        self.click("Add a site")
        self.fill(Name_of="North slip")
        self.page.get_by_label("Time zone").select_option("Europe/London")
        self.page.get_by_label("Rule book").select_option("us-29cfr1910-134")
        self.click("Enter it")
        self.page.get_by_text("Bench 1 ·").wait_for()

    def invite(self, name: str, login: str) -> str:
        self.room("Colleagues")
        self.click("Invite a colleague")
        self.fill(Their_name=name, Name_they=login)
        self.click("Make the invitation")
        address = self.page.locator(".once").inner_text()
        self.click("I have it")
        self.page.get_by_text("has not chosen a password yet").wait_for()
        return address

    def enter_counter(self, line: str) -> None:
        self.room("Instruments")
        self.click("Enter an instrument")
        self.fill(Name="Counter 1")
        self.page.get_by_label("Plugged into").select_option(line)
        for label, text in FIGURES.items():
            self.fill(**{label: text})
        self.click("Enter it")
        self.page.get_by_text("shown only now").wait_for()
        self.click("I have it")

    def make_recovery_key(self) -> str:
        self.click("Make the recovery key")
        self.page.get_by_label("Your password").fill(LONG)
        assert self.axe() == []
        self.click("Make it")
        key = self.page.locator(".once").inner_text()
        self.click("I have it on paper")
        self.page.get_by_text("Backups are sealed").wait_for()
        return key

    def enter_facepiece(self) -> None:
        self.room("Facepieces")
        self.click("Enter a facepiece")
        self.fill(Maker="Tindle & Wray", Model="Sedge")
        self.page.get_by_label("Size").last.fill("M")
        self.click("Enter it")
        self.page.get_by_text("version 1").wait_for()

    def enter_task(self) -> None:
        self.page.get_by_role("link", name="Rules").click()
        self.click("Enter a task")
        self.fill(Name_the="grain dust", Work_filter="100-type", Contaminant="grain dust")
        self.fill(Concentration="30", Limit="4", Oxygen="20.9")
        self.click("Enter it")
        self.page.get_by_text("times the limit", exact=True).wait_for()


def test_an_installation_from_the_empty_folder_to_a_signed_result_and_back_after_a_fire(
    browser: Browser, place: Path, counter: str
) -> None:
    home, file = place / "home", place / "kept.moorfog"
    home.mkdir()
    (home / ALLOWED).write_text(counter.removeprefix("socket://") + "\n")
    program = Demo(home, command="run")
    try:
        code = re.search(r"^ +([a-z2-9]{4}(?:-[a-z2-9]{4}){2})$", program.said, re.M)
        assert code, program.said
        admin = Administrator(browser, program.address)
        admin.set_up(code[1])
        admin.enter_places()
        address = admin.invite("Maren Oake", "maren")
        admin.enter_counter(counter)
        admin.enter_facepiece()
        admin.enter_task()

        tester = Desk(browser, program.address)
        tester.page.goto(address)
        tester.page.get_by_text("You sign in as maren").wait_for()
        assert tester.axe() == []
        tester.page.get_by_label(re.compile("^Password")).fill(LONG)
        tester.press("Enter")
        tester.heading("Today")
        tester.check_counter()
        tester.press("Space")
        tester.page.get_by_label("Beginning of a name").wait_for()
        tester.page.keyboard.type("Orla Wick")
        tester.page.get_by_role("button", name="Practice instead").click()
        tester.page.get_by_label("Time runs").select_option("60")
        tester.page.get_by_label("Beginning of a name").focus()
        tester.page.get_by_text("Nobody of that name").wait_for()
        tester.press("Enter")
        tester.page.get_by_label("New person").get_by_text("Full name").wait_for()
        tester.page.keyboard.type("7001")
        tester.page.get_by_role("checkbox").check()
        tester.page.get_by_label("Cleared by").fill("Harbour Row practice")
        tester.press("Enter")
        tester.page.wait_for_url("**/visit/*")
        tester.page.get_by_text("No training on file").first.wait_for()
        tester.press("j")
        tester.page.get_by_text("trained now, put it on file").wait_for(state="detached")
        tester.until("run", model="Sedge")
        shown = tester.page.evaluate("fetch('/api/counters').then(answer => answer.json())")
        assert shown["rows"][0]["link_state"] == "reading", "it is plugged in here, so its link runs here"
        tester.press("y")  # readings of a real counter come in real time, and practice runs faster: they are typed
        tester.page.locator("[data-item='typed']").wait_for()
        for number, box in enumerate(tester.page.locator("table.typed input").all()):
            box.fill("4" if number % 2 else "5300")
        tester.page.get_by_role("button", name="Judge these numbers").click()
        tester.page.locator("[data-item='typed']").wait_for(state="detached")
        tester.until("release")
        tester.press("Space")
        tester.page.get_by_role("button", name="Report, A4").wait_for()
        assert admin.problems == tester.problems == []

        admin.room("First test and backups")
        admin.page.get_by_text("Everything that a test needs is there").wait_for()
        admin.page.get_by_text("Last good one").wait_for()
        recovery = admin.make_recovery_key()
        admin.room("Journal")
        admin.page.get_by_text("chose a password").wait_for()
        tester.page.goto(f"{program.address}/people")
        tester.page.get_by_text("Orla Wick").click()
        tester.heading("Orla Wick")
        assert tester.axe() == []
        assert moorfog(home, "doctor").returncode == 0
        done = moorfog(home, "backup", str(file))
        assert done.returncode == 0 and ", sealed" in done.stdout, done.stdout + done.stderr
        assert recovery not in "".join(one.read_text() for one in (home / "keys").iterdir()), "it is kept nowhere"
        for one in (admin, tester):
            one.context.close()
        program.process.kill()  # the fire
        program.process.wait(10)
    finally:
        program.process.kill()
    again = moorfog(home, "restore", str(file))
    assert again.returncode != 0 and "not empty" in again.stderr
    shutil.rmtree(home)
    on_paper = place / "recovery-key"
    on_paper.write_text(recovery)
    again = moorfog(home, "restore", str(file), "--recovery-key-file", str(on_paper))
    assert again.returncode == 0 and "administrator of all of it: hollis" in again.stdout
    assert "everything holds" in again.stdout, again.stdout + again.stderr
    program = Demo(home, command="run")
    try:
        assert "Nobody has an account" not in program.said
        tester = Desk(browser, program.address)
        tester.page.goto(program.address)
        tester.page.get_by_label("Name you sign in with").fill("maren")
        tester.page.get_by_label("Password").first.fill(LONG)
        tester.press("Enter")
        tester.heading("Today")
        tester.page.get_by_role("link", name="People").click()
        tester.page.get_by_text("Orla Wick").click()
        tester.page.get_by_text("Sedge").first.wait_for()
        tester.context.close()
        refused = subprocess.run(
            [ROOT / "moorfog", "demo"],
            env={**os.environ, "MOORFOG_HOME": str(home)},
            capture_output=True,
            text=True,
            check=False,
        )
        assert refused.returncode == 1 and "runs already" in refused.stderr
    finally:
        assert program.stop(signal.SIGTERM) == 0
    refused = moorfog(home, "demo", "--fresh")
    assert refused.returncode == 1 and "somebody's own data" in refused.stderr and (home / "db").is_dir()
