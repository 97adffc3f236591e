"""Visits walked up to a card by the operations, so that a browser test begins where its own subject begins."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import timedelta
from typing import Any

from sqlalchemy import or_, select
from sqlalchemy.orm import Session

from moorfog.core.rules.book import Rules
from moorfog.demo.seed import best_size, catalogue, check_all, counter_id
from moorfog.demo.walk import Walk
from moorfog.platform.db.base import run_in_transaction
from moorfog.platform.db.clock import DatabaseClock
from moorfog.platform.web.errors import Conflict, DomainError
from moorfog.rooms.accounts.sessions import load_actor
from moorfog.rooms.accounts.tables import Account
from moorfog.rooms.kit.tables import InstrumentCheckRow
from moorfog.rooms.people.tables import Person
from tests.browser.stack import Stack

MINUTES = 40
"""How long ago a walk begins: its own clock stays behind the real one."""


@dataclass
class Walker:
    """Walks visits on one program; every instrument has passed its checks, ``kit`` is what stands on the shelf."""

    stack: Stack
    rules: Rules
    kit: Mapping[tuple[str, str], str] = field(default_factory=dict)

    def to(
        self, act: str, who: str, *, method: Any = "ambient_count", model: str = "Sedge", speed: int = 10
    ) -> tuple[str, str]:
        """Walk someone, by number or name, until ``act`` is next; practice unless in real time. Visit and name.

        Where they have an open visit already, from a test done once more, somebody else comes in their place.
        """
        given = {"act": act, "method": method, "model": model, "speed": speed}
        try:
            return self._walk(who, **given)
        except Conflict as error:
            if error.code != "already_here":
                raise
        except RuntimeError:
            pass  # their task needs what this facepiece does not give
        with Session(self.stack.engine) as db:
            others = list(db.scalars(select(Person.number).order_by(Person.number.desc())))
        for other in others:
            try:
                return self._walk(other, **given)
            except (DomainError, RuntimeError):
                continue  # a visit of their own, or a clearance against this facepiece
        raise AssertionError("nobody is left to test")

    def _walk(self, who: str, act: str, method: Any, model: str, speed: int) -> tuple[str, str]:
        def walk(db: Session) -> tuple[str, str]:
            account = db.scalar(select(Account).where(Account.login == "maren"))
            person = db.scalar(select(Person).where(or_(Person.number == who, Person.name == who)))
            counter = counter_id(db)
            assert account and person and counter, who
            actor, now = load_actor(db, account), DatabaseClock().now(db)
            begin = now - timedelta(minutes=MINUTES)
            if not db.scalar(select(InstrumentCheckRow.id).limit(1)):
                check_all(db, actor, now)
            is_practice = speed > 1
            walked = Walk(
                db, actor, self.rules, person.id, "Bench A", begin, counter, is_practice=is_practice, speed=speed
            )
            walked.method, walked.kit = method, self.kit
            walked.until("choose_facepiece")
            option = catalogue(db)[model]
            walked.choose(option, best_size(option, person.face_length or 0))
            walked.until(act)
            assert walked.clock.at < now, "the walk took longer than it may"
            return walked.visit_id, person.name

        return run_in_transaction(self.stack.engine, walk)
