"""Parts killed at random while somebody keeps posting: what was acknowledged is there, once, and all come back."""

from __future__ import annotations

import http.client
import json
import random
import threading
import time
import urllib.error
import urllib.request
from collections import Counter
from http.cookiejar import CookieJar
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.demo.run import PASSWORD
from moorfog.serving.parts import DATABASE
from moorfog.store.models import Person, Site
from tests.browser.stack import Stack

BACK_WITHIN_S = 5.0
STEADY_WITHIN_S = 30.0


class Poster(threading.Thread):
    """Enters one person after the other and keeps at each until it is acknowledged; never gives up, never skips."""

    def __init__(self, address: str, site: str) -> None:
        super().__init__(daemon=True)
        self.address, self.site = address, site
        self.acknowledged: list[str] = []
        self.over = threading.Event()
        self.opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(CookieJar()))
        self.token = self._call("/api/session", {"login": "hollis", "password": PASSWORD})["token"]

    def _call(self, path: str, body: dict[str, Any]) -> Any:
        headers = {"Content-Type": "application/json", "X-Moorfog-Token": getattr(self, "token", "")}
        request = urllib.request.Request(f"{self.address}{path}", json.dumps(body).encode(), headers)
        with self.opener.open(request, timeout=5) as answer:
            return json.load(answer)

    def run(self) -> None:
        """Post until told to stop."""
        while not self.over.is_set():
            number = f"k{len(self.acknowledged)}"
            entry = {"site_id": self.site, "name": "Ida Holm", "number": number, "job": "", "task": "", "contact": ""}
            while not self.over.is_set():
                try:
                    self._call("/api/people", entry)
                except urllib.error.HTTPError as error:
                    if json.loads(error.read() or b"{}").get("code") == "number_taken":
                        break  # its first answer was lost on the way
                    time.sleep(0.05)
                    continue
                except (OSError, ValueError, http.client.HTTPException):  # it may be cut off in the middle
                    time.sleep(0.05)
                    continue
                break
            else:
                return
            self.acknowledged.append(number)


def kill_at_random(stack: Stack, kills: int, seed: int) -> list[str]:
    """Kill one part after the other under a supervisor. Returns what went wrong; nothing where nothing did."""
    parts, dice, wrong = stack.parts, random.Random(seed), list[str]()
    parts.adopt(DATABASE, stack.server.spawn, stack.server.spawned)
    with Session(stack.engine) as db:
        site = db.scalars(select(Site.id)).first()
        assert site is not None
    poster = Poster(stack.address, site)
    poster.start()
    for _ in range(kills):
        # the supervisor starts processes on this very thread: the leash is the thread's that started them
        name = dice.choice(list(parts.parts))
        child = parts.children[name]
        child.kill()
        child.wait(5)
        deadline = time.monotonic() + BACK_WITHIN_S
        while parts.children[name] is child or parts.children[name].poll() is not None:
            parts.look()
            if time.monotonic() > deadline:
                wrong.append(f"{name} was not back within {BACK_WITHIN_S:.0f} s")
                break
            time.sleep(0.02)
        until = time.monotonic() + dice.uniform(0, 1.5)
        while time.monotonic() < until:
            parts.look()
            time.sleep(0.02)
    count, deadline = len(poster.acknowledged), time.monotonic() + STEADY_WITHIN_S
    while len(poster.acknowledged) < count + 5 and time.monotonic() < deadline:
        parts.look()
        time.sleep(0.05)
    if len(poster.acknowledged) < count + 5:
        wrong.append("nothing is taken any more after the kills")
    poster.over.set()
    poster.join(10)
    stack.engine.dispose()  # these connections were to those that died
    with Session(stack.engine) as db:
        stored = Counter(db.scalars(select(Person.number).where(Person.number.like("k%"))))
    wrong += [f"{one} was acknowledged and is not there" for one in poster.acknowledged if not stored[one]]
    wrong += [f"{one} is there {times} times" for one, times in stored.items() if times > 1]
    if len(poster.acknowledged) < kills // 2:
        wrong.append(f"only {len(poster.acknowledged)} were taken in all that time")
    return wrong
