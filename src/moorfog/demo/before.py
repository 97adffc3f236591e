"""Results of before: the table that the last tester left at the boatyard, taken over as history."""

from __future__ import annotations

import base64
from datetime import timedelta

from sqlalchemy import Engine, select
from sqlalchemy.orm import Session

from moorfog.platform.db.base import run_in_transaction
from moorfog.platform.db.clock import DatabaseClock
from moorfog.rooms.accounts.sessions import load_actor
from moorfog.rooms.accounts.tables import Account
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.tables import Site
from moorfog.rooms.wear.history import HistoryFile, import_history

RESULTS = (
    ("Sedge half mask", "M", "pass", "particle count", "1840", 210),
    ("Sedge half mask", "M", "pass", "particle count", "960", 205),
    ("Sedge half mask", "M", "fail", "particle count", "64", 205),
    ("Sedge half mask", "S", "pass", "particle count", "2210", 190),
    ("Sleet full face", "2", "pass", "saccharin", "", 400),
)
"""Facepiece and size in the words of that table, outcome, method, fit factor, how many days ago."""


def seed_before(engine: Engine) -> None:
    """Take that table over, as the administrator would."""

    def work(db: Session) -> None:
        clock = DatabaseClock()
        account = db.scalar(select(Account).where(Account.login == "hollis"))
        site = db.scalar(select(Site).order_by(Site.name).limit(1))
        if account is None or site is None:
            raise RuntimeError("seed the places first")
        here = select(Person.number).where(Person.site_id == site.id).order_by(Person.number.desc())
        numbers, today = db.scalars(here.limit(len(RESULTS))).all(), clock.now(db).date()
        lines = ["number,tested on,mask,size,result,method,fit factor,tester"]
        for number, (model, size, result, method, factor, ago) in zip(numbers, RESULTS, strict=True):
            lines.append(f"{number},{today - timedelta(days=ago)},{model},{size},{result},{method},{factor},Wyn Tallow")
        content = base64.b64encode("\n".join(lines).encode()).decode()
        import_history(db, clock, load_actor(db, account), HistoryFile(site.id, "last-tester.csv", content))

    run_in_transaction(engine, work)
