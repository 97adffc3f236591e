"""A bench without a database: proposals go through admit and step, time is the bench's own."""

from __future__ import annotations

import copy
from datetime import UTC, datetime, timedelta
from typing import Any

from moorfog.core.advice.methods import QUALITATIVE
from moorfog.core.events import payloads as ev
from moorfog.core.events.chain import VERSIONS, link_of_chain
from moorfog.core.kernel.arithmetic import exact_text
from moorfog.core.measuring.readings import Chunk, Reading, chunk_of, seal_digest
from moorfog.core.measuring.reduction import reduce_run
from moorfog.core.rules.book import Rules
from moorfog.core.rules.protocols import Protocol
from moorfog.core.simulation.wearer import SimulatedWearer, simulate_stream
from moorfog.core.simulation.wearer import simulate as simulate_run
from moorfog.core.transitions.admit import Refusal, admit
from moorfog.core.transitions.fold import step
from moorfog.core.transitions.on_the_face import must_be_held_s
from moorfog.core.views.visit_view import Card, VisitView, visit_view
from moorfog.core.visit.proof import followed, is_read_by_link, least_risen, proof_stream, text_of
from moorfog.core.visit.state import Visit, alterations_needed
from moorfog.data import facepiece_kinds

START = datetime(2026, 3, 2, 9, 0, tzinfo=UTC)
GOOD = (2600, 1500, 900, 1900)
BAD_FACTORS = (40, 30, 20, 35)


def facepiece(**changes: Any) -> ev.Facepiece:
    """A half facepiece with thumbs-closed particulate filters."""
    plain: dict[str, Any] = {
        "model_id": "m-half",
        "version_id": "v-half",
        "maker": "Tindle & Wray",
        "model": "Sedge",
        "kind": "half",
        "size": "M",
        "valve": True,
        "filter_kind": "particulate",
        "filter_class": "100-type",
        "cover": "thumbs",
        "suspension": "fixed",
        "clip": "",
        "probe": "valve_seat",
        "test_filters": False,
        "is_own": False,
        "ppe": (),
        "work": (),
    }
    given = {**plain, **changes}
    return ev.Facepiece(**{"traits": kind_of(given["kind"]), **given})


def broken_seal(protocol: Protocol, fault: str = "", seal: int = 10**9, last_ms: int = 22_000) -> list[Reading]:
    """What a link reads inside after a run: air from outside leaves the tube, a tight seal, broken after 14 s."""
    wearer = SimulatedWearer(3, (seal, 2), (0, 14_000), fault)
    return simulate_stream(protocol.family, wearer, lambda _: True, last_ms)


def kind_of(name: str) -> ev.Kind:
    """A kind as the package's file has it; one that is not there has no pass level."""
    return facepiece_kinds().get(name) or ev.Kind(name, name, "half", "purifying", "", "", ())


CLEARED = ev.Clearance("cleared", (), "2026-01-01", "", "Harbour Row practice")


def counter(**changes: Any) -> ev.Instrument:
    """A counter with its three checks passed on the day."""
    day = changes.pop("day", "2026-03-02")
    values = {"room_air": "5300", "clean_air": "0.02", "clean_line_ratio": "48000"}
    limits = {"clean_air": "0.1"}
    checks = tuple(ev.DailyCheck(name, one, limits.get(name, "1"), True, day) for name, one in values.items())
    plain: dict[str, Any] = {
        "id": "c",
        "name": "Counter 04",
        "serial_number": "1",
        "counted_flow": "100",
        "resolution": "1",
        "ambient_minimum": "1000",
        "ambient_maximum": "20000",
        "calibrated_until": "2026-12-31",
        "used_on": day,
        "checks": checks,
    }
    return ev.Instrument(**{**plain, **changes})


def task(**changes: Any) -> ev.Task:
    """Hull sanding: twice the limit of dust, which a half facepiece covers."""
    dust = ev.Contaminant("dust", "particles", "10", "5", "mg/m³")
    plain: dict[str, Any] = {"id": "t-1", "name": "hull sanding", "contaminants": (dust,), "work_filter": "95-type"}
    plain["oxygen_percent"] = "20.9"
    return ev.Task(**{**plain, **changes})


class Refused(Exception):
    """The core refused a proposal."""

    def __init__(self, refusal: Refusal) -> None:
        super().__init__(f"{refusal.code}: {refusal.sentence}")
        self.refusal = refusal


class Bench:
    """One visit at a bench."""

    def __init__(self, rules: Rules, at: datetime = START, ids: str = "id", **opening: Any) -> None:
        self.rules, self.at, self.ids = rules, at, ids
        self.log: list[ev.Event] = []
        self.streams: dict[str, list[Chunk]] = {}
        self.visit = Visit(rules)
        plain = {
            "person_id": "p",
            "employer_id": "e",
            "site_id": "s",
            "zone": "America/New_York",
            "bench": "A",
            "is_practice": False,
            "speed": 1,
            "rules_digest": rules.digest,
            "opened_on": at.date().isoformat(),
            "clearance": CLEARED,
            "trained_on": "2026-02-01",
            "visit_id": "v",
        }
        self.method = opening.pop("method", "ambient_count")
        self.task = task()
        self.say(ev.VisitOpened(**{**plain, **opening}), 0)
        self.runs = 0

    def copied(self) -> Bench:
        """The same visit as it stands, to go on with without touching this one."""
        made = copy.copy(self)
        made.log, made.streams = list(self.log), dict(self.streams)
        return made

    def event(self, payload: ev.Payload, at: datetime | None = None) -> ev.Event:
        """Write the next event of the log without asking anybody."""
        when = at or self.at
        seq = len(self.log) + 1
        previous = self.log[-1].chain if self.log else ""
        version = VERSIONS[payload.kind]
        name = f"{self.ids}-{seq}"
        chain = link_of_chain(previous, name, seq, version, when, "t", ev.encode(payload))
        made = ev.Event(name, seq, version, when, when, "t", payload, chain)
        self.log.append(made)
        return made

    def say(self, payload: ev.Payload, seconds: float = 4) -> Visit:
        """Propose; raises :class:`Refused` and changes nothing if the core says no."""
        self.at += timedelta(seconds=seconds)
        refusal = admit(self.visit, payload, self.at, self.at)
        if refusal is not None:
            raise Refused(refusal)
        self.visit = step(self.visit, self.event(payload))
        return self.visit

    @property
    def view(self) -> VisitView:
        return visit_view(self.visit, self.at)

    def answer(self, card: Card | str, answer: str = "fine", **more: Any) -> Visit:
        if isinstance(card, str):
            item = self.rules.procedure.find(card)
            assert item is not None
            from moorfog.core.visit.circumstances import facts_digest

            return self.say(ev.Answered(card, answer, facts_digest(self.visit, item), **more))  # type: ignore[arg-type]
        return self.say(ev.Answered(card.id, answer, card.facts, **more))  # type: ignore[arg-type]

    def until(self, act: str, piece: ev.Facepiece | None = None, only: str | None = None) -> None:
        """Answer fine and do what is needed until ``act`` (or the question ``only``) is next."""
        for _ in range(250):
            shown = self.view
            if not shown.queue:
                assert shown.changes_at, f"stuck before {act}: {shown.between} {shown.offers}"
                self.at = datetime.fromisoformat(shown.changes_at)
                continue
            card = shown.queue[0]
            if act in (card.act, card.id):
                return
            if card.act:
                self.do(card.act, piece)
            else:
                self.answer(card)
        raise AssertionError(f"{act} never came up")

    def do(self, act: str, piece: ev.Facepiece | None = None) -> None:
        """Do an act of the procedure the plain way."""
        simple: dict[str, ev.Payload] = {
            "choose_task": ev.TaskChosen(self.task),
            "choose_facepiece": ev.FacepieceChosen(piece or facepiece()),
            "choose_method": ev.MethodChosen(self.method),
            "fit_probe": ev.ProbeFitted(alterations_needed(self.visit), ()),
            "don": ev.Donned(True),
            "doff": ev.Doffed("done"),
            "release": ev.Released(),
            "mistaken": ev.OpenedByMistake(),
            "sign_wearer": ev.Signed("wearer", "0" * 64, self.visit.seq),
            "sign_tester": ev.Signed("tester", "0" * 64, self.visit.seq),
        }
        if act == "seal_check":
            for one in self.view.seal_checks:
                self.check_seal(one.check)
        elif act == "put_back":
            for alteration in self.view.alterations:
                self.say(ev.AlterationUndone(alteration.id))
        elif act == "proof":
            one = self.visit.tries[-1]
            if one.sensed is not None:
                self.say(ev.ProofSensed(one.started.run_id, True))
            elif is_read_by_link(one):
                self.prove()
            else:
                self.say(ev.ProofGiven(one.started.run_id, True, "5000"))
        elif act == "screen":
            self.screen()
        else:
            self.say(simple[act])

    def check_seal(self, check: str, wearer: str = "holds", place: str = "") -> None:
        """Do one user seal check, held for as long as it is held."""
        if must_be_held_s(self.visit, check):
            self.say(ev.SealHoldBegun(check))  # type: ignore[arg-type]
            self.at += timedelta(seconds=float(self.rules.book.ratio("seal_check.hold") or 10) - 2)
        self.say(ev.SealChecked(check, wearer, wearer, place))  # type: ignore[arg-type]

    def prove(self, readings: list[Reading] | None = None, wait: float = 4, end: str = "complete") -> None:
        """Enter what a link read while the seal was broken on purpose."""
        one = self.visit.tries[-1]
        protocol = self.rules.protocol(one.started.protocol_id)
        stream = proof_stream(protocol, self.rules.book, least_risen(self.visit, one))
        assert protocol is not None and stream is not None
        given = broken_seal(protocol) if readings is None else readings
        followed(stream, given)
        name = f"proof-{one.started.run_id}"
        self.streams[name] = [chunk_of(0, given)] if given else []
        self.at += timedelta(seconds=wait, milliseconds=given[-1].t if given else 0)
        bound = (name, end, len(given), seal_digest(given), text_of(stream.low), text_of(stream.high))
        payload = ev.ProofMeasured(one.started.run_id, *bound)  # type: ignore[arg-type]
        self.visit = step(self.visit, self.event(payload))

    def start(self, source: str = "counter", **changes: Any) -> str:
        """Start a run and return its id."""
        self.runs += 1
        piece = self.visit.facepiece
        assert piece is not None
        method = "ambient_count" if self.method in QUALITATIVE else self.method
        wanted = changes.get("protocol_id", "")
        protocol = self.rules.protocol(wanted) or self.rules.protocol_for(method, piece.kind)
        assert protocol is not None
        kind = protocol.family if protocol.family in ("photometer", "pressure") else "counter"
        level = self.rules.book.ratio(piece.level_key)
        plain: dict[str, Any] = {
            "run_id": f"run-{self.runs}",
            "source": source,
            "method": protocol.family,
            "protocol_id": protocol.id,
            "mode": "ordinary" if kind == "counter" else kind,
            "level": exact_text(level) if level is not None else "",
            "count_in_ms": 5000,
            "instrument": counter(
                day=self.at.date().isoformat(), kind=kind, resolution="1" if kind == "counter" else "0.001"
            ),
        }
        self.say(ev.RunStarted(**{**plain, **changes}))
        return f"run-{self.runs}"

    def run(
        self,
        factors: tuple[int, ...] = GOOD,
        end: str = "complete",
        readings: list[Reading] | None = None,
        seed: int = 1,
        ambient: float | None = None,
        **changes: Any,
    ) -> None:
        """Start a run read from an instrument and seal it with simulated readings."""
        run_id = self.start(**changes)
        protocol = self.rules.protocol(self.visit.tries[-1].started.protocol_id)
        assert protocol is not None
        if len(factors) != len(protocol.exercises()):
            factors = (factors[0],) * len(protocol.exercises())
        self.seal(run_id, readings if readings is not None else simulate(protocol, factors, seed, ambient), end)

    def seal(self, run_id: str, given: list[Reading], end: str = "complete") -> None:
        """Seal the run that goes on with readings."""
        protocol = self.rules.protocol(self.visit.tries[-1].started.protocol_id)
        assert protocol is not None
        counted = self.visit.tries[-1].counted
        assert counted is not None
        found = reduce_run(protocol, self.rules.book, given, end, counted.instrument)  # type: ignore[arg-type]
        self.at = self.visit.tries[-1].t0 + timedelta(milliseconds=given[-1].t if given else 0)
        self.say(
            ev.RunClosed(
                run_id,
                end,  # type: ignore[arg-type]
                0,
                max(len(given) - 1, 0),
                len(given),
                seal_digest(given),
                found.windows,
                found.deviations,
                found.signals,
                found.holds,
            ),
            0,
        )

    def screen(self, squeezes: int = 14, detect: bool = True) -> None:
        """Screen: squeeze and taste, name the right jar, or react; or do not, where ``detect`` is false."""
        self.runs += 1
        protocol = self.visit.protocol_for(self.method)
        assert protocol is not None and protocol.screening is not None
        plan, name = protocol.screening, f"screening-{self.runs}"
        held = nebuliser(self.method, plan.role, self.at) if plan.role else None
        jar = "left" if plan.by == "jars" else ""
        lots = tuple(lot(self.method, role) for role in plan.lots)
        self.say(ev.ScreeningStarted(name, self.method, protocol.id, held, lots, day(self.at), jar))  # type: ignore[arg-type]
        if plan.by == "jars":
            self.say(ev.Screened(name, "left" if detect else "right"))
            return
        for _ in range((squeezes if detect else max(plan.sets)) if plan.sets else 0):
            self.say(ev.Squeezed(name), 1.2)
        self.say(ev.Detected(name, "tester") if detect else ev.Screened(name, "none"))

    def sense(self, bends: bool = True, **changes: Any) -> str:
        """Start a qualitative run and return its id; the first dose is not yet in."""
        self.runs += 1
        protocol = self.visit.protocol_for(self.method)
        assert protocol is not None and protocol.dosing is not None
        threshold = self.visit.screening.threshold if self.visit.screening else 0
        plain: dict[str, Any] = {
            "run_id": f"run-{self.runs}",
            "agent": self.method,
            "protocol_id": protocol.id,
            "threshold": threshold,
            "nebuliser": nebuliser(self.method, protocol.dosing.role, self.at) if protocol.dosing.role else None,
            "lots": tuple(lot(self.method, role) for role in protocol.dosing.lots),
            "used_on": day(self.at),
            "bends": bends,
        }
        self.say(ev.QualitativeStarted(**{**plain, **changes}))
        return f"run-{self.runs}"

    def note(self, payload: ev.Payload, ms_from_t0: int) -> Visit:
        """Say something at a moment of the run, in ms from t0."""
        t0 = self.visit.tries[-1].t0
        assert t0 is not None
        self.at = t0 + timedelta(milliseconds=ms_from_t0)
        return self.say(payload, 0)

    def smell(self, skip: int | None = None, until_ms: int | None = None, gap_ms: int = 300, late_ms: int = 400) -> str:
        """Run a whole qualitative run without detection; dose number ``skip`` is left out."""
        run_id = self.sense()
        protocol = self.rules.protocol(self.visit.tries[-1].started.protocol_id)
        assert protocol is not None and protocol.dosing is not None
        until_ms = protocol.total_s * 1000 if until_ms is None else until_ms
        if protocol.dosing.begins == "first_dose":
            self.say(ev.DoseGiven(run_id), 20)
        threshold = self.visit.tries[-1].sensed.threshold  # type: ignore[union-attr]
        for number, slot in enumerate(protocol.slots(threshold), start=1):
            if number != skip and slot.at_ms + late_ms < until_ms:
                self.note(ev.DoseGiven(run_id), slot.at_ms + late_ms)
        self.note(ev.QualitativeEnded(run_id, gap_ms), until_ms + 1500)
        return run_id


def day(at: datetime) -> str:
    """The date of a moment."""
    return at.date().isoformat()


def lot(of: str, role: str, **changes: Any) -> ev.Lot:
    """A lot in date."""
    plain = {
        "id": f"l-{role}",
        "agent": of,
        "role": role,
        "number": f"{of}-1",
        "made_on": "2026-03-01",
        "use_by": "2026-04-30",
        "made_by": "Maren Oake",
    }
    return ev.Lot(**{**plain, **changes})


def nebuliser(agent: str, role: str, at: datetime, **changes: Any) -> ev.Nebuliser:
    """A nebuliser filled an hour ago and seen to spray ten minutes later."""
    plain: dict[str, Any] = {
        "id": f"n-{role}",
        "name": "Nebuliser 1" if role == "threshold" else "Nebuliser 2",
        "role": role,
        "lot": lot(agent, role),
        "filled_at": ev.instant(at - timedelta(hours=1)),
        "checked_at": ev.instant(at - timedelta(minutes=50)),
    }
    return ev.Nebuliser(**{**plain, **changes})


def simulate(
    protocol: Protocol,
    factors: tuple[int, ...],
    seed: int = 1,
    ambient: float | None = None,
    step_ms: int = 250,
) -> list[Reading]:
    """Readings of a whole run of a seeded wearer, from t0 on."""
    return simulate_run(protocol, SimulatedWearer(seed, factors, protocol.starts_ms()), ambient, step_ms=step_ms)
