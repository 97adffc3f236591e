"""What the browser tests of qualitative runs share: kit on the shelf, a tester at the start, doses by agent."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.demo.seed import seed_kit
from moorfog.platform.db.base import run_in_transaction
from moorfog.platform.db.clock import DatabaseClock
from moorfog.rooms.accounts.sessions import load_actor
from moorfog.rooms.accounts.tables import Account
from tests.browser.desk import Desk
from tests.browser.walked import MINUTES, Walker

SPEED = 10
"""Slow enough that a press seven seconds wide in the protocol is met on a loaded machine."""
WORDS = {"sweet": "Sweet taste", "bitter": "Bitter taste", "odour": "Odour", "smoke": "Irritant smoke"}
MODELS = {"sweet": "Sedge", "bitter": "Sedge", "odour": "Bracken", "smoke": "Sedge"}
TASTE = [30 * number for number in range(1, 14)]
SLOTS = {"sweet": TASTE, "bitter": TASTE, "odour": [], "smoke": [60, 120, 180, 240, 300, 360, 420]}
TOTAL_S = {"sweet": 420, "bitter": 420, "odour": 420, "smoke": 480}


def stock(walker: Walker) -> None:
    """Put fresh solutions, jars and a tube on the shelf, filled and seen to spray before any walk begins."""

    def work(db: Session) -> dict[tuple[str, str], str]:
        account = db.scalar(select(Account).where(Account.login == "maren"))
        assert account is not None
        now = DatabaseClock().now(db)
        return seed_kit(db, load_actor(db, account, now), now - timedelta(minutes=MINUTES + 5))

    walker.kit = run_in_transaction(walker.stack.engine, work)


def ready(tester: Desk, walker: Walker, who: str, agent: str, begin: str = "run") -> None:
    """Bring a tester to the start of a qualitative run, screened; by hand from the card ``begin`` on."""
    visit, _ = walker.to(begin, who, method=agent, model=MODELS[agent], speed=SPEED)
    tester.at(visit)
    tester.method = WORDS[agent]
    tester.until("run", model=MODELS[agent])


def begin(tester: Desk, agent: str) -> None:
    """Hood on, in the chamber, or eyes shut; and the first dose, where there is one."""
    tester.page.wait_for_function("() => document.querySelector('.foot .key')?.disabled === false", polling=100)
    tester.press("Space")
    tester.page.locator("[data-run]").wait_for()
    if agent != "odour":
        tester.press("Space")
    tester.page.wait_for_function("() => Number(document.querySelector('[data-run]')?.dataset.t) >= 0", polling=100)
