"""Everything that can happen in a visit, as frozen payloads. Events carry by value every fact the fold needs.

A payload is never rewritten once stored: a changed shape gets a new version and an upcaster, in
``core/events/chain.py``. Persons appear by id only; names, contacts and signature images live in erasable tables.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any, ClassVar, Literal, TypeAlias, cast

from moorfog.core.events.facts import (
    STRICT as STRICT,
)
from moorfog.core.events.facts import (
    Clearance as Clearance,
)
from moorfog.core.events.facts import (
    Contaminant as Contaminant,
)
from moorfog.core.events.facts import (
    DailyCheck as DailyCheck,
)
from moorfog.core.events.facts import (
    Facepiece as Facepiece,
)
from moorfog.core.events.facts import (
    Form as Form,
)
from moorfog.core.events.facts import (
    Instrument as Instrument,
)
from moorfog.core.events.facts import (
    Kind as Kind,
)
from moorfog.core.events.facts import (
    Lot as Lot,
)
from moorfog.core.events.facts import (
    Nebuliser as Nebuliser,
)
from moorfog.core.events.facts import (
    Task as Task,
)
from moorfog.core.events.facts import (
    WorkFilter as WorkFilter,
)
from moorfog.core.events.measured import Deviation as Deviation
from moorfog.core.events.measured import Hold as Hold
from moorfog.core.events.measured import MeasuredWindow as MeasuredWindow
from moorfog.core.events.measured import SignalWindow as SignalWindow
from moorfog.core.events.qualitative import (
    QUALITATIVE_PAYLOADS as QUALITATIVE_PAYLOADS,
)
from moorfog.core.events.qualitative import (
    Detected as Detected,
)
from moorfog.core.events.qualitative import (
    DetectionMistaken as DetectionMistaken,
)
from moorfog.core.events.qualitative import (
    DoseGiven as DoseGiven,
)
from moorfog.core.events.qualitative import (
    EyesOpened as EyesOpened,
)
from moorfog.core.events.qualitative import (
    MethodChosen as MethodChosen,
)
from moorfog.core.events.qualitative import (
    ProofSensed as ProofSensed,
)
from moorfog.core.events.qualitative import (
    QualitativeEnded as QualitativeEnded,
)
from moorfog.core.events.qualitative import (
    QualitativeStarted as QualitativeStarted,
)
from moorfog.core.events.qualitative import (
    Screened as Screened,
)
from moorfog.core.events.qualitative import (
    ScreeningStarted as ScreeningStarted,
)
from moorfog.core.events.qualitative import (
    Squeezed as Squeezed,
)
from moorfog.core.kernel.codec import DataError, encode


@dataclass(frozen=True)
class TypedExercise:
    """One exercise as copied from a display: outside and inside, or the fit factor alone. Decimal text."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    outside: str | None = None
    inside: str | None = None
    factor: str | None = None


@dataclass(frozen=True)
class VisitOpened:
    """A worker walked up. Names the person by id, pins the rules by digest, and holds what is on file by value.

    ``opened_on`` is the date at the site; ``trained_on`` the date of the last training on file, empty where none is;
    ``wore`` what the person was last tested in and how that went, in words, empty where nothing is known.
    ``visit_id`` binds every answer to this visit; it is empty in logs from before it was written down.
    """

    person_id: str
    employer_id: str
    site_id: str
    zone: str
    bench: str
    is_practice: bool
    speed: int
    rules_digest: str
    opened_on: str = ""
    clearance: Clearance | None = None
    trained_on: str = ""
    wore: str = ""
    visit_id: str = ""
    kind: Literal["visit_opened"] = "visit_opened"


@dataclass(frozen=True)
class TaskChosen:
    """The task this facepiece is for, by value, so that a record can be judged without the site's list."""

    task: Task
    kind: Literal["task_chosen"] = "task_chosen"


@dataclass(frozen=True)
class Answered:
    """A question answered. ``facts`` is the digest of the facts it holds for; ``minutes_ago`` for timed ones.

    ``screen`` is the screen it was pressed on, empty where that is not known: a slip is taken back only on the same.
    """

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    question: str
    answer: Literal["fine", "not_fine"]
    facts: str
    minutes_ago: int | None = None
    note: str = ""
    screen: str = ""
    kind: Literal["answered"] = "answered"


@dataclass(frozen=True)
class FileRead:
    """What is on file about the person, read again on a day at the site: before a run, before a signature, or because
    something was filed meanwhile. By value, as when the visit was opened."""

    clearance: Clearance | None
    trained_on: str
    on: str
    kind: Literal["file_read"] = "file_read"


@dataclass(frozen=True)
class OpenedByMistake:
    """The visit was opened for the wrong person: it ends here, and leaves nothing behind on that person."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    kind: Literal["opened_by_mistake"] = "opened_by_mistake"


@dataclass(frozen=True)
class FacepieceChosen:
    """Facepiece and size chosen; begins a new configuration."""

    facepiece: Facepiece
    kind: Literal["facepiece_chosen"] = "facepiece_chosen"


@dataclass(frozen=True)
class Part:
    """A probe, adapter, probed cartridge or manifold taken for a test, when it was last cleaned (empty: never)."""

    id: str
    name: str
    kind: str
    cleaned_at: str


@dataclass(frozen=True)
class ProbeFitted:
    """The facepiece was altered for sampling; ``alterations`` must be undone. ``parts``: what is on it."""

    alterations: tuple[str, ...]
    parts: tuple[Part, ...]
    kind: Literal["probe_fitted"] = "probe_fitted"


@dataclass(frozen=True)
class AlterationMade:
    """Something more was altered, such as tape over a valve for the seal check; it must be put back."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    alteration: str
    kind: Literal["alteration_made"] = "alteration_made"


@dataclass(frozen=True)
class AlterationUndone:
    """One alteration put back."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    alteration: str
    kind: Literal["alteration_undone"] = "alteration_undone"


@dataclass(frozen=True)
class Donned:
    """The facepiece is on and fastened; the wear clock starts. ``unaided``: by the wearer's own hands."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    unaided: bool
    kind: Literal["donned"] = "donned"


@dataclass(frozen=True)
class Doffed:
    """Taken off, lifted, dropped down or deliberately broken: the wear clock ends."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    why: Literal["done", "lifted", "refit"]
    kind: Literal["doffed"] = "doffed"


@dataclass(frozen=True)
class Adjusted:
    """A strap or nose-piece adjustment: a new seal check, no restart of the wear clock."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    what: Literal["strap", "nose_piece", "reseat"]
    kind: Literal["adjusted"] = "adjusted"


@dataclass(frozen=True)
class SealHoldBegun:
    """The hold of a user seal check begins: hands on, breath drawn or blown. Timed from this press to the next."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    check: Literal["positive", "negative"]
    kind: Literal["seal_hold_begun"] = "seal_hold_begun"


@dataclass(frozen=True)
class SealChecked:
    """One user seal check: the wearer's answer and what the tester saw or heard. Never a fit test."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    check: Literal["positive", "negative"]
    wearer: Literal["holds", "leaks"]
    tester: Literal["holds", "leaks"]
    place: Literal["", "nose", "eyes", "cheek", "temple", "chin", "throat", "valve"] = ""
    kind: Literal["seal_checked"] = "seal_checked"


@dataclass(frozen=True)
class RunStarted:
    """A fit-test run begins. Everything it is judged by is frozen here. t0 is ``count_in_ms`` after occurred_at.

    ``hidden``: what a practice run was set to by chance, told once the visit is closed; it decides nothing.
    """

    run_id: str
    source: Literal["counter", "typed"]
    method: Literal["fast_count", "full_count", "photometer", "pressure"]
    protocol_id: str
    mode: Literal["ordinary", "classified", "photometer", "pressure"]
    level: str
    count_in_ms: int
    instrument: Instrument
    hidden: str = ""
    kind: Literal["run_started"] = "run_started"


RunEnd: TypeAlias = Literal["complete", "stopped", "lost"]


@dataclass(frozen=True)
class RunClosed:
    """The run is sealed: which readings, their digest, and what they come to, which the verdict is made of.

    A counter fills ``windows``, a photometer ``signals``, a negative-pressure instrument ``holds``.
    """

    run_id: str
    end: RunEnd
    first: int
    last: int
    count: int
    sha256: str
    windows: tuple[MeasuredWindow, ...]
    deviations: tuple[Deviation, ...]
    signals: tuple[SignalWindow, ...] = ()
    holds: tuple[Hold, ...] = ()
    kind: Literal["run_closed"] = "run_closed"


@dataclass(frozen=True)
class NumbersTyped:
    """Figures copied from the counter's display, with the display's resolution (particles per cm³)."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    run_id: str
    resolution: str
    exercises: tuple[TypedExercise, ...]
    kind: Literal["numbers_typed"] = "numbers_typed"


@dataclass(frozen=True)
class RunVoided:
    """A run voided from outside: the counter was lost, or its readings never came."""

    run_id: str
    reason: str
    kind: Literal["run_voided"] = "run_voided"


@dataclass(frozen=True)
class Touched:
    """The wearer touched the facepiece; moved or not."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    moved: bool
    kind: Literal["touched"] = "touched"


@dataclass(frozen=True)
class Distress:
    """Distress, cough, panic: the wearer is taken out first, then referred."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    kind: Literal["distress"] = "distress"


@dataclass(frozen=True)
class ClockDiffered:
    """The clock of the screen that pressed the entry before this one was ahead of the server's by ``ahead_ms``: that
    entry was taken all the same, and dated by the server."""

    ahead_ms: int
    kind: Literal["clock_differed"] = "clock_differed"


@dataclass(frozen=True)
class Stopped:
    """The tester stopped the run."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    why: str = ""
    kind: Literal["stopped"] = "stopped"


@dataclass(frozen=True)
class ProofGiven:
    """After a held run the seal was broken on purpose: did the inside rise? ``seen`` is the highest figure inside that
    the display showed, as decimal text in its unit; empty where nobody read it."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    run_id: str
    rose: bool
    seen: str = ""
    kind: Literal["proof_given"] = "proof_given"


@dataclass(frozen=True)
class ProofMeasured:
    """What a link read inside after a held run while the seal was broken on purpose, in one stream of readings.

    ``low`` and ``high``: the last mean before the rise and the first that was enough, exact text in the unit of the
    display; empty where there was none. ``count`` and ``sha256`` bind the readings, kept under ``stream_id``.
    """

    run_id: str
    stream_id: str
    end: RunEnd
    count: int
    sha256: str
    low: str = ""
    high: str = ""
    kind: Literal["proof_measured"] = "proof_measured"


@dataclass(frozen=True)
class ScreenTookPart:
    """A screen was there during a run, the bench's or the wearer's: it may hold presses that have not come yet."""

    run_id: str
    screen: str
    role: Literal["bench", "wearer"]
    kind: Literal["screen_took_part"] = "screen_took_part"


@dataclass(frozen=True)
class ScreenCleared:
    """A screen that took part in a run knows that it is over, and holds nothing."""

    run_id: str
    screen: str
    kind: Literal["screen_cleared"] = "screen_cleared"


@dataclass(frozen=True)
class ScreenLost:
    """A screen that took part in a run was not heard of in time."""

    run_id: str
    screen: str
    kind: Literal["screen_lost"] = "screen_lost"


@dataclass(frozen=True)
class Decided:
    """What to do after a try that did not pass."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    next: Literal["same_again", "other_size", "other_facepiece", "other_method", "end"]
    kind: Literal["decided"] = "decided"


@dataclass(frozen=True)
class Withheld:
    """The tester withholds a pass, with a reason. There is no opposite of this."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    run_id: str
    reason: str
    kind: Literal["withheld"] = "withheld"


@dataclass(frozen=True)
class Signed:
    """One signature over the canonical record; ``digest`` is of the bytes that were shown and signed."""

    role: Literal["wearer", "tester"]
    digest: str
    covers_seq: int
    kind: Literal["signed"] = "signed"


@dataclass(frozen=True)
class TurnedAway:
    """Ended without a test, with the reason and a day to come back."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    reason: str
    come_back_on: str | None = None
    kind: Literal["turned_away"] = "turned_away"


@dataclass(frozen=True)
class Released:
    """The wearer left, everything put back."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    kind: Literal["released"] = "released"


@dataclass(frozen=True)
class Corrected:
    """A correction of a sealed record: right size, right person, or void. It never makes a pass of a non-pass.

    ``file`` is what is on the right person's file, by value, where the person changes; ``failed_before``: that person
    had failed in the set-up it is moved to.
    """

    target: int
    reason: str
    size: str | None = None
    person_id: str | None = None
    void_run: str | None = None
    file: FileRead | None = None
    failed_before: bool = False
    kind: Literal["corrected"] = "corrected"


Payload: TypeAlias = (
    VisitOpened
    | FileRead
    | OpenedByMistake
    | SealHoldBegun
    | TaskChosen
    | Answered
    | FacepieceChosen
    | ProbeFitted
    | AlterationMade
    | AlterationUndone
    | Donned
    | Doffed
    | Adjusted
    | SealChecked
    | RunStarted
    | RunClosed
    | NumbersTyped
    | RunVoided
    | Touched
    | Distress
    | ClockDiffered
    | Stopped
    | ProofGiven
    | ProofMeasured
    | ScreenTookPart
    | ScreenCleared
    | ScreenLost
    | Decided
    | Withheld
    | Signed
    | TurnedAway
    | Released
    | Corrected
    | MethodChosen
    | ScreeningStarted
    | Squeezed
    | Screened
    | QualitativeStarted
    | DoseGiven
    | Detected
    | DetectionMistaken
    | EyesOpened
    | QualitativeEnded
    | ProofSensed
)

KINDS: dict[str, type[Any]] = {
    str(cls.__dataclass_fields__["kind"].default): cls
    for cls in (
        VisitOpened,
        FileRead,
        OpenedByMistake,
        SealHoldBegun,
        TaskChosen,
        Answered,
        FacepieceChosen,
        ProbeFitted,
        AlterationMade,
        AlterationUndone,
        Donned,
        Doffed,
        Adjusted,
        SealChecked,
        RunStarted,
        RunClosed,
        NumbersTyped,
        RunVoided,
        Touched,
        Distress,
        ClockDiffered,
        Stopped,
        ProofGiven,
        ProofMeasured,
        ScreenTookPart,
        ScreenCleared,
        ScreenLost,
        Decided,
        Withheld,
        Signed,
        TurnedAway,
        Released,
        Corrected,
        *QUALITATIVE_PAYLOADS,
    )
}
OBSERVATIONS = frozenset(
    {
        "touched",
        "distress",
        "stopped",
        "doffed",
        "squeezed",
        "dose_given",
        "detected",
        "eyes_opened",
        "qualitative_ended",
        "screened",
    }
)
"""What somebody saw or felt, and cannot be asked to see again: taken whatever else has happened meanwhile."""
SAFETY = frozenset({"distress", "doffed"})
"""Of these, what is taken at any time and without a question."""


@dataclass(frozen=True)
class Event:
    """One line of a visit's log. ``occurred_at`` is what the fold reads; ``chain`` binds it to all before it."""

    id: str
    seq: int
    version: int
    occurred_at: datetime
    recorded_at: datetime
    actor: str
    payload: Payload
    chain: str
    stored: Mapping[str, Any] | None = field(default=None, compare=False, repr=False)
    """The payload as it was stored, where it was read from a store: the chain binds this, not what was made of it."""

    written_at: str | None = field(default=None, compare=False, repr=False)
    """``occurred_at`` as it was written, where it was read from text: the chain binds this to the last digit."""

    @property
    def content(self) -> Mapping[str, Any]:
        """The payload as plain data, as it was first written."""
        return self.stored if self.stored is not None else cast("Mapping[str, Any]", encode(self.payload))


MOMENT = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9]{2}:[0-9]{2}")
"""How a moment begins. ISO 8601 has weeks and days of the year too: as text they come before or after any day."""


def instant(moment: datetime) -> str:
    """Write a moment as RFC 3339 in UTC with milliseconds. Raises ``ValueError`` for a naive one."""
    if moment.tzinfo is None:
        raise ValueError("a moment without time zone cannot be recorded")
    in_utc = moment if moment.tzinfo is UTC else moment.astimezone(UTC)
    return in_utc.isoformat(timespec="milliseconds")[: -len("+00:00")] + "Z"


def parse_instant(text: str, where: str) -> datetime:
    """Read an RFC 3339 moment with its offset. Raises :class:`DataError`."""
    try:
        moment = datetime.fromisoformat(text if MOMENT.match(text) else "")
    except ValueError:
        raise DataError(where, f"{text!r} is not a moment like 2026-01-31T09:30:00.000Z") from None
    if moment.tzinfo is None:
        raise DataError(where, f"{text!r} has no offset; write Z or +00:00 behind it")
    return moment


def instant_or_none(text: str) -> datetime | None:
    """Read a moment, or return None where it is none."""
    try:
        return parse_instant(text, "moment")
    except DataError:
        return None


QUIET = frozenset((ScreenTookPart, ScreenCleared))
"""What is entered beside the work and changes nothing that a decision is made on: a press made on the entry before it
stands, and it comes between no two presses."""
