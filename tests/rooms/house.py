"""A house for one test: two employers of its own, their people, counters and accounts, and clients that sign in."""

from __future__ import annotations

import json
import uuid
from collections.abc import Iterator, Mapping
from contextlib import nullcontext
from dataclasses import dataclass, field, fields
from datetime import UTC, date, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from flask import Flask
from flask.testing import FlaskClient
from pydantic import TypeAdapter
from sqlalchemy import Engine, select
from sqlalchemy.orm import Session

from moorfog.app import create_app
from moorfog.auditor.second import differences
from moorfog.core.kernel.codec import encode
from moorfog.core.rules.book import Rules
from moorfog.core.transitions.bound import mark_of
from moorfog.core.views.visit_view import VisitView, visit_view
from moorfog.demo import scenario
from moorfog.platform.db.base import new_id, run_in_transaction
from moorfog.platform.log.log import keep_state, load_visit
from moorfog.platform.log.tables import VisitHead
from moorfog.rooms.accounts import sessions
from moorfog.rooms.accounts.sessions import create_account, load_actor
from moorfog.rooms.accounts.tables import Account
from moorfog.rooms.bench.proposals import Proposal
from moorfog.rooms.bench.runs import start_run
from moorfog.rooms.bench.visits import propose
from moorfog.rooms.facepieces.tables import FacepieceVersion
from moorfog.rooms.kit.entering import create_instrument
from moorfog.rooms.people.people import index_people
from moorfog.rooms.people.tables import ClearanceRow, Person, TrainingRow
from moorfog.rooms.sites.tables import Employer, Site, SiteTask
from tests.unguarded import schema_engine

PASSWORD = "heather-and-peat"
NAMES = ("Åsa Tarn", "Łukasz Moss Heather", "Bo Fell")
DUST = {"name": "grain dust", "form": "particles", "concentration": "30", "limit": "4", "unit": "mg/m³"}
GRAIN = {"contaminants": [DUST], "work_filter": "99-type", "oxygen_percent": "20.9"}
TASK = {"oxygen_percent": "20.9", "is_idlh": False, "is_unknown": False, "work_cartridge": ""}
GOOD = ("4", "6", "3", "5")
ROLES = ("tester", "administrator", "supervisor")


class HandClock:
    """A clock the test moves by hand, from mid-morning in New York, on the day that it is there for a worker's own
    clock too: no test runs into another day by itself."""

    def __init__(self) -> None:
        there = datetime.now(ZoneInfo("America/New_York"))
        self.at = there.replace(hour=10, minute=0, second=0, microsecond=0).astimezone(UTC)

    def now(self, db: Session) -> datetime:
        return self.at

    def pass_by(self, seconds: float) -> None:
        self.at += timedelta(seconds=seconds)


@dataclass
class Place:
    """One employer with a site, three people and a counter."""

    employer: str
    site: str
    people: list[str]
    counter: str
    token: str
    task: str
    logins: dict[str, str] = field(default_factory=dict)


class House:
    """Two employers, ours and theirs, on the test database, and an application that serves them."""

    def __init__(self, engine: Engine, rules: Rules, zone: str = "America/New_York") -> None:
        self.engine, self.rules, self.zone = engine, rules, zone
        self.clock = HandClock()
        self.app: Flask = create_app(engine, rules, clock=self.clock)
        self.mark = uuid.uuid4().hex[:8]
        self.ours = run_in_transaction(engine, lambda db: self._place(db, "ours"))
        self.theirs = run_in_transaction(engine, lambda db: self._place(db, "theirs"))

    def _place(self, db: Session, name: str) -> Place:
        employer = Employer(id=new_id(), name=f"{name} {self.mark}")
        db.add(employer)
        db.flush()
        site = Site(id=new_id(), employer_id=employer.id, name="Quay", zone=self.zone, benches=["Bench A", "Bench B"])
        db.add(site)
        db.flush()
        task_id, people = new_id(), []
        for number, person in enumerate(NAMES):
            row = Person(
                id=new_id(),
                employer_id=employer.id,
                site_id=site.id,
                name=person,
                number=f"{self.mark}-{number}",
                job="silo hand",
                task="grain dust",
                task_id=task_id,
                face_length=1180,
                face_width=1400,
            )
            db.add(row)
            people.append(row.id)
        db.flush()
        for person_id in people:
            self._file(db, person_id)
        index_people(
            db,
            [
                (row_id, employer.id, n, f"{self.mark}-{i}")
                for i, (row_id, n) in enumerate(zip(people, NAMES, strict=True))
            ],
        )
        task = SiteTask(id=task_id, site_id=site.id, name="grain dust", content=GRAIN, is_current=True, task_id=task_id)
        task.entered_at = self.clock.at
        db.add(task)
        token = f"token-{name}-{self.mark}"
        counter = create_instrument(
            db,
            name=f"Counter {name}",
            employer_id=employer.id,
            is_simulated=True,
            token=token,
            content={
                **scenario.COUNTER_FIGURES,
                "serial_number": self.mark,
                "calibrated_until": "2099-01-01",
                "zone": self.zone,
            },
        )
        place = Place(employer.id, site.id, people, counter, token, task.id)
        for role in ROLES:
            place.logins[role] = f"{role}-{name}-{self.mark}"
            create_account(db, place.logins[role], f"{role} {name}", PASSWORD, [(role, employer.id)])
        return place

    @property
    def schema(self) -> Engine:
        """The database by the account that may change its schema."""
        return schema_engine(self.engine)

    def put_on_file(self) -> None:
        """Put a clearance and a training on everybody's file as of the house's own time."""
        for person_id in self.ours.people:
            run_in_transaction(self.engine, lambda db, one=person_id: self._file(db, one))  # type: ignore[misc]

    def _file(self, db: Session, person_id: str) -> None:
        """Put a clearance without end, older than any a test files, and a training of a month ago on file."""
        day = self.clock.at.date()
        common = {"person_id": person_id, "account_id": new_id(), "entered_at": self.clock.at - timedelta(days=40)}
        start = date(2025, 1, 1)
        cleared = {
            "status": "cleared",
            "limits": [],
            "valid_from": start,
            "valid_until": None,
            "by_whom": "Harbour Row",
        }
        db.add(ClearanceRow(id=new_id(), **cleared, **common))
        db.add(TrainingRow(id=new_id(), trained_on=day - timedelta(days=30), what="donning, seal check", **common))
        db.flush()

    def client(self, role: str = "tester", place: Place | None = None) -> Client:
        """Return a client signed in with a role, at our employer unless another is given."""
        login = (place or self.ours).logins[role]
        return Client(self, self.app.test_client()).sign_in(login)

    def stranger(self) -> Client:
        """Return a client that is not signed in."""
        return Client(self, self.app.test_client())

    def facepiece(self, model: str = "Sedge") -> dict[str, Any]:
        """Return a facepiece of the invented catalogue, with its version id."""
        with Session(self.engine) as db:
            row = db.scalar(select(FacepieceVersion).where(FacepieceVersion.model == model).limit(1))
            assert row is not None
            return {**row.content, "version_id": row.id, "model_id": row.model_id, "kind": row.kind}


class Refused(AssertionError):
    """An answer that was not 2xx. Keeps its parts."""

    def __init__(self, status: int, body: dict[str, Any]) -> None:
        super().__init__(f"{status} {body}")
        self.status, self.code, self.body = status, body.get("code"), body


_PROPOSAL = TypeAdapter(Proposal)


class Shown(Mapping[str, Any]):
    """A view as a screen is told it, each part put into JSON only when it is looked at."""

    def __init__(self, view: VisitView) -> None:
        self.view, self.parts = view, dict[str, Any]()

    def __getitem__(self, name: str) -> Any:
        if name not in self.parts:
            self.parts[name] = encode(getattr(self.view, name))
        return self.parts[name]

    def __iter__(self) -> Iterator[str]:
        return (one.name for one in fields(self.view))

    def __len__(self) -> int:
        return len(fields(self.view))


class Client:
    """Speaks to the application as a browser does."""

    def __init__(self, house: House, web: FlaskClient) -> None:
        self.house, self.web, self.token, self.login = house, web, "", ""
        self.idle_until, self.task = house.clock.at, ""
        self.method = "ambient_count"
        self.walk: Session | None = None
        self.kit: dict[tuple[str, str], str] = {}

    def sign_in(self, login: str, password: str = PASSWORD) -> Client:
        self.token = self.call("POST", "/api/session", {"login": login, "password": password})["token"]
        self.login = login
        return self

    def call(
        self, method: str, path: str, body: Any = None, headers: dict[str, str] | None = None, raw: bool = False
    ) -> Any:
        """Return the answer's JSON (or bytes, always where ``raw``). Raises :class:`Refused`."""
        kwargs: dict[str, Any] = {"headers": {"X-Moorfog-Token": self.token, **(headers or {})}}
        if body is not None:
            kwargs["json"] = body
        answer = self.web.open(path, method=method, **kwargs)
        if answer.status_code == 401 and self.login and method != "DELETE" and self.house.clock.at > self.idle_until:
            self.sign_in(self.login)  # an hour on, somebody comes back to the page
            kwargs["headers"]["X-Moorfog-Token"] = self.token
            answer = self.web.open(path, method=method, **kwargs)
        self.idle_until = self.house.clock.at + sessions.IDLE
        if answer.status_code >= 400:
            raise Refused(answer.status_code, answer.get_json() or {})
        if path.endswith("/record.json"):
            found = differences(answer.get_json())
            assert found == [], f"a second judge comes to the same: {found}"
        return answer.get_json() if answer.is_json and not raw else answer.data

    def get(self, path: str) -> Any:
        return self.call("GET", path)

    def post(self, path: str, body: Any = None) -> Any:
        return self.call("POST", path, body)

    def link(self, path: str, body: Any, token: str | None = None) -> Any:
        """Call as the link of our counter; it says the serial number that is on file, unless it says another."""
        if path == "status":
            body = {"serial": self.house.mark, **body}
        bearer = {"Authorization": f"Bearer {token or self.house.ours.token}"}
        return self.call("POST", f"/api/link/{path}", body, bearer)

    def open(self, person: str | None = None, **more: Any) -> str:
        """Open a visit and return its id."""
        body = {
            "visit_id": new_id(),
            "event_id": new_id(),
            "person_id": person or self.house.ours.people[0],
            "bench": "Bench A",
            "is_practice": False,
            "speed": 1,
            **more,
        }
        return str(self.post("/api/visits", body)["visit_id"])

    def proposal(self, visit: str, body: dict[str, Any], **more: Any) -> dict[str, Any]:
        """Return a proposal on the visit as it stands, at the house's time."""
        with nullcontext(self.walk) if self.walk is not None else Session(self.house.engine) as db:
            head = db.get(VisitHead, visit)
            state = load_visit(db, head) if head is not None else None
        return {
            "id": new_id(),
            "expects": state.seq if state is not None else 0,
            "occurred_at": self.house.clock.at.isoformat(),
            "visit_id": visit,
            "person_id": state.person_id if state is not None else new_id(),
            "mark": mark_of(visit, state) if state is not None else "",
            "body": body,
            **more,
        }

    def say(self, visit: str, body: dict[str, Any], seconds: float = 4, **more: Any) -> Mapping[str, Any]:
        """Propose after ``seconds`` and return the view."""
        self.house.clock.pass_by(seconds)
        proposal = self.proposal(visit, body, **more)
        if self.walk is not None:
            return self._directly(self.walk, visit, proposal)
        found: Mapping[str, Any] = self.post(f"/api/visits/{visit}/events", proposal)["visit"]
        return found

    def check_counter(self) -> None:
        """Charge the alcohol and record the three daily checks of our counter."""
        self.post(f"/api/counters/{self.house.ours.counter}/acts", {"name": "alcohol"})
        for name, value in (("room_air", "5240"), ("clean_air", "0"), ("clean_line_ratio", "48000")):
            self.post(f"/api/counters/{self.house.ours.counter}/checks", {"name": name, "value": value})

    def until(self, visit: str, act: str, model: str = "Sedge", over_http: bool = False) -> Mapping[str, Any]:
        """Answer fine and do what is needed until an act or question is next; return the view.

        What is only on the way is proposed to the operation itself, as the route does it; ``over_http``: to the route.
        """
        if over_http or self.walk is not None:
            return self._until(visit, act, model)
        with Session(self.house.engine, expire_on_commit=False) as self.walk:
            try:
                shown = self._until(visit, act, model)
                self.walk.commit()
                return shown
            finally:
                self.walk = None

    def _until(self, visit: str, act: str, model: str) -> Mapping[str, Any]:
        shown = self.shown(visit)
        for _ in range(200):
            if not shown["queue"]:
                assert shown["changes_at"], f"stuck before {act}: {shown['between']} {shown['offers']}"
                self.house.clock.at = datetime.fromisoformat(shown["changes_at"])
                shown = self.shown(visit)
                continue
            card = shown["queue"][0]
            if act in (card["act"], card["id"]):
                return shown
            shown = self.do(visit, card, shown, model)
        raise AssertionError(f"{act} never came up")

    def shown(self, visit: str) -> Mapping[str, Any]:
        """The visit as it stands, as its screen is told."""
        if self.walk is None:
            found: Mapping[str, Any] = self.get(f"/api/visits/{visit}")["visit"]
            return found
        state = load_visit(self.walk, self.walk.get_one(VisitHead, visit))
        return Shown(visit_view(state, self.house.clock.at))

    def _directly(self, db: Session, visit: str, proposal: dict[str, Any]) -> Mapping[str, Any]:
        """Propose to the operation what the route would propose."""
        account = db.scalars(select(Account).where(Account.login == self.login)).one()
        given = _PROPOSAL.validate_json(json.dumps(proposal))
        done = propose(db, self.house.clock, load_actor(db, account), visit, given, start_run)
        keep_state(visit, done.visit)
        return Shown(visit_view(done.visit, self.house.clock.at))

    def do(self, visit: str, card: dict[str, Any], shown: dict[str, Any], model: str = "Sedge") -> Mapping[str, Any]:
        """Do what a card asks, the plain way; return the view after it."""
        act = card["act"]
        if not act:
            body = {"kind": "answered", "question": card["id"], "answer": "fine", "facts": card["facts"]}
            return self.say(visit, body)
        if act == "choose_facepiece":
            self.choose(visit, model)
            return self.shown(visit)
        if act == "seal_check":
            for one in shown["seal_checks"]:
                if one["held_s"]:
                    self.say(visit, {"kind": "seal_hold_begun", "check": one["check"]})
                    self.house.clock.pass_by(one["held_s"])
                body = {"kind": "seal_checked", "check": one["check"], "wearer": "holds", "tester": "holds"}
                shown = self.say(visit, body)
            return shown
        if act == "put_back":
            for alteration in shown["alterations"]:
                shown = self.say(visit, {"kind": "alteration_undone", "alteration": alteration["id"]})
            return shown
        if act in ("sign_wearer", "sign_tester"):
            self.sign(visit, act.removeprefix("sign_"))
            return self.shown(visit)
        if act == "screen":
            return self.screen(visit)
        if act == "proof" and self.method != "ambient_count":
            return self.say(visit, {"kind": "proof_sensed", "run_id": shown["tries"][-1]["run_id"], "sensed": True})
        simple: dict[str, dict[str, Any]] = {
            "choose_task": {"kind": "choose_task", "task_id": (self.task or self.house.ours.task)},
            "fit_probe": {"kind": "fit_probe"},
            "choose_method": {"kind": "choose_method", "method": self.method},
            "don": {"kind": "donned", "unaided": True},
            "doff": {"kind": "doffed", "why": "done"},
            "release": {"kind": "released"},
            "proof": {
                "kind": "proof_given",
                "run_id": (shown["tries"] or [{}])[-1].get("run_id"),
                "rose": True,
                "seen": "5000",
            },
        }
        return self.say(visit, simple[act])

    def stock(self, agent: str) -> dict[tuple[str, str], str]:
        """Enter lots and nebulisers for an agent, fill and check them; return their ids by agent and role."""
        today, ours = self.house.clock.at.date(), self.house.ours.employer
        for one in self.get("/api/recipes"):
            if one["agent"] != agent or one["role"] == "stock":
                continue
            lot = {
                "employer_id": ours,
                "agent": agent,
                "role": one["role"],
                "number": f"{agent}-{one['role']}-{self.house.mark}",
                "made_on": today.isoformat(),
                "use_by": (today + timedelta(days=1)).isoformat(),
                "made_by": "Maren Oake",
            }
            made = self.post("/api/lots", lot)["id"]
            self.kit[(agent, one["role"])] = made
            if one["role"] in ("threshold", "fit"):
                entry = {"employer_id": ours, "name": f"{agent} {one['role']}", "role": one["role"]}
                nebuliser = self.post("/api/nebulisers", entry)["id"]
                self.post(f"/api/nebulisers/{nebuliser}/fillings", {"lot_id": made})
                self.house.clock.pass_by(2)
                self.call("POST", f"/api/nebulisers/{nebuliser}/checks")
                self.kit[(agent, one["role"])] = nebuliser
        return self.kit

    def screen(self, visit: str, squeezes: int = 3) -> Mapping[str, Any]:
        """Screen a person, who senses it; return the view."""
        plan = self.shown(visit)["screening"]
        name = new_id()
        held = self.kit[(plan["agent"], plan["role"])] if plan["role"] else None
        lots = [self.kit[(plan["agent"], role)] for role in plan["lots"]]
        body = {"kind": "start_screening", "screening_id": name, "nebuliser_id": held, "lot_ids": lots}
        shown = self.say(visit, body)
        if plan["by"] == "jars":
            return self.say(
                visit,
                {"kind": "screened", "screening_id": name, "answer": shown["screening"]["odour_jar"]},
            )
        for _ in range(squeezes if plan["sets"] else 0):
            self.say(visit, {"kind": "squeezed", "screening_id": name}, 1, expects=None)
        return self.say(visit, {"kind": "detected", "about": name, "by": "tester"}, expects=None)

    def sense(self, visit: str) -> str:
        """Start a qualitative run and return its id."""
        plan, run_id = self.get(f"/api/visits/{visit}")["visit"]["test_plan"], new_id()
        held = self.kit[(plan["agent"], plan["role"])] if plan["role"] else None
        lots = [self.kit[(plan["agent"], role)] for role in plan["lots"]]
        body = {"kind": "start_qualitative", "run_id": run_id, "nebuliser_id": held, "lot_ids": lots, "bends": True}
        self.say(visit, body)
        return run_id

    def notice(self, visit: str, body: dict[str, Any], seconds: float = 1) -> Mapping[str, Any]:
        """Say what was observed, which is always accepted."""
        return self.say(visit, body, seconds, expects=None)

    def to_the_end(self, visit: str, skip: int | None = None) -> str:
        """Run a qualitative test to its end without detection; return the run's id."""
        run_id = self.sense(visit)
        if self.get(f"/api/visits/{visit}")["visit"]["run"]["sensing"]["first_dose"]:
            self.notice(visit, {"kind": "dose_given", "run_id": run_id}, 20)
        run = self.get(f"/api/visits/{visit}")["visit"]["run"]
        t0 = datetime.fromisoformat(run["t0"])
        for number, dose in enumerate(run["sensing"]["doses"], start=1):
            self.house.clock.at = t0 + timedelta(milliseconds=dose["due_ms"])
            if number != skip:
                self.notice(visit, {"kind": "dose_given", "run_id": run_id}, 0.5)
        self.house.clock.at = datetime.fromisoformat(run["ends_at"])
        self.notice(visit, {"kind": "qualitative_ended", "run_id": run_id, "longest_gap_ms": 200})
        return run_id

    def choose(self, visit: str, model: str = "Sedge", size: str | None = None) -> Mapping[str, Any]:
        """Choose a facepiece with its first set-up."""
        piece = self.house.facepiece(model)
        first = {key: (piece[key][0] if piece[key] else "") for key in ("suspensions", "clips", "filter_classes")}
        return self.say(
            visit,
            {
                "kind": "choose_facepiece",
                "version_id": piece["version_id"],
                "size": size or piece["sizes"][0]["name"],
                "suspension": first["suspensions"],
                "clip": first["clips"],
                "filter_class": first["filter_classes"],
                "is_own": False,
                "ppe": [],
            },
        )

    def sign(self, visit: str, role: str, **more: Any) -> dict[str, Any]:
        """Sign as wearer or tester."""
        if self.walk is not None:
            self.walk.commit()
        shown = self.get(f"/api/visits/{visit}")
        seq, name = shown["visit"]["seq"], shown["person"] if role == "wearer" else self.get("/api/session")["name"]
        body = {"id": new_id(), "expects": seq, "role": role, "typed_name": name, "password": PASSWORD, **more}
        signed: dict[str, Any] = self.post(f"/api/visits/{visit}/signatures", body)["visit"]
        return signed

    def start(self, visit: str, source: str = "counter") -> str:
        """Start a run on our counter and return its id."""
        run_id = new_id()
        body = {
            "kind": "start_run",
            "run_id": run_id,
            "instrument_id": self.house.ours.counter,
            "source": source,
        }
        self.say(visit, body)
        return run_id

    def type_numbers(
        self, visit: str, run_id: str, inside: tuple[str, ...], outside: str = "5300"
    ) -> Mapping[str, Any]:
        """Type the figures of a run once its protocol is over."""
        rows = [{"outside": outside, "inside": one, "factor": None} for one in inside]
        body = {"kind": "numbers_typed", "run_id": run_id, "resolution": "1", "exercises": rows}
        return self.say(visit, body, 160)

    def whole_visit(
        self, person: str | None = None, inside: tuple[str, ...] = GOOD, over_http: bool = False, **more: Any
    ) -> str:
        """Walk a visit to its release with typed numbers; return its id."""
        self.check_counter()
        visit = self.open(person, **more)
        self.until(visit, "run", over_http=over_http)
        self.type_numbers(visit, self.start(visit, "typed"), inside)
        if self.get(f"/api/visits/{visit}")["visit"]["offers"]:
            self.say(visit, {"kind": "decided", "next": "end"})
        self.until(visit, "release", over_http=over_http)
        self.say(visit, {"kind": "released"})
        return visit
