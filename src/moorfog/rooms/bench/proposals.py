"""What a client may propose for a visit. Facts the client cannot know are filled in by the operation."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Annotated, Any, ClassVar, Literal, TypeAlias

from pydantic import Field

from moorfog.core.advice.methods import Method
from moorfog.core.events import payloads as ev
from moorfog.core.events.facts import STRICT
from moorfog.platform.web.fields import Id, Label, Moment

PPE = 3
"""Other gear on the head that is worn with a facepiece."""
MOST_TOGETHER = 12
"""How many questions one press may answer."""


@dataclass(frozen=True)
class Settled:
    """A question found fine, with the digest of the facts it holds for."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    question: str
    facts: str


@dataclass(frozen=True)
class AnswerTogether:
    """All questions of one look found fine with one press: an entry of its own in the log for each."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    answers: Annotated[tuple[Settled, ...], Field(min_length=1, max_length=MOST_TOGETHER)]
    screen: str = ""
    kind: Literal["answer_together"] = "answer_together"


@dataclass(frozen=True)
class ChooseFacepiece:
    """Choose a facepiece version, its size and set-up; ``task_id`` and ``method`` with it, where all is as last time.

    Each is an entry of its own in the log, and all of them are taken or none.
    """

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    version_id: Id
    size: str
    suspension: str
    clip: str
    filter_class: str
    is_own: bool
    ppe: Annotated[tuple[Label, ...], Field(max_length=PPE)]
    task_id: Id | None = None
    method: Method | None = None
    kind: Literal["choose_facepiece"] = "choose_facepiece"


@dataclass(frozen=True)
class ChooseTask:
    """Choose one of the site's tasks; the tester picks a task, not chemistry."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    task_id: Id
    kind: Literal["choose_task"] = "choose_task"


@dataclass(frozen=True)
class FitProbe:
    """The probe is fitted; the alterations this facepiece needs are opened. ``part_ids``: what of the kit is on it."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    part_ids: tuple[Id, ...] = ()
    kind: Literal["fit_probe"] = "fit_probe"


@dataclass(frozen=True)
class StartRun:
    """Start the run with a counter read by its link, or with numbers to be typed afterwards.

    ``protocol_id`` empty: the first protocol of the method that the rule book allows for this kind. ``fault``: what a
    simulated instrument or wearer hides, to learn on; in practice only.
    """

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    run_id: Id
    instrument_id: Id
    source: Literal["counter", "typed"]
    protocol_id: str = ""
    fault: str = ""
    kind: Literal["start_run"] = "start_run"


@dataclass(frozen=True)
class ChooseMethod:
    """Choose how this facepiece is tested."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    method: Method
    kind: Literal["choose_method"] = "choose_method"


@dataclass(frozen=True)
class StartScreening:
    """Start a screening with a nebuliser, or with lots of jars or a tube."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    screening_id: Id
    nebuliser_id: Id | None
    lot_ids: tuple[Id, ...]
    kind: Literal["start_screening"] = "start_screening"


@dataclass(frozen=True)
class StartQualitative:
    """Hood on, in the chamber, or eyes shut: a qualitative run begins."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    run_id: Id
    nebuliser_id: Id | None
    lot_ids: tuple[Id, ...]
    bends: bool
    kind: Literal["start_qualitative"] = "start_qualitative"


@dataclass(frozen=True)
class Correct:
    """Correct a closed record: right size, right person, void a run, or settle what came in afterwards, with a reason.

    What is on the right person's file is looked up here, never said by a client.
    """

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    target: int
    reason: str
    size: str | None = None
    person_id: Id | None = None
    void_run: str | None = None
    kind: Literal["corrected"] = "corrected"


Body: TypeAlias = Annotated[
    ev.Answered
    | AnswerTogether
    | ChooseFacepiece
    | ChooseTask
    | FitProbe
    | ev.AlterationMade
    | ev.AlterationUndone
    | ev.Donned
    | ev.Doffed
    | ev.Adjusted
    | ev.SealChecked
    | StartRun
    | ev.NumbersTyped
    | ev.Touched
    | ev.Distress
    | ev.Stopped
    | ev.ProofGiven
    | ev.Decided
    | ev.Withheld
    | ev.TurnedAway
    | ev.Released
    | Correct
    | ev.OpenedByMistake
    | ev.SealHoldBegun
    | ChooseMethod
    | StartScreening
    | ev.Squeezed
    | ev.Screened
    | StartQualitative
    | ev.DoseGiven
    | ev.Detected
    | ev.DetectionMistaken
    | ev.EyesOpened
    | ev.QualitativeEnded
    | ev.ProofSensed,
    Field(discriminator="kind"),
]


@dataclass(frozen=True)
class Proposal:
    """One proposal, bound to its visit, its person, and the mark of what the screen showed when it was pressed.

    Decisions name the sequence number they expect; observations leave ``expects`` and ``mark`` null.
    """

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    id: Id
    expects: int | None
    occurred_at: Moment
    visit_id: Id
    person_id: Id
    mark: str | None
    body: Body
