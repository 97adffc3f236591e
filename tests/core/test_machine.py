"""Random logs and random presses: nothing ever makes a pass out of an unknown, a stop or a broken run."""

from __future__ import annotations

import json
from datetime import timedelta
from functools import reduce

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule

from moorfog.core.events import payloads as ev
from moorfog.core.events.chain import event_from_json, event_to_json
from moorfog.core.kernel.canonical import canonical_bytes
from moorfog.core.kernel.codec import encode
from moorfog.core.measuring.results import NumbersState
from moorfog.core.transitions.fold import fold, step
from moorfog.core.views.visit_view import visit_view
from moorfog.core.visit.blocks import run_blocks
from moorfog.core.visit.circumstances import applies, circumstances, facts_digest
from moorfog.core.visit.outcomes import outcome
from moorfog.core.visit.state import Visit
from moorfog.data import shipped_rules
from tests.core.bench import BAD_FACTORS, GOOD, Bench, Refused, counter, facepiece

RULES = shipped_rules()
QUESTIONS = [one.id for one in RULES.procedure.item if not one.act]
GATES = [
    one
    for one in RULES.procedure.item
    if not one.act
    and one.before != "release"
    and one.gravity != "note"
    and not one.when.methods
    and all(RULES.book.text(key) == value for key, value in one.when.rule)  # what this book asks for
]


class BenchMachine(RuleBasedStateMachine):
    """Presses keys at a bench in any order; every accepted event also goes through JSON and back."""

    @initialize()
    def open(self) -> None:
        self.bench = Bench(RULES)
        self.stored: list[str] = []
        self.stepwise = Visit(RULES)

    def press(self, payload: ev.Payload, seconds: float = 5) -> None:
        before, log = self.bench.visit, len(self.bench.log)
        try:
            self.bench.say(payload, seconds)
        except Refused:
            assert self.bench.visit is before and len(self.bench.log) == log, "a refused proposal changed something"

    @rule(count=st.integers(1, 70))
    def go_on(self, count: int) -> None:
        for _ in range(count):
            shown = self.bench.view
            if not shown.queue or shown.run or shown.offers or shown.closed:
                return
            card = shown.queue[0]
            if card.act == "run":
                return
            try:
                self.bench.do(card.act) if card.act else self.bench.answer(card)
            except Refused:
                return

    @rule(question=st.sampled_from(QUESTIONS), answer=st.sampled_from(["fine", "not_fine"]))
    def answer_any(self, question: str, answer: str) -> None:
        item = RULES.procedure.find(question)
        self.press(ev.Answered(question, answer, facts_digest(self.bench.visit, item)))

    @rule(seconds=st.integers(1, 400))
    def wait(self, seconds: int) -> None:
        self.bench.at += timedelta(seconds=seconds)

    @rule(factors=st.sampled_from([GOOD, GOOD, BAD_FACTORS]), end=st.sampled_from(["complete", "complete", "lost"]))
    def run_counter(self, factors: tuple[int, ...], end: str) -> None:
        if self.bench.visit.facepiece is None:
            return
        try:
            self.bench.run(factors, end=end)
        except Refused:
            return

    @rule(
        payload=st.sampled_from(
            [
                ev.Adjusted("strap"),
                ev.Doffed("refit"),
                ev.Doffed("done"),
                ev.Donned(True),
                ev.Donned(False),
                ev.Touched(True),
                ev.Touched(False),
                ev.Stopped(),
                ev.Decided("same_again"),
                ev.Decided("other_size"),
                ev.Decided("end"),
                ev.SealChecked("negative", "leaks", "holds", "chin"),
                ev.Released(),
                ev.FacepieceChosen(facepiece(size="L")),
                ev.FacepieceChosen(facepiece()),
                ev.AlterationUndone("valve_cover:1"),
            ]
        )
    )
    def press_any(self, payload: ev.Payload) -> None:
        self.press(payload)

    @rule(lost=st.booleans())
    def store(self, lost: bool) -> None:
        """Carry the log on through stored JSON; now and then the cached state is dropped."""
        for event in self.bench.log[len(self.stored) :]:
            self.stored.append(json.dumps(event_to_json(event)))
            self.stepwise = step(self.stepwise, event_from_json(json.loads(self.stored[-1])))
        if lost:
            self.stepwise = fold([event_from_json(json.loads(one)) for one in self.stored], RULES)
        assert self.stepwise == self.bench.visit == fold(self.bench.log, RULES)

    @invariant()
    def no_pass_without_everything(self) -> None:
        if not hasattr(self, "bench"):
            return
        visit = self.bench.visit
        for one in visit.tries:
            result, reasons = outcome(visit, one)
            assert reasons or result == "pass"
            if result != "pass":
                continue
            assert not one.blocking and not one.broken and not one.distress and one.numbers.state in PASSING
            if one is visit.current_try:
                for item in GATES:
                    if not applies(item.when, circumstances(visit)):
                        continue
                    answer = visit.answers.get(item.id)
                    assert answer is not None and (answer.answer == "fine" or item.wait), f"passed without {item.id}"
        visit_view(visit, self.bench.at)


PASSING: tuple[NumbersState, ...] = ("reached", "held")
TestBenchMachine = BenchMachine.TestCase
TestBenchMachine.settings = settings(
    max_examples=25, stateful_step_count=25, deadline=None, suppress_health_check=list(HealthCheck)
)

text = st.text(max_size=5)
piece = st.builds(
    facepiece, size=st.sampled_from(["M", "L"]), kind=st.sampled_from(["half", "full", "disposable_cup", "nonsense"])
)
number = st.sampled_from(["1", "5300", "0", "-3", "nan", "", "1e9", "0.00001"])
payloads = st.one_of(
    st.builds(
        ev.Answered, question=st.sampled_from(QUESTIONS), answer=st.sampled_from(["fine", "not_fine"]), facts=text
    ),
    st.builds(ev.FacepieceChosen, facepiece=piece),
    st.builds(ev.ProbeFitted, alterations=st.lists(st.sampled_from(["valve_cover", "x"]), max_size=2).map(tuple)),
    st.builds(ev.AlterationUndone, alteration=st.sampled_from(["valve_cover:1", "x"])),
    st.builds(ev.Donned, unaided=st.booleans()),
    st.builds(ev.Doffed, why=st.just("done")),
    st.builds(
        ev.SealChecked,
        check=st.sampled_from(["positive", "negative"]),
        wearer=st.just("holds"),
        tester=st.just("holds"),
    ),
    st.builds(
        ev.RunStarted,
        run_id=st.sampled_from(["a", "b"]),
        source=st.sampled_from(["counter", "typed"]),
        method=st.just("fast_count"),
        protocol_id=st.sampled_from(["fast-count-elastomeric", "none"]),
        mode=st.just("ordinary"),
        level=st.sampled_from(["100", "1", "x", "500"]),
        count_in_ms=st.integers(0, 5000),
        instrument=st.builds(counter, ambient_minimum=number),
    ),
    st.builds(
        ev.RunClosed,
        run_id=st.sampled_from(["a", "b"]),
        end=st.sampled_from(["complete", "stopped", "lost"]),
        first=st.just(0),
        last=st.just(0),
        count=st.just(0),
        sha256=st.just(""),
        deviations=st.just(()),
        windows=st.lists(
            st.builds(
                ev.MeasuredWindow,
                exercise=st.integers(0, 4),
                use=st.sampled_from(["outside", "inside"]),
                counts=st.integers(-2, 10**6),
                volume_nl=st.integers(0, 10**8),
                ms=st.integers(0, 30_000),
            ),
            max_size=8,
        ).map(tuple),
    ),
    st.builds(
        ev.NumbersTyped,
        run_id=st.sampled_from(["a", "b"]),
        resolution=number,
        exercises=st.lists(st.builds(ev.TypedExercise, outside=number, inside=number), max_size=5).map(tuple),
    ),
    st.builds(
        ev.ProofMeasured,
        run_id=st.sampled_from(["a", "b"]),
        stream_id=st.just("s"),
        end=st.sampled_from(["complete", "lost"]),
        count=st.just(0),
        sha256=st.just("0" * 64),
        low=st.sampled_from(["", "0"]),
        high=st.sampled_from(["", "9000"]),
    ),
    st.builds(ev.ProofGiven, run_id=st.sampled_from(["a", "b"]), rose=st.booleans()),
    st.builds(ev.Decided, next=st.sampled_from(["same_again", "end"])),
    st.builds(ev.Signed, role=st.sampled_from(["wearer", "tester"]), digest=text, covers_seq=st.integers(0, 5)),
    st.just(ev.Released()),
    st.just(ev.Distress()),
    st.just(ev.Stopped()),
    st.builds(
        ev.Corrected,
        target=st.integers(-1, 30),
        reason=text,
        size=st.none() | st.just("S"),
        void_run=st.none() | st.just("a"),
    ),
    st.builds(ev.Withheld, run_id=st.just("a"), reason=text),
    st.builds(ev.TurnedAway, reason=text),
    st.builds(ev.RunVoided, run_id=st.just("a"), reason=text),
)


@settings(max_examples=150, deadline=None)
@given(st.lists(payloads, max_size=25))
def test_no_log_makes_the_fold_raise_nor_passes_without_the_gates(some: list[ev.Payload]) -> None:
    bench = Bench(RULES)
    for one in some:
        bench.event(one, bench.at + timedelta(seconds=10 * len(bench.log)))
    visit = fold(bench.log, RULES)
    assert visit == reduce(step, bench.log, Visit(RULES)), "a whole log is what its entries come to one by one"
    now = bench.at + timedelta(hours=1)
    visit_view(visit, now)
    run_blocks(visit, now)
    assert all(outcome(visit, one)[0] != "pass" for one in visit.tries), "these logs never answer with the right facts"
    assert canonical_bytes([encode(one.payload) for one in bench.log])


@settings(max_examples=60, deadline=None)
@given(st.data())
def test_dropping_any_one_answer_or_act_from_a_passing_log_is_no_pass(data: st.DataObject) -> None:
    log = _passing_log()
    droppable = [
        one
        for one in log
        if isinstance(
            one.payload, (ev.Donned, ev.SealChecked, ev.RunClosed, ev.ProbeFitted, ev.FacepieceChosen, ev.VisitOpened)
        )
        or (isinstance(one.payload, ev.Answered) and RULES.procedure.find(one.payload.question) in GATES)
    ]
    gone = data.draw(st.sampled_from(droppable))
    visit = fold([one for one in log if one is not gone], RULES)
    assert all(outcome(visit, one)[0] != "pass" for one in visit.tries), gone.payload


_LOG: list[ev.Event] = []


def _passing_log() -> list[ev.Event]:
    if not _LOG:
        bench = Bench(RULES)
        bench.until("run")
        bench.run()
        bench.until("sign_wearer")
        assert outcome(bench.visit, bench.visit.tries[-1])[0] == "pass"
        _LOG.extend(bench.log)
    return _LOG
