"""Walks a visit through by the same operations the screens use, with a clock of its own."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.events import payloads as ev
from moorfog.core.measuring.readings import chunk_of, seal_digest
from moorfog.core.rules.book import Protocol, Rules
from moorfog.core.simulation.wearer import SimulatedWearer, simulate
from moorfog.core.transitions.bound import mark_of
from moorfog.core.views.visit_view import Card, VisitView, visit_view
from moorfog.core.visit.state import Visit
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import FixedClock
from moorfog.platform.db.scope import Scope
from moorfog.platform.log.log import keep_state
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.routing import Linked
from moorfog.rooms.bench import runs, signing, visits
from moorfog.rooms.bench.proposals import (
    Body,
    ChooseFacepiece,
    ChooseMethod,
    ChooseTask,
    FitProbe,
    Proposal,
    StartQualitative,
    StartRun,
    StartScreening,
)
from moorfog.rooms.bench.readings import Sealed, store_chunks
from moorfog.rooms.kit.instruments import find_instrument
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.tables import SiteTask


class Walk:
    """One visit on its way. ``at`` is the walk's own time and moves on with every step."""

    def __init__(
        self,
        db: Session,
        actor: Actor,
        rules: Rules,
        person_id: str,
        bench: str,
        at: datetime,
        instrument_id: str,
        **opening: Any,
    ) -> None:
        self.db, self.actor, self.rules, self.instrument_id = db, actor, rules, instrument_id
        self.method: Any = "ambient_count"
        self.kit: Mapping[tuple[str, str], str] = {}
        self.clock = FixedClock(at)
        self.visit_id = new_id()
        opened = visits.open_visit(
            db,
            self.clock,
            actor,
            visit_id=self.visit_id,
            event_id=new_id(),
            person_id=person_id,
            bench=bench,
            **{"origin": "demo", **opening},
        )
        self.visit: Visit = opened.visit
        self.run_id = ""

    @property
    def view(self) -> VisitView:
        """The visit at the walk's moment."""
        return visit_view(self.visit, self.clock.at)

    def wait(self, seconds: float) -> None:
        """Let time go by."""
        self.clock.at += timedelta(seconds=seconds)

    def say(self, body: Body, seconds: float = 4) -> Visit:
        """Propose ``body`` after ``seconds``. Raises what the operation raises."""
        self.wait(seconds)
        proposal = Proposal(
            id=new_id(),
            expects=self.visit.seq,
            occurred_at=self.clock.at,
            visit_id=self.visit_id,
            person_id=self.visit.person_id,
            mark=mark_of(self.visit_id, self.visit),
            body=body,
        )
        self.visit = visits.propose(self.db, self.clock, self.actor, self.visit_id, proposal, runs.start_run).visit
        keep_state(self.visit_id, self.visit)
        return self.visit

    def answer(self, card: Card, answer: str = "fine", minutes_ago: int | None = None) -> None:
        """Answer a card."""
        self.say(ev.Answered(card.id, "fine" if answer == "fine" else "not_fine", card.facts, minutes_ago))

    def choose(self, option: dict[str, Any], size: str, ppe: tuple[str, ...] = ()) -> None:
        """Choose a facepiece from the catalogue's content, with its first set-up."""
        first = {key: (option[key][0] if option[key] else "") for key in ("suspensions", "clips", "filter_classes")}
        self.say(
            ChooseFacepiece(
                version_id=option["version_id"],
                size=size,
                suspension=first["suspensions"],
                clip=first["clips"],
                filter_class=first["filter_classes"],
                is_own=False,
                ppe=ppe,
            )
        )

    def until(self, act: str, not_fine: frozenset[str] = frozenset()) -> None:
        """Answer what comes, doing the acts on the way, until ``act`` is next; ids in ``not_fine`` are answered so."""
        for _ in range(200):
            shown = self.view
            if not shown.queue:
                if shown.changes_at is None:
                    raise RuntimeError(f"stuck before {act}: {shown.verdict} {shown.between} {shown.offers}")
                self.clock.at = datetime.fromisoformat(shown.changes_at)
                continue
            card = shown.queue[0]
            if card.act == act:
                return
            if card.act:
                self.do(card.act)
            else:
                self.answer(card, "not_fine" if card.id in not_fine else "fine")
                if card.id in not_fine and card.gravity != "note":
                    return
        raise RuntimeError(f"{act} never came up")

    def do(self, act: str) -> None:
        """Do an act that needs no choice."""
        if act == "choose_task":
            self.say(ChooseTask(self._usual_task()), 6)
        elif act == "fit_probe":
            self.say(FitProbe(), 30)
        elif act == "don":
            self.say(ev.Donned(unaided=True), 20)
        elif act == "seal_check":
            for one in self.view.seal_checks:
                if one.result != "holds":
                    if one.held_s:
                        self.say(ev.SealHoldBegun("positive" if one.check == "positive" else "negative"), 4)
                        self.wait(one.held_s)
                    self.say(
                        ev.SealChecked("positive" if one.check == "positive" else "negative", "holds", "holds"), 12
                    )
        elif act == "doff":
            self.say(ev.Doffed("done"))
        elif act == "put_back":
            for alteration in self.view.alterations:
                self.say(ev.AlterationUndone(alteration.id), 10)
        elif act == "choose_method":
            self.say(ChooseMethod(self.method), 6)
        elif act == "screen":
            self.screen()
        elif act == "proof":
            counted = self.visit.tries[-1].counted is not None
            self.say(ev.ProofGiven(self.run_id, True, "900") if counted else ev.ProofSensed(self.run_id, True))
        elif act in ("sign_wearer", "sign_tester"):
            self.sign("wearer" if act == "sign_wearer" else "tester")
        elif act == "release":
            self.say(ev.Released())
        else:
            raise RuntimeError(f"{act} needs a choice")

    def _held(self, role: str, lots: tuple[str, ...]) -> tuple[str | None, tuple[str, ...]]:
        return self.kit[(self.method, role)] if role else None, tuple(self.kit[(self.method, one)] for one in lots)

    def screen(self, squeezes: int = 14) -> None:
        """Screen: taste it after ``squeezes``, name the odour jar, or react to the whiff."""
        protocol = self.visit.protocol_for(self.method)
        if protocol is None or protocol.screening is None:
            raise RuntimeError("no screening")
        plan, name = protocol.screening, new_id()
        self.say(StartScreening(name, *self._held(plan.role, plan.lots)), 20)
        if plan.by == "jars":
            started = self.visit.screenings[-1].started
            self.say(ev.Screened(name, "left" if started.odour_jar == "left" else "right"), 25)
            return
        for _ in range(squeezes if plan.sets else 0):
            self.say(ev.Squeezed(name), 1.2)
        self.say(ev.Detected(name, "tester"), 1)

    def sense(self, tasted_at_s: int | None = None, skip: int | None = None) -> None:
        """Run a qualitative test: to its end, tasted by the wearer at a second from t0, or with a dose left out."""
        protocol = self.visit.protocol_for(self.method)
        if protocol is None or protocol.dosing is None:
            raise RuntimeError("no qualitative protocol")
        self.run_id = new_id()
        self.say(StartQualitative(self.run_id, *self._held(protocol.dosing.role, protocol.dosing.lots), bends=True))
        if protocol.dosing.begins == "first_dose":
            self.say(ev.DoseGiven(self.run_id), 20)
        one = self.visit.tries[-1]
        if one.t0 is None or one.sensed is None:
            raise RuntimeError("no first dose")
        end_s = protocol.total_s + 2 if tasted_at_s is None else tasted_at_s
        for number, slot in enumerate(protocol.slots(one.sensed.threshold), start=1):
            if number != skip and slot.at_ms < end_s * 1000:
                self._at(one.t0 + timedelta(milliseconds=slot.at_ms + 600), ev.DoseGiven(self.run_id))
        last: Body = ev.QualitativeEnded(self.run_id, 250)
        if tasted_at_s is not None:
            last = ev.Detected(self.run_id, "wearer")
        self._at(one.t0 + timedelta(seconds=end_s), last)

    def _at(self, at: datetime, body: Body) -> None:
        self.clock.at = at
        self.say(body, 0)

    def _usual_task(self) -> str:
        person = self.db.get(Person, self.visit.person_id)
        if person is None:
            raise RuntimeError("no such person")
        tasks = select(SiteTask).where(SiteTask.site_id == person.site_id, SiteTask.is_current.is_(True))
        rows = self.db.scalars(tasks.order_by(SiteTask.name)).all()
        return next((one.id for one in rows if one.name == person.task), rows[0].id)

    def sign(self, role: Any) -> None:
        """Sign as wearer or tester."""
        self.wait(8)
        person = self.db.get(Person, self.visit.person_id)
        name = person.name if role == "wearer" and person is not None else self.actor.name
        done = signing.sign(
            self.db,
            self.clock,
            self.actor,
            self.visit_id,
            event_id=new_id(),
            expects=self.visit.seq,
            role=role,
            typed_name=name,
            password=None,
            occurred_at=self.clock.at,
        )
        self.visit = done.visit
        keep_state(self.visit_id, self.visit)

    def start(self, source: Any, protocol_id: str = "") -> Protocol:
        """Start a run and return its protocol."""
        self.run_id = new_id()
        self.say(StartRun(self.run_id, self.instrument_id, source, protocol_id))
        protocol = self.rules.protocol(self.visit.tries[-1].started.protocol_id)
        if protocol is None:
            raise RuntimeError("no protocol")
        return protocol

    def run_counter(
        self,
        factors: tuple[int, ...] | None = None,
        seed: int = 1,
        end: ev.RunEnd = "complete",
        stop_ms: int | None = None,
        ambient: float | None = None,
        protocol_id: str = "",
    ) -> None:
        """Run on the instrument: simulated readings are stored and sealed as the link does it."""
        protocol = self.start("counter", protocol_id)
        row = find_instrument(self.db, Scope(None), self.instrument_id)
        if factors is None:
            factors = tuple(runs.simulated_wearer(self.db, self.visit, protocol)["factors"])
        exercises = len(protocol.exercises())
        factors = factors[:exercises] if len(factors) >= exercises else (factors[0],) * exercises
        wearer = SimulatedWearer(seed, factors, protocol.starts_ms())
        readings = [one for one in simulate(protocol, wearer, ambient) if stop_ms is None or one.t <= stop_ms]
        self.wait(5 + (readings[-1].t / 1000 if readings else 0))
        chunk = chunk_of(0, readings)
        linked = Linked(row.id, row.name)
        store_chunks(self.db, linked, self.run_id, (chunk,))
        self.visit = runs.close_run(
            self.db,
            self.clock,
            linked,
            self.run_id,
            Sealed(end, len(readings), seal_digest(readings), self.clock.at),
        )
        keep_state(self.visit_id, self.visit)

    def run_typed(self, outside: str, inside: tuple[str, ...]) -> None:
        """Run with the counter's display and type its numbers."""
        protocol = self.start("typed")
        rows = tuple(ev.TypedExercise(outside, one) for one in inside)
        counted = self.visit.tries[-1].counted
        step = counted.instrument.resolution if counted is not None else ""
        self.say(ev.NumbersTyped(self.run_id, step, rows), 5 + protocol.total_s + 12)
