"""A bench without a database: proposals go through admit and step, time is the bench's own."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any

from moorfog.core import events as ev
from moorfog.core.admit import Refusal, admit
from moorfog.core.fold import step
from moorfog.core.picture import Card, Picture, picture
from moorfog.core.readings import Reading, Reduction, seal_digest
from moorfog.core.rules import Rules
from moorfog.core.simulation import SimulatedAir, SimulatedWearer
from moorfog.core.visit import Visit, loops_needed

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
    }
    return ev.Facepiece(**{**plain, **changes})


def counter(**changes: Any) -> ev.Instrument:
    """A counter with its three checks passed on the day."""
    day = changes.pop("day", "2026-03-02")
    checks = tuple(ev.DailyCheck(name, "1", "1", True, day) for name in ("particle", "zero", "max_fit_factor"))  # type: ignore[arg-type]
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
    plain: dict[str, Any] = {"id": "t-1", "name": "hull sanding", "contaminants": (dust,), "work_filter": "100-type"}
    return ev.Task(**{**plain, **changes})


class Refused(Exception):
    """The core refused a proposal."""

    def __init__(self, refusal: Refusal) -> None:
        super().__init__(f"{refusal.code}: {refusal.sentence}")
        self.refusal = refusal


class Bench:
    """One visit at a bench."""

    def __init__(self, rules: Rules, **opening: Any) -> None:
        self.rules, self.at, self.log = rules, START, []
        self.log: list[ev.Event] = []
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
        }
        self.say(ev.VisitOpened(**{**plain, **opening}), 0)
        self.runs = 0

    def event(self, payload: ev.Payload, at: datetime | None = None) -> ev.Event:
        """Write the next event of the log without asking anybody."""
        when = at or self.at
        seq = len(self.log) + 1
        previous = self.log[-1].chain if self.log else ""
        chain = ev.link_of_chain(previous, f"id-{seq}", seq, 1, when, "t", ev.encode(payload))
        made = ev.Event(f"id-{seq}", seq, 1, when, when, "t", payload, chain)
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
    def picture(self) -> Picture:
        return picture(self.visit, self.at)

    def answer(self, card: Card | str, answer: str = "fine", **more: Any) -> Visit:
        if isinstance(card, str):
            item = self.rules.procedure.find(card)
            assert item is not None
            from moorfog.core.visit import facts_digest

            return self.say(ev.Answered(card, answer, facts_digest(self.visit, item), **more))  # type: ignore[arg-type]
        return self.say(ev.Answered(card.id, answer, card.facts, **more))  # type: ignore[arg-type]

    def until(self, act: str, piece: ev.Facepiece | None = None, only: str | None = None) -> None:
        """Answer fine and do what is needed until ``act`` (or the question ``only``) is next."""
        for _ in range(250):
            shown = self.picture
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
            "choose_task": ev.TaskChosen(task()),
            "choose_facepiece": ev.FacepieceChosen(piece or facepiece()),
            "fit_probe": ev.ProbeFitted(loops_needed(self.visit)),
            "don": ev.Donned(True),
            "doff": ev.Doffed("done"),
            "release": ev.Released(),
            "sign_wearer": ev.Signed("wearer", "0" * 64, self.visit.seq),
            "sign_tester": ev.Signed("tester", "0" * 64, self.visit.seq),
        }
        if act == "seal_check":
            for one in self.picture.seal_checks:
                self.say(ev.SealChecked(one.check, "holds", "holds"))  # type: ignore[arg-type]
        elif act == "put_back":
            for loop in self.picture.loops:
                self.say(ev.LoopClosed(loop.id))
        elif act == "proof":
            self.say(ev.ProofGiven(self.visit.tries[-1].started.run_id, True))
        else:
            self.say(simple[act])

    def start(self, source: str = "counter", **changes: Any) -> str:
        """Start a run and return its id."""
        self.runs += 1
        piece = self.visit.facepiece
        assert piece is not None
        protocol = next(one for one in self.rules.protocols if piece.kind in one.kinds)
        level = self.rules.book.ratio(ev.level_key(piece.kind))
        plain: dict[str, Any] = {
            "run_id": f"run-{self.runs}",
            "source": source,
            "method": "fast_count",
            "protocol_id": protocol.id,
            "mode": "ordinary",
            "level": str(level),
            "count_in_ms": 5000,
            "instrument": counter(day=self.at.date().isoformat()),
        }
        self.say(ev.RunStarted(**{**plain, **changes}))
        return f"run-{self.runs}"

    def run(
        self,
        factors: tuple[int, ...] = GOOD,
        end: str = "complete",
        readings: list[Reading] | None = None,
        seed: int = 1,
        ambient: float = 5300.0,
    ) -> None:
        """Start a counter run and seal it with simulated readings."""
        run_id = self.start()
        protocol = self.rules.protocol(self.visit.tries[-1].started.protocol_id)
        assert protocol is not None
        given = readings if readings is not None else simulate(protocol, factors, seed, ambient)
        reduction = Reduction(protocol, int(self.rules.book.number("missing.maximum")))
        for one in given:
            reduction.feed(one)
        windows, deviations = reduction.sealed(end)
        self.at = self.visit.tries[-1].t0 + timedelta(milliseconds=given[-1].t if given else 0)
        self.say(
            ev.RunClosed(run_id, end, 0, max(len(given) - 1, 0), len(given), seal_digest(given), windows, deviations), 0
        )  # type: ignore[arg-type]


def simulate(
    protocol: Any, factors: tuple[int, ...], seed: int = 1, ambient: float = 5300.0, step_ms: int = 250
) -> list[Reading]:
    """Readings of a whole run of a seeded wearer, from t0 on."""
    wearer, air = SimulatedWearer(seed, factors, protocol.starts_ms()), SimulatedAir(seed, ambient, 1667)
    windows, out = protocol.windows(), []
    for t in range(step_ms, protocol.total_s * 1000 + step_ms, step_ms):
        valve = next(w.valve for w in windows if w.start_ms <= t - step_ms < w.end_ms)
        counts, volume = air.next_counts(t, step_ms, valve == "IN", wearer, t)
        out.append(Reading(t, step_ms, counts, volume, valve[0]))
    return out
