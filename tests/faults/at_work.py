"""People at work over HTTP, entered and tested without pause: what was acknowledged to them is there, once."""

from __future__ import annotations

import http.client
import json
import secrets
import threading
import time
import urllib.error
import urllib.request
from collections import Counter
from datetime import UTC, datetime
from http.cookiejar import CookieJar
from typing import Any, Self

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.demo.run import PASSWORD
from moorfog.platform.db.base import new_id
from moorfog.platform.log.summaries import VisitSummary
from moorfog.platform.log.tables import EventRow
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.tables import Site
from tests.browser.stack import Stack


class Insistent(threading.Thread):
    """Does one thing after the other over HTTP, each until it is acknowledged; never gives up, never skips."""

    PAUSE_S = 0.0

    def __init__(self, address: str, login: str) -> None:
        super().__init__(daemon=True)
        self.address = address
        self.acknowledged: list[str] = []
        self.over = threading.Event()
        self.opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(CookieJar()))
        self.token = self._call("/api/session", {"login": login, "password": PASSWORD})["token"]

    def _call(self, path: str, body: dict[str, Any]) -> Any:
        headers = {"Content-Type": "application/json", "X-Moorfog-Token": getattr(self, "token", "")}
        request = urllib.request.Request(f"{self.address}{path}", json.dumps(body).encode(), headers)
        with self.opener.open(request, timeout=5) as answer:
            return json.load(answer)

    def answer(self, path: str, body: dict[str, Any]) -> tuple[int, dict[str, Any]]:
        """Call once, whatever comes of it: the status, 0 where nobody answers to the end, and what a refusal says."""
        try:
            self._call(path, body)
        except urllib.error.HTTPError as error:
            return error.code, json.loads(error.read() or b"{}")
        except (OSError, ValueError, http.client.HTTPException):  # it may be cut off in the middle
            return 0, {}
        return 200, {}

    def given(self, number: int) -> tuple[str, str, dict[str, Any]]:
        """Return the next thing: its name, and the path and body of the call that does it."""
        raise NotImplementedError

    def run(self) -> None:
        """Post until told to stop."""
        while not self.over.is_set():
            name, path, body = self.given(len(self.acknowledged))
            while not self.over.is_set():
                status, said = self.answer(path, body)
                if status == 200 or said.get("code") == "number_taken":  # the latter: its first answer was lost
                    break
                time.sleep(0.05)
            else:
                return
            self.acknowledged.append(name)
            self.over.wait(self.PAUSE_S)


class Poster(Insistent):
    """Enters one person after the other."""

    def __init__(self, address: str, site: str) -> None:
        super().__init__(address, "hollis")
        self.site, self.mark = site, f"k{secrets.token_hex(3)}"

    def given(self, number: int) -> tuple[str, str, dict[str, Any]]:
        """Return the entry of somebody new."""
        who = {"site_id": self.site, "name": "Ida Holm", "number": f"{self.mark}-{number}"}
        entry = {**who, "job": "", "task": "", "contact": ""}
        return entry["number"], "/api/people", entry


class Bench(Insistent):
    """A visit at a bench, whose tester notes one touch after the other."""

    PAUSE_S = 1.0

    def __init__(self, address: str, person: str) -> None:
        super().__init__(address, "maren")
        self.person = person
        opened = {"person_id": person, "bench": "A", "is_practice": False, "speed": 1}
        self.visit = self._call("/api/visits", {"visit_id": new_id(), "event_id": new_id(), **opened})["visit_id"]

    def given(self, number: int) -> tuple[str, str, dict[str, Any]]:
        """Return a touch that moved nothing: an observation, which is taken always."""
        one = {"id": new_id(), "expects": None, "mark": None, "visit_id": self.visit, "person_id": self.person}
        now = datetime.now(UTC).isoformat()
        touch = {**one, "occurred_at": now, "body": {"kind": "touched", "moved": False}}
        return touch["id"], f"/api/visits/{self.visit}/events", touch


class AtWork:
    """Somebody who enters people, and visits at so many benches, while the block goes on."""

    def __init__(self, stack: Stack, benches: int) -> None:
        self.stack = stack
        with Session(stack.engine) as db:
            site = db.scalars(select(Site.id)).first()
            never = Person.id.not_in(select(VisitSummary.person_id))
            people = list(db.scalars(select(Person.id).where(never).order_by(Person.id).limit(benches)))
        assert site is not None and len(people) == benches
        self.poster, self.visits = Poster(stack.address, site), [Bench(stack.address, one) for one in people]

    def __enter__(self) -> Self:
        for one in (self.poster, *self.visits):
            one.start()
        return self

    def __exit__(self, *_: object) -> None:
        for one in (self.poster, *self.visits):
            one.over.set()
        for one in (self.poster, *self.visits):
            one.join(10)
        self.stack.engine.dispose()  # these connections may be to a server that died

    def lost(self) -> list[str]:
        """Return what was acknowledged and is not there, or is there more than once."""
        with Session(self.stack.engine) as db:
            stored = Counter(db.scalars(select(Person.number).where(Person.number.like(f"{self.poster.mark}-%"))))
        wrong = [f"{one} was acknowledged and is not there" for one in self.poster.acknowledged if not stored[one]]
        wrong += [f"{one} is there {times} times" for one, times in stored.items() if times > 1]
        for each in self.visits:
            wrong += _lost_of(self.stack, each)
        return wrong


def _lost_of(stack: Stack, bench: Bench) -> list[str]:
    """Return what of a visit's presses is not there, or is there more than once."""
    asked = select(EventRow.seq, EventRow.id, EventRow.kind).where(EventRow.visit_id == bench.visit)
    with Session(stack.engine) as db:
        rows = db.execute(asked.order_by(EventRow.seq)).all()
    stored = {one.id for one in rows}
    wrong = [
        f"a press of {bench.visit} was acknowledged and is gone" for one in bench.acknowledged if one not in stored
    ]
    if [one.seq for one in rows] != list(range(1, len(rows) + 1)):
        wrong.append(f"the log of {bench.visit} has gaps")
    touches = sum(one.kind == "touched" for one in rows)
    if not bench.acknowledged or touches > len(bench.acknowledged) + 1:  # one whose answer was lost at the very end
        wrong.append(f"{len(bench.acknowledged)} presses of {bench.visit} were acknowledged, {touches} stand")
    return wrong
