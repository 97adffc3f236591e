"""Calls made up from the program's own document, as everybody who may call: none may end in an error of the program.

Most are calls as they should be. Of the others half have one word made up, and half are made up whole, as anybody.
``./moorfog bench fuzz`` makes a hundred thousand by a seed that it prints; the tests five thousand, alike each time.
"""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Iterator
from typing import Any

import schemathesis
from hypothesis import HealthCheck, Phase, given, seed, settings
from hypothesis import strategies as st
from schemathesis.core.failures import Failure, FailureGroup
from schemathesis.specs.openapi.checks import content_type_conformance, response_schema_conformance
from werkzeug.exceptions import HTTPException

from moorfog.app import COOKIE
from moorfog.platform.web.routing import Route
from tests.faults.should_be import OWNER, ShouldBe
from tests.rooms.house import PASSWORD, Client, House

ACTORS = ("stranger", "tester", "administrator", "supervisor", "theirs", "link", "wearer")
RIGHT = 0.75
"""Of all calls, those that are as they should be."""
EXPECTED_5XX = {503}
"""Said on purpose: the database is away, or there is no room for another stream."""


def through(counted: Counter[str]) -> tuple[int, int]:
    """Return how many calls were made, and how many of them went through."""
    made = Counter({what: count for what, count in counted.items() if what.isdigit()})
    return made.total(), sum(count for what, count in made.items() if what.startswith("2"))


class Fuzz:
    """A house with something in every corner, and everybody who may call it."""

    def __init__(self, house: House) -> None:
        self.house, self.right = house, ShouldBe(house)
        ids = self.right.ids
        self.known: dict[str, list[str]] = {name: [one] for name, one in ids.items()}
        self.known["visit_id"].append(self.right.closed)
        self.known["person_id"] += [*house.ours.people, house.theirs.people[0]]
        self.known["site_id"].append(house.theirs.site)
        self.clients = {name: self._client(name) for name in (*ACTORS, OWNER)}
        self.refused: set[str] = set()
        """Who was told 401 the last time."""
        self.schema = schemathesis.openapi.from_wsgi("/api/openapi.json", house.app)

    def _client(self, name: str) -> Client:
        if name in ("stranger", "link", "wearer"):
            return self.house.stranger()
        place = self.house.theirs if name == "theirs" else self.house.ours
        return self.house.client("tester" if name == "theirs" else name, place)

    def headers(self, name: str) -> dict[str, str]:
        """What an actor sends besides."""
        if name == "link":
            return {"Authorization": f"Bearer {self.house.ours.token}"}
        client = self.clients[name]
        if client.login and name in self.refused and client.web.get("/api/session").status_code != 200:
            client.sign_in(client.login, PASSWORD)  # one of the calls has signed it out
        self.refused.discard(name)
        return {"X-Moorfog-Token": client.token}

    def operations(self) -> Iterator[Any]:
        """Every operation of the document but the streams, which do not end."""
        for found in self.schema.get_all_operations():
            one = found.ok()
            answers = one.definition.raw["responses"].values()
            if not any("text/event-stream" in answer.get("content", {}) for answer in answers):
                yield one

    def attack(self, operation: Any, examples: int, drawing: int) -> Counter[str]:
        """Make calls of one operation, drawn by a number. Returns how many came to what; ``bad`` ones with the call
        that led there."""
        counted: Counter[str] = Counter()
        route = self.right.routes.get((operation.method.upper(), operation.path))
        good = round(examples * RIGHT) if route is not None else 0
        for dice in range(good):
            case = operation.Case()
            counted[self._call(case, self._put_right(case, route, dice))] += 1

        @seed(drawing)
        @settings(
            max_examples=examples - good,
            database=None,
            deadline=None,
            phases=[Phase.generate],
            suppress_health_check=list(HealthCheck),
        )
        @given(
            operation.as_strategy(generation_mode=schemathesis.GenerationMode.POSITIVE)
            | operation.as_strategy(generation_mode=schemathesis.GenerationMode.NEGATIVE),
            st.sampled_from(ACTORS),
            st.integers(0, 10**6),
        )
        def made_up(case: Any, actor: str, dice: int) -> None:
            if route is not None and dice % 2:
                actor = self._put_right(case, route, dice // 2, is_altered=True)
            else:
                for name in case.path_parameters or {}:
                    if dice % 8 and name in self.known:
                        case.path_parameters[name] = self.known[name][dice % len(self.known[name])]
            counted[self._call(case, actor)] += 1

        made_up()
        return counted

    def _put_right(self, case: Any, route: Route, dice: int, is_altered: bool = False) -> str:
        """Make a case a call as it should be, but for one word of its own where it is altered; return who makes it."""
        right = self.right.call(route, dice)
        made, known = case.body, list(route.query.json_schema()["properties"]) if route.query else []
        drawn, names = case.path_parameters or {}, re.findall(r"\{(\w+)\}", route.path)
        case.path_parameters = {name: right.ids.get(name, "A4") for name in names}
        if is_altered and names and (dice % 4 == 0 or not (made or known)):
            name = names[dice // 4 % len(names)]
            case.path_parameters[name] = drawn[name]
            is_altered = False
        if right.body is not None:
            case.body = dict(right.body)
            case.media_type = "application/json"
            if is_altered and isinstance(made, dict) and made:
                name = sorted(made)[dice % len(made)]
                case.body[name] = made[name]
        elif is_altered and known:
            name = known[dice % len(known)]
            right.query[name] = (case.query or {}).get(name, "")
        case.query = right.query
        return right.actor

    def _call(self, case: Any, actor: str) -> str:
        more = self.headers(actor)
        cookie = self.clients[actor].web.get_cookie(COOKIE)
        session = {COOKIE: cookie.value} if cookie is not None else {}
        try:
            response = case.call(headers={**(case.headers or {}), **more}, cookies=session)
        except (HTTPException, ValueError, UnicodeError) as error:
            return f"unsendable {type(error).__name__}"
        if response.status_code == 401:
            self.refused.add(actor)
        what = f"{case.method} {case.path} as {actor}: {response.status_code}"
        if response.status_code >= 500 and response.status_code not in EXPECTED_5XX:
            return f"bad {what} {response.text[:200]} {json.dumps(case.body, default=repr)[:300]}"
        try:
            case.validate_response(response, checks=[response_schema_conformance, content_type_conformance])
        except (Failure, FailureGroup) as error:
            return f"bad {what} not as the document says: {str(error)[:300]}"
        return str(response.status_code)
