"""From arrival to sealed without a database: what each kind is asked, and random presses against clearance and task."""

from __future__ import annotations

import tomllib
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule

from moorfog.core.advice.protection import protection
from moorfog.core.events import payloads as ev
from moorfog.core.rules.book import Rules
from moorfog.core.views.visit_view import seal_remedy, starts_at, visit_view
from moorfog.core.visit.blocks import run_blocks
from moorfog.core.visit.outcomes import outcome
from moorfog.core.visit.seals import seal_holds
from moorfog.data import shipped_rules
from tests.core.bench import GOOD, Bench, Refused, facepiece, task

RULES = shipped_rules()
TABLE: dict[str, dict[str, list[str]]] = tomllib.loads(
    (Path(__file__).parents[1] / "data" / "asked.toml").read_text("utf-8")
)


def piece_of(kind: str) -> ev.Facepiece:
    disposable = kind.startswith("disposable")
    changes: dict[str, Any] = {"kind": kind, "cover": "front" if disposable else "thumbs"}
    if disposable:
        changes |= {"filter_kind": "media", "filter_class": "99-type", "probe": "through", "suspension": "two bands"}
    return facepiece(**changes)


@pytest.mark.parametrize("kind", TABLE)
def test_what_is_asked_of_each_kind_before_the_run(rules: Rules, kind: str) -> None:
    bench = Bench(rules)
    asked: list[str] = []
    piece = piece_of(kind)
    for _ in range(300):
        shown = bench.view
        if not shown.queue:
            bench.at = ev.parse_instant(shown.changes_at or "", "at")
            continue
        card = shown.queue[0]
        if card.act == "run":
            break
        asked.append(card.id)
        assert card.title and card.say and card.source and card.standing, card.id
        assert card.act or card.gravity == "note" or card.remedy, f"{card.id} offers no remedy"
        bench.do(card.act, piece) if card.act else bench.answer(card)
    assert set(TABLE[kind]["asked"]) <= set(asked), set(TABLE[kind]["asked"]) - set(asked)
    assert not set(TABLE[kind]["never"]) & set(asked)
    assert len(asked) == len(set(asked)), "nothing is asked twice when nothing changed"


PLACES = ("nose", "eyes", "cheek", "temple", "chin", "throat", "valve")


@pytest.mark.parametrize("kind", ["disposable_fold", "half", "full"])
@pytest.mark.parametrize("place", PLACES)
def test_every_leak_has_a_remedy_that_fits_the_kind(rules: Rules, kind: str, place: str) -> None:
    bench = Bench(rules)
    bench.until("seal_check", piece_of(kind))
    check = bench.view.seal_checks[0].check
    leak = ev.SealChecked(check, "leaks", "holds", place)  # type: ignore[arg-type]
    bench.say(leak)
    remedy = seal_remedy(bench.visit)
    assert remedy and not remedy.startswith("Reseat it, straps along"), "each place has words of its own"
    assert ("nose piece with two hands" in remedy.lower()) == (kind == "disposable_fold" and place in ("nose", "eyes"))
    bench.say(ev.Adjusted("strap"))
    bench.say(leak)
    assert "inspect" in seal_remedy(bench.visit)
    bench.say(ev.Adjusted("strap"))
    bench.say(replace(leak, place="cheek" if place != "cheek" else "chin"))
    assert "seal_limit" in [one.code for one in run_blocks(bench.visit, bench.at)]


CLEAR = ev.Clearance("cleared", (), "2026-01-01", "", "Harbour Row")


@pytest.mark.parametrize(
    ("limits", "kind", "allowed"),
    [
        ((), "full", True),
        (("no full facepiece",), "full", False),
        (("no full facepiece",), "half", True),
        (("no full facepiece",), "powered_full", False),
        (("no full facepiece",), "powered_half", True),
        (("powered only",), "half", False),
        (("powered only",), "disposable_cup", False),
        (("powered only",), "powered_full", True),
        (("no disposable",), "disposable_fold", False),
        (("no self-contained",), "scba_full", False),
        (("powered only",), "supplied_full", False),
        (("powered only",), "scba_full", False),
        (("no full facepiece",), "supplied_demand_full", False),
        (("no full facepiece",), "scba_full", False),
        (("no half facepiece",), "powered_half", False),
        (("no half facepiece",), "supplied_demand_half", False),
        (("nothing heavy",), "scba_demand_full", False),
        (("no breathing resistance",), "supplied_demand_half", False),
        (("no breathing resistance",), "powered_half", True),
        (("no half facepiece", "no full facepiece"), "half", False),
    ],
)
def test_the_limits_of_a_clearance(limits: tuple[str, ...], kind: str, allowed: bool) -> None:
    assert (replace(CLEAR, limits=limits).rules_out(piece_of(kind)) == "") is allowed


def test_the_bench_says_when_this_person_can_start(rules: Rules) -> None:
    bench = Bench(rules)
    bench.until("smoking")
    assert starts_at(bench.visit, bench.at) is None
    bench.answer("smoking", "not_fine", minutes_ago=5)
    first = starts_at(bench.visit, bench.at)
    assert first is not None and (first - bench.at).total_seconds() == pytest.approx(25 * 60, abs=1)
    bench.until("don")
    bench.do("don")
    assert starts_at(bench.visit, bench.at) == max(first, bench.visit.wear_ready_at())  # type: ignore[type-var]
    assert bench.view.starts_at is not None


TASKS = (
    task(),
    task(id="t-2", name="blasting", contaminants=(ev.Contaminant("dust", "particles", "200", "5", "mg/m³"),)),
    task(id="t-3", name="spraying", contaminants=(ev.Contaminant("vapour", "gas or vapour", "90", "30", "ppm"),)),
    task(id="t-4", name="tank", is_idlh=True),
    task(id="t-5", name="unknown", contaminants=()),
)
PIECES = tuple(piece_of(kind) for kind in ("half", "full", "disposable_cup", "powered_full"))
CLEARANCES = (
    None,
    CLEAR,
    replace(CLEAR, status="pending"),
    replace(CLEAR, valid_until="2026-03-01"),
    replace(CLEAR, limits=("no full facepiece",)),
)


class ArrivalMachine(RuleBasedStateMachine):
    """Any clearance, any task, any facepiece, keys in any order: a pass needs all of them to agree."""

    @initialize(clearance=st.sampled_from(CLEARANCES))
    def arrive(self, clearance: ev.Clearance | None) -> None:
        self.bench = Bench(RULES, opened_on="2026-03-02", clearance=clearance)
        self.clearance = clearance

    def press(self, payload: ev.Payload) -> None:
        with suppress(Refused):
            self.bench.say(payload)

    @rule(one=st.sampled_from(TASKS))
    def choose_task(self, one: ev.Task) -> None:
        self.press(ev.TaskChosen(one))

    @rule(one=st.sampled_from(PIECES))
    def choose_facepiece(self, one: ev.Facepiece) -> None:
        self.press(ev.FacepieceChosen(one))

    @rule(
        check=st.sampled_from(["positive", "negative"]),
        wearer=st.sampled_from(["holds", "leaks"]),
        tester=st.sampled_from(["holds", "leaks"]),
        place=st.sampled_from(PLACES),
    )
    def check_seal(self, check: Any, wearer: Any, tester: Any, place: Any) -> None:
        self.press(ev.SealChecked(check, wearer, tester, place))

    @rule(
        payload=st.sampled_from(
            [ev.AlterationMade("tape"), ev.AlterationUndone("tape:2"), ev.Doffed("refit"), ev.Adjusted("strap")]
        )
    )
    def alter(self, payload: ev.Payload) -> None:
        self.press(payload)

    @rule(count=st.integers(1, 60), one=st.sampled_from(PIECES))
    def go_on(self, count: int, one: ev.Facepiece) -> None:
        for _ in range(count):
            shown = self.bench.view
            if not shown.queue or shown.run or shown.offers:
                return
            card = shown.queue[0]
            try:
                if card.act == "run":
                    self.bench.run()
                    return
                self.bench.do(card.act, one) if card.act else self.bench.answer(card)
            except Refused:
                return

    @invariant()
    def what_was_run_was_allowed(self) -> None:
        if not hasattr(self, "bench"):
            return
        visit = self.bench.visit
        visit_view(visit, self.bench.at)
        for made in visit.tries:
            if outcome(visit, made)[0] != "pass":
                continue
            assert visit.task is not None and not made.blocking
            kinds = {
                one.kind: one.suffices for one in protection(visit.task, RULES.book, made.facepiece.filter_class).kinds
            }
            assert kinds[made.facepiece.kind] == "yes"
            if self.clearance is not None:
                assert self.clearance.status == "cleared" and self.clearance.valid_until in ("", "2026-03-31")
                assert not self.clearance.rules_out(made.facepiece)
        if seal_holds(visit):
            latest = {one.check.check: one for one in visit.seals if one.donning == visit.donning}
            assert all(one.holds for one in latest.values() if one.adjustment == visit.adjustment)


TestArrivalMachine = ArrivalMachine.TestCase
TestArrivalMachine.settings = settings(
    max_examples=25, stateful_step_count=20, deadline=None, suppress_health_check=list(HealthCheck)
)


@pytest.mark.parametrize(
    ("piece", "opening", "codes", "of_file"),
    [
        ({"kind": "full", "suspension": "five straps", "ppe": ("spectacles",)}, {}, ["temple_bars"], False),
        ({"kind": "powered_full", "suspension": "five straps", "ppe": ("spectacles",)}, {}, ["temple_bars"], False),
        ({}, {"clearance": None}, ["no_clearance"], True),
        ({"ppe": ("spectacles",)}, {}, [], False),
    ],
)
def test_what_lets_no_run_start_is_said_before_it_is_put_on(
    piece: dict[str, Any], opening: dict[str, Any], codes: list[str], of_file: bool
) -> None:
    """Spectacle bars break a full facepiece's seal, 29 CFR 1910.134 (g)(1)(ii), recalled; clearance first, (e)(1)."""
    bench = Bench(RULES, **opening)
    bench.until("choose_facepiece")
    assert bench.view.in_the_way is None, "nothing is chosen yet"
    bench.do("choose_facepiece", facepiece(**piece))
    said = bench.view.in_the_way
    assert [one.code for one in said.stops] == codes if said else not codes
    assert (said.is_of_the_file if said else False) is of_file
    if "temple_bars" in codes:
        bench.do("choose_facepiece", facepiece(**{**piece, "ppe": ("spectacle insert",)}))
        assert bench.view.in_the_way is None, "chosen again without"


def test_the_walk_of_a_visit_that_ends_early_shows_what_was_left_out(rules: Rules) -> None:
    """Opened for the wrong person, or turned away: no stone is laid for what nobody did."""
    bench = Bench(rules)
    bench.answer("identity", "not_fine")
    states = {one.id: one.state for one in bench.view.steps}
    assert states["back"] == "here" and set(states.values()) == {"here", "left_out"}
    bench.do("mistaken")
    assert {one.state for one in bench.view.steps} == {"left_out"}
    whole = Bench(rules)
    whole.until("run")
    whole.run(GOOD)
    whole.until("release")
    whole.do("release")
    assert {one.state for one in whole.view.steps} == {"behind"}
