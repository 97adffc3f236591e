"""The state of a visit: what the log has established, and nothing that depends on the present moment."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any, Literal

from moorfog.core.advice.methods import QUALITATIVE
from moorfog.core.events.payloads import (
    Clearance,
    Facepiece,
    NumbersTyped,
    Part,
    QualitativeStarted,
    RunClosed,
    RunStarted,
    ScreeningStarted,
    SealChecked,
    Task,
    VisitOpened,
)
from moorfog.core.measuring.results import RunNumbers
from moorfog.core.rules.book import Rules
from moorfog.core.rules.protocols import Protocol
from moorfog.core.rules.reason import Reason

FOLD_VERSION = 7
"""Raised whenever the same log would fold to another result; see docs/fold-changes.md."""


Outcome = Literal["pass", "fail", "void", "unfinished"]


@dataclass(frozen=True)
class Answer:
    """The latest answer to a question, with the facts it holds for."""

    question: str
    answer: Literal["fine", "not_fine"]
    facts: str
    at: datetime
    minutes_ago: int | None
    note: str
    seq: int
    actor: str
    screen: str


@dataclass(frozen=True)
class Denial:
    """A question answered "not fine" once a run of this try had begun. It stands, whatever is answered after it.

    ``taken_back`` by the next press on the same screen and account, within the seconds that a slip may take.
    """

    question: str
    at: datetime
    seq: int


@dataclass(frozen=True)
class OpenAlteration:
    """Something altered for the test and not yet put back. ``id`` tells two of the same rule apart."""

    id: str
    rule: str
    opened_at: datetime
    facepiece: str


@dataclass(frozen=True)
class SealResult:
    """A user seal check as made, with when and for which donning and adjustment."""

    check: SealChecked
    at: datetime
    donning: int
    adjustment: int
    configuration: str
    is_long_enough: bool

    @property
    def leaks(self) -> bool:
        """True if wearer or tester found a leak."""
        return self.check.wearer == "leaks" or self.check.tester == "leaks"

    @property
    def holds(self) -> bool:
        """True only if wearer and tester both found that it holds, for as long as it must be held."""
        return not self.leaks and self.is_long_enough


@dataclass(frozen=True)
class SealHold:
    """A hold that was begun: of which check, when, on which donning and adjustment."""

    check: str
    at: datetime
    donning: int
    adjustment: int


ScreeningResult = Literal["", "10", "20", "30", "sensed", "none", "spoilt"]
"""Threshold by set, or sensed; none: not sensed; spoilt: broken off; empty while it goes on."""


@dataclass(frozen=True)
class ScreeningState:
    """A screening: for which attempt, how many squeezes so far, and what came of it."""

    started: ScreeningStarted
    attempt: int
    at: datetime
    squeezes: int = 0
    result: ScreeningResult = ""
    ended_at: datetime | None = None

    @property
    def threshold(self) -> int:
        """Squeezes of the threshold set, 0 where none are counted."""
        return int(self.result) if self.result in ("10", "20", "30") else 0

    @property
    def is_passed(self) -> bool:
        """True once the agent was sensed."""
        return self.threshold > 0 or self.result == "sensed"


@dataclass(frozen=True)
class Detection:
    """Tasted, smelt or reacted: at which exercise (-1: before the first) and which second from t0, by whose press."""

    at: datetime
    exercise: int
    second: int
    by: Literal["tester", "wearer"]


@dataclass(frozen=True)
class ScreenPart:
    """A screen that took part in a run; a verdict waits while it is awaited, and there is none once it is lost."""

    screen: str
    role: Literal["bench", "wearer"]
    state: Literal["awaited", "clear", "lost"]


@dataclass(frozen=True)
class Try:
    """Facepiece × donning × run. Kept and numbered whatever comes of it. ``t0`` is None until the first dose is in.

    ``worn_since`` and ``sealed_at``: when what was tested was put on, and its seal last found to hold. ``denials``:
    what was answered "not fine" from the start of the run on. ``has_failed``: it was judged a fail at some moment;
    whatever it is called later, an earlier pass in the same set-up has ended by it. ``has_passed``: it stood as a pass
    when the record was released, so that what is heard later suspends something.
    """

    no: int
    attempt: int
    seq: int
    started: RunStarted | QualitativeStarted
    started_at: datetime
    t0: datetime | None
    facepiece: Facepiece
    donning: int
    adjustment: int
    chosen_seq: int
    parts: tuple[Part, ...]
    blocking: tuple[str, ...]
    worn_since: datetime | None = None
    sealed_at: datetime | None = None
    denials: tuple[Denial, ...] = ()
    has_failed: bool = False
    has_passed: bool = False
    broken: tuple[Reason, ...] = ()
    remarks: tuple[Reason, ...] = ()
    closed: RunClosed | None = None
    typed: NumbersTyped | None = None
    proof: bool | None = None
    proof_reason: str = ""
    proof_stream: str = ""
    screens: tuple[ScreenPart, ...] = ()
    ended_seq: int = 0
    doses: tuple[datetime, ...] = ()
    detection: Detection | None = None
    longest_gap_ms: int = 0
    ended_at: datetime | None = None
    stopped: bool = False
    distress: bool = False
    withheld: str = ""
    voided: str = ""
    numbers: RunNumbers = field(default_factory=lambda: RunNumbers("none"))
    final: tuple[Outcome, tuple[Reason, ...]] | None = None

    @property
    def is_running(self) -> bool:
        """True from start until numbers, stop or void end the run."""
        return self.ended_at is None

    @property
    def is_sealing(self) -> bool:
        """True while a run the tester stopped waits for its instrument's readings to be sealed; not in distress."""
        awaited = self.counted is not None and self.counted.source == "counter" and self.closed is None
        return awaited and self.stopped and not self.distress and not self.voided

    @property
    def counted(self) -> RunStarted | None:
        """What a counting run started with, None for a qualitative one."""
        return self.started if isinstance(self.started, RunStarted) else None

    @property
    def sensed(self) -> QualitativeStarted | None:
        """What a qualitative run started with, None for a counting one."""
        return self.started if isinstance(self.started, QualitativeStarted) else None


@dataclass(frozen=True)
class Signature:
    """A signature on a revision; ``actor`` is the account through which it was given."""

    role: Literal["wearer", "tester"]
    digest: str
    at: datetime
    actor: str
    revision: int
    covers_seq: int


@dataclass(frozen=True)
class File:
    """What is on file about the person, as it was read last: clearance, last training, and on which day at the site."""

    clearance: Clearance | None
    trained_on: str
    on: str


@dataclass(frozen=True)
class Ended:
    """A fail that ended an earlier permission and was moved to another person or set-up: it goes on ending the first
    one's until the correction is signed."""

    no: int
    person_id: str
    configuration: str
    at: datetime
    revision: int


@dataclass(frozen=True)
class Visit:
    """A visit folded from its log. ``revision`` rises with each correction; signatures hold for one revision."""

    rules: Rules
    seq: int = 0
    moved: int = 0
    chain: str = ""
    opened: VisitOpened | None = None
    opened_at: datetime | None = None
    last_at: datetime | None = None
    rules_match: bool = False
    file: File | None = None
    wrong_person: bool = False
    task: Task | None = None
    answers: Mapping[str, Answer] = field(default_factory=dict)
    asked: tuple[Answer, ...] = ()
    facepiece: Facepiece | None = None
    chosen: int = 0
    chosen_seq: int = 0
    probe_fitted_for: int = 0
    parts: tuple[Part, ...] = ()
    donning: int = 0
    unaided: bool = False
    worn_since: datetime | None = None
    adjustment: int = 0
    seals: tuple[SealResult, ...] = ()
    asked_seals: tuple[SealResult, ...] = ()
    seal_hold: SealHold | None = None
    alterations: tuple[OpenAlteration, ...] = ()
    alterations_undone: tuple[tuple[OpenAlteration, datetime], ...] = ()
    alterations_made: int = 0
    method: str = ""
    cautions_on: str = ""
    screenings: tuple[ScreeningState, ...] = ()
    tries: tuple[Try, ...] = ()
    attempt: int = 1
    ending: bool = False
    distress: bool = False
    turned_away: str = ""
    come_back_on: str | None = None
    closed: Literal["", "released", "turned_away", "mistaken"] = ""
    revision: int = 1
    corrections: tuple[str, ...] = ()
    ended: tuple[Ended, ...] = ()
    is_moved: bool = False
    questions: tuple[Reason, ...] = ()
    """What came in after the record was closed and made a try of it worse: it is under question until a tester settles
    it in a correction that both sign."""
    questioned_in: int = 0
    signatures: tuple[Signature, ...] = ()
    person_id: str = ""
    memo: dict[Any, Any] = field(default_factory=dict, init=False, repr=False, compare=False)
    """What was worked out from this very state before; a changed state begins with an empty one."""

    @property
    def is_practice(self) -> bool:
        """True for a practice visit, or one whose opening is missing."""
        return self.opened is None or self.opened.is_practice

    @property
    def speed(self) -> int:
        """How many seconds of a protocol pass in one second: 1, except in practice."""
        return self.opened.speed if self.opened and self.opened.is_practice else 1

    @property
    def current_try(self) -> Try | None:
        """The try of the present attempt, if its run has started."""
        return self.tries[-1] if self.tries and self.tries[-1].attempt == self.attempt else None

    @property
    def running(self) -> Try | None:
        """The try whose run is going on, if any."""
        last = self.tries[-1] if self.tries else None
        return last if last is not None and last.is_running else None

    @property
    def screening(self) -> ScreeningState | None:
        """The latest screening of the present attempt for the method chosen, if any."""
        last = self.screenings[-1] if self.screenings else None
        fits = last is not None and last.attempt == self.attempt and last.started.agent == self.method
        return last if fits else None

    @property
    def screening_running(self) -> ScreeningState | None:
        """The screening that is going on, if any."""
        last = self.screenings[-1] if self.screenings else None
        return last if last is not None and last.ended_at is None else None

    @property
    def out(self) -> frozenset[str]:
        """Agents this person did not sense in a screening, with none passed before it: out for this person today."""
        found: set[str] = set()
        for one in self.screenings:
            passed = any(two.is_passed and two.started.agent == one.started.agent for two in self.screenings)
            if one.result == "none" and not (passed and self._may_screen_again(one)):
                found.add(one.started.agent)
        return frozenset(found)

    def _may_screen_again(self, one: ScreeningState) -> bool:
        protocol = self.rules.protocol(one.started.protocol_id)
        return protocol is not None and protocol.screening is not None and protocol.screening.again_after_s > 0

    def protocol_for(self, method: str) -> Protocol | None:
        """Return the protocol of a method for the chosen facepiece, or None."""
        piece = self.facepiece
        return self.rules.protocol_for(method, piece.kind) if piece else None

    def ruled_out(self, piece: Facepiece) -> str:
        """Return the limit of the clearance on file that rules a facepiece out, or nothing."""
        clearance = self.file.clearance if self.file else None
        return clearance.rules_out(piece) if clearance is not None else ""

    def tries_with(self, piece: Facepiece) -> int:
        """Return how many tries this visit has made with the very set-up of ``piece``."""
        return sum(1 for one in self.tries if one.facepiece.configuration == piece.configuration)

    def after(self, start: datetime, seconds: float) -> datetime:
        """Return when ``seconds`` of protocol time have gone by since ``start``."""
        return start + timedelta(seconds=seconds / self.speed)

    def wear_ready_at(self) -> datetime | None:
        """Return when the facepiece will have been worn long enough, or None while it is off."""
        if self.worn_since is None:
            return None
        return self.after(self.worn_since, float(self.rules.book.number("wear.minimum")))

    def run_ends_at(self, one: Try) -> datetime | None:
        """Return when the protocol of a run is over, None before its first dose."""
        protocol = self.rules.protocol(one.started.protocol_id)
        return self.after(one.t0, protocol.total_s if protocol else 0) if one.t0 is not None else None

    def clear_at(self) -> datetime | None:
        """Return when the agent of the present attempt's screening has had time to clear, None without one."""
        one = self.screening
        protocol = self.rules.protocol(one.started.protocol_id) if one is not None else None
        if one is None or one.ended_at is None or protocol is None or protocol.screening is None:
            return None
        wait = protocol.screening.clear_s if one.is_passed else protocol.screening.again_after_s
        return self.after(one.ended_at, wait)


def alterations_needed(visit: Visit) -> tuple[str, ...]:
    """Return how the chosen facepiece is altered for its test; a qualitative one needs no probe."""
    facepiece = visit.facepiece
    if facepiece is None:
        return ()
    return tuple(
        one.id
        for one in visit.rules.procedure.alteration
        if not one.airs or facepiece.traits.air in one.airs
        if (facepiece.probe in one.probe and visit.method not in QUALITATIVE)
        or facepiece.family in one.families
        or (one.test_filters and facepiece.test_filters)
        or visit.method in one.methods
    )
