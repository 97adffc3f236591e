"""Calls as they should be, of every operation: of what is there, as somebody who may, with a body that is right.

What a call uses up (a person who leaves, an address that ends) is made for it just before.
"""

from __future__ import annotations

import base64
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from moorfog.demo.scenario import COUNTER_FIGURES
from moorfog.platform.db.base import new_id, run_in_transaction
from moorfog.platform.jobs.tables import Job
from moorfog.platform.web.routing import ROUTES, RULE_ROLES, Route
from moorfog.rooms.accounts.sessions import create_account
from moorfog.rooms.people.tables import TrainingRow
from tests.rooms.house import PASSWORD, ROLES, House
from tests.rooms.test_access import BODIES, aimed_at, filled

OWNER = "owner"
"""An administrator of all employers."""
STATIONS = {"link": ("link",), "wearer": ("wearer",), "public": ("stranger", "tester")}
"""Who calls what is open to no role."""
ASKED = {
    "site": "site_id",
    "site_id": "site_id",
    "visit": "visit_id",
    "person": "person_id",
    "model_id": "model_id",
    "model": "model_id",
}
"""Fields of a question that name something, and the id of it."""
WORDS = {"size": "M", "by": "tester"}
"""Fields of a question that need a word."""
OF_ALL = (
    "import_catalogue",
    "add_employer",
    "save_facepiece",
    "withdraw_facepiece",
    "change_organisation",
    "make_recovery_key",
)
"""What only an administrator of all employers may do."""
TABLE = (
    "Number;Test date;Mask;Size;Method;Result;Fit factor;Tested by\n{};2026-01-02;Sedge;M;ambient count;passed;900;R"
)


@dataclass
class Call:
    """The parts of a call: what stands in its path, its question, its body (None without one), and who makes it."""

    ids: dict[str, str]
    query: dict[str, str]
    body: Any
    actor: str


@dataclass
class ShouldBe:
    """A house with something in every corner, and what to ask it for."""

    house: House
    ids: dict[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        house = self.house
        self.routes = {(one.method, one.path): one for one in ROUTES}
        self.tester, self.admin, self.supervisor = (house.client(role) for role in ROLES)
        self.closed = self.tester.whole_visit(house.ours.people[0])
        piece = house.facepiece()
        self.ids = {**aimed_at(house, foreign=False), **{name: piece[name] for name in ("version_id", "model_id")}}
        self.ids["run_id"] = self.tester.get(f"/api/visits/{self.closed}")["visit"]["tries"][0]["run_id"]
        self.number = f"{house.mark}-1"
        login = f"{OWNER}-{house.mark}"
        run_in_transaction(
            house.engine, lambda db: create_account(db, login, "Åse Oake", PASSWORD, [("administrator", None)])
        )
        house.ours.logins[OWNER] = login
        self.before: dict[str, Callable[[Call], None]] = {
            "set_own_notice": lambda call: call.body.update(address="ines@grain.example"),
            "enter_competence": lambda call: call.body.update(begins="2026-01-01"),
            "enter_calibration": lambda call: call.body.update(done_on="2026-01-01", good_until="2099-01-01"),
            "enter_instrument": self._figures,
            "change_instrument": self._figures,
            "preview_history": self._history,
            "import_history": self._history,
            "sign_in": lambda call: call.body.update(login=house.ours.logins["tester"], password=PASSWORD),
            "start_second_factor": lambda call: call.body.update(password=PASSWORD),
            "save_crew": lambda call: call.body.update(numbers=self.number, name=new_id()),
            "draw_cards": lambda call: call.body.update(crew={"site": self.ids["site_id"]}),
            "draw_list": lambda call: call.body.update(site=self.ids["site_id"]),
            "open_visit": lambda call: call.body.update(person_id=self.person()),
            "propose": self._press,
            "person_left": self._leaver,
            "erase_person": self._gone,
            "merge_people": self._two,
            "withdraw_report": self._report,
            "withdraw_training": self._training,
            "drop_crew": self._crew,
            "get_calendar": self._calendar,
            "get_gate": self._gate,
            "end_gate": self._gate,
            "get_job": self._job,
            "cancel_job": self._job,
        }
        self.before |= {one.name: self._wearer for one in ROUTES if one.rule == "wearer"}

    def call(self, route: Route, dice: int) -> Call:
        """Make a call of a route."""
        ids = {**self.ids, "session_id": new_id()}
        if route.path.startswith("/api/instruments/"):
            ids["instrument_id"] = ids["spare_id"]
        _, body = filled(route, ids)
        known = route.query.json_schema() if route.query else {"properties": {}}
        query = {name: ids[ASKED[name]] for name in known["properties"] if name in ASKED}
        query |= {name: WORDS[name] for name in known.get("required", ()) if name in WORDS}
        roles = STATIONS.get(route.rule) or RULE_ROLES.get(route.rule) or ROLES
        made = Call(ids, query, body, OWNER if route.name in OF_ALL else roles[dice % len(roles)])
        self.before.get(route.name, lambda _: None)(made)
        return made

    def person(self) -> str:
        """Enter somebody new; return their id."""
        body = {**BODIES["add_person"], "site_id": self.ids["site_id"], "number": new_id()}
        found: str = self.admin.post("/api/people", body)["id"]
        return found

    def _figures(self, call: Call) -> None:
        figures = {**COUNTER_FIGURES, "serial_number": new_id()[-12:], "calibrated_until": "2099-01-01"}
        call.body.update(figures={**figures, "zone": "Europe/London"}, name=new_id())

    def _history(self, call: Call) -> None:
        call.body.update(content=base64.b64encode(TABLE.format(self.number).encode()).decode())

    def _press(self, call: Call) -> None:
        person = self.person()
        visit = self.tester.open(person)
        call.ids["visit_id"] = visit
        call.body = self.tester.proposal(visit, {"kind": "distress", "what": "unwell"})

    def _leaver(self, call: Call) -> None:
        call.ids["person_id"] = self.person()
        call.body.update(left_on=self.house.clock.at.date().isoformat())

    def _two(self, call: Call) -> None:
        call.ids["person_id"] = self.person()
        call.body.update(other_id=self.person())

    def _gone(self, call: Call) -> None:
        call.ids["person_id"] = self.person()
        left = {"left_on": self.house.clock.at.date().isoformat()}
        self.admin.post(f"/api/people/{call.ids['person_id']}/left", left)
        over = update(Job).values(state="cancelled")  # nobody is erased while papers are drawn
        run_in_transaction(self.house.engine, lambda db: db.execute(over))

    def _report(self, call: Call) -> None:
        body = BODIES["report_change"]
        call.ids["report_id"] = self.tester.post(f"/api/people/{call.ids['person_id']}/reports", body)["id"]

    def _training(self, call: Call) -> None:
        call.ids["person_id"] = self.person()
        self.tester.post(f"/api/people/{call.ids['person_id']}/training", BODIES["record_training"])
        with Session(self.house.engine) as db:
            row = select(TrainingRow.id).where(TrainingRow.person_id == call.ids["person_id"])
            call.ids["training_id"] = db.scalars(row).one()

    def _crew(self, call: Call) -> None:
        body = {"name": new_id(), "numbers": self.number}
        call.ids["crew_id"] = self.supervisor.post(f"/api/sites/{call.ids['site_id']}/crews", body)["id"]

    def _calendar(self, call: Call) -> None:
        call.ids["secret"] = self.supervisor.post(f"/api/sites/{call.ids['site_id']}/calendar")["path"].split("/")[-1]

    def _gate(self, call: Call) -> None:
        path = self.supervisor.post("/api/gate", {"site": call.ids["site_id"]})["path"]
        there = self.supervisor.get(f"/api/gates?site={call.ids['site_id']}")["rows"]
        call.ids |= {"secret": path.split("/")[-1], "gate_id": there[-1]["id"]}

    def _job(self, call: Call) -> None:
        call.actor = "administrator"

    def _wearer(self, call: Call) -> None:
        path = self.tester.call("POST", f"/api/visits/{self.ids['visit_id']}/wearer")["path"]
        call.ids["token"] = path.removeprefix("/w/")
