"""Calls made up from the program's own document, as everybody who may call: none may end in an error of the program.

``python -m tests.bench fuzz`` makes a hundred thousand; the tests make a few of every kind.
"""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterator
from typing import Any

import schemathesis
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st
from schemathesis.core.failures import Failure, FailureGroup
from schemathesis.specs.openapi.checks import content_type_conformance, response_schema_conformance
from werkzeug.exceptions import HTTPException

from moorfog.api.app import COOKIE
from tests.api.house import PASSWORD, Client, House

ACTORS = ("stranger", "tester", "administrator", "supervisor", "theirs", "link", "wearer")
EXPECTED_5XX = {503}
"""Said on purpose: the database is away, or there is no room for another stream."""


class Fuzz:
    """A house with something in every corner, and everybody who may call it."""

    def __init__(self, house: House) -> None:
        self.house = house
        tester = house.client()
        visit = tester.whole_visit(house.ours.people[0])
        open_visit = tester.open(house.ours.people[1])
        wearer = tester.call("POST", f"/api/visits/{open_visit}/wearer")["path"].removeprefix("/w/")
        self.known: dict[str, list[str]] = {
            "visit_id": [visit, open_visit],
            "person_id": [*house.ours.people, house.theirs.people[0]],
            "site_id": [house.ours.site, house.theirs.site],
            "instrument_id": [house.ours.counter],
            "version_id": [house.facepiece()["version_id"]],
            "token": [wearer],
            "run_id": [one["run_id"] for one in tester.get(f"/api/visits/{visit}")["visit"]["tries"]],
        }
        self.clients = {name: self._client(name) for name in ACTORS}
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
        if client.login and client.web.get("/api/session").status_code != 200:
            client.sign_in(client.login, PASSWORD)  # one of the calls has signed it out
        return {"X-Moorfog-Token": client.token}

    def operations(self) -> Iterator[Any]:
        """Every operation of the document but the streams, which do not end."""
        for found in self.schema.get_all_operations():
            one = found.ok()
            answers = one.definition.raw["responses"].values()
            if not any("text/event-stream" in answer.get("content", {}) for answer in answers):
                yield one

    def attack(self, operation: Any, actors: tuple[str, ...], examples: int) -> Counter[str]:
        """Make calls of one operation. Returns how many came to what; ``bad`` ones with the call that led there."""
        counted: Counter[str] = Counter()

        @settings(
            max_examples=examples,
            derandomize=True,
            database=None,
            deadline=None,
            phases=[Phase.generate],
            suppress_health_check=list(HealthCheck),
        )
        @given(
            operation.as_strategy(generation_mode=schemathesis.GenerationMode.POSITIVE)
            | operation.as_strategy(generation_mode=schemathesis.GenerationMode.NEGATIVE),
            st.sampled_from(actors),
            st.integers(0, 10**6),
        )
        def calls(case: Any, actor: str, dice: int) -> None:
            for name in case.path_parameters or {}:
                if dice % 4 and name in self.known:
                    case.path_parameters[name] = self.known[name][dice % len(self.known[name])]
            counted[self._call(case, actor)] += 1

        calls()
        return counted

    def _call(self, case: Any, actor: str) -> str:
        more = self.headers(actor)
        cookie = self.clients[actor].web.get_cookie(COOKIE)
        session = {COOKIE: cookie.value} if cookie is not None else {}
        try:
            response = case.call(headers={**(case.headers or {}), **more}, cookies=session)
        except (HTTPException, ValueError, UnicodeError) as error:
            return f"unsendable {type(error).__name__}"
        what = f"{case.method} {case.path} as {actor}: {response.status_code}"
        if response.status_code >= 500 and response.status_code not in EXPECTED_5XX:
            return f"bad {what} {response.text[:200]} {json.dumps(case.body, default=repr)[:300]}"
        try:
            case.validate_response(response, checks=[response_schema_conformance, content_type_conformance])
        except (Failure, FailureGroup) as error:
            return f"bad {what} not as the document says: {str(error)[:300]}"
        return str(response.status_code)
