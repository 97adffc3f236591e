"""What can happen around a qualitative test, as frozen payloads: screening, doses, detection, the end, the proof."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar, Literal

from moorfog.core.events.facts import STRICT, Agent, Lot, Nebuliser


@dataclass(frozen=True)
class MethodChosen:
    """How this facepiece is tested. ``cautions_on`` is the day at the site on which this tester last acknowledged
    the method's cautions, empty where never."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    method: Literal["sweet", "bitter", "odour", "smoke", "ambient_count", "aerosol", "negative_pressure"]
    cautions_on: str = ""
    kind: Literal["method_chosen"] = "method_chosen"


@dataclass(frozen=True)
class ScreeningStarted:
    """A screening begins, no facepiece on: threshold by squeezes, two jars, or a weak whiff.

    ``odour_jar`` says where the odour jar stands, drawn by the program; empty where there are no jars.
    """

    screening_id: str
    agent: Agent
    protocol_id: str
    nebuliser: Nebuliser | None
    lots: tuple[Lot, ...]
    used_on: str
    odour_jar: Literal["", "left", "right"] = ""
    kind: Literal["screening_started"] = "screening_started"


@dataclass(frozen=True)
class Squeezed:
    """One full squeeze of the threshold nebuliser."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    screening_id: str
    kind: Literal["squeezed"] = "squeezed"


@dataclass(frozen=True)
class Screened:
    """How a screening ended where nothing was detected, or which jar was named. Tasting and reacting are detections."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    screening_id: str
    answer: Literal["none", "left", "right"]
    kind: Literal["screened"] = "screened"


@dataclass(frozen=True)
class QualitativeStarted:
    """A qualitative run begins: hood on, in the chamber, or eyes shut. What it is judged by is frozen here.

    ``threshold`` is 10, 20 or 30 for a taste, 0 for odour and smoke. ``bends`` false: jogging instead of bending.
    """

    run_id: str
    agent: Agent
    protocol_id: str
    threshold: int
    nebuliser: Nebuliser | None
    lots: tuple[Lot, ...]
    used_on: str
    bends: bool
    kind: Literal["qualitative_started"] = "qualitative_started"

    @property
    def source(self) -> str:
        """Where the result comes from: the wearer's senses."""
        return "senses"

    @property
    def level(self) -> str:
        """No pass level: nothing is measured."""
        return ""


@dataclass(frozen=True)
class DoseGiven:
    """A dose began, or the first one is in: a press of its own each time, never assumed from the beat."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    run_id: str
    kind: Literal["dose_given"] = "dose_given"


@dataclass(frozen=True)
class Detected:
    """Tasted, smelt or reacted to. ``about`` is the run or the screening that was on the screen."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    about: str
    by: Literal["tester", "wearer"]
    kind: Literal["detected"] = "detected"


@dataclass(frozen=True)
class DetectionMistaken:
    """The tester marks the wearer's press as a mistake: it voids the run; nothing revives it."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    run_id: str
    reason: str
    kind: Literal["detection_mistaken"] = "detection_mistaken"


@dataclass(frozen=True)
class EyesOpened:
    """Eyes opened, or irritated, in the smoke: the run is void."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    kind: Literal["eyes_opened"] = "eyes_opened"


@dataclass(frozen=True)
class QualitativeEnded:
    """Hood off, out of the chamber, or smoke away, after the last exercise.

    ``longest_gap_ms`` is the longest time for which the tester's screen was not watched over: asleep, closed, reloaded.
    """

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    run_id: str
    longest_gap_ms: int
    kind: Literal["qualitative_ended"] = "qualitative_ended"


@dataclass(frozen=True)
class ProofSensed:
    """Proof after a run without detection: seal broken on purpose, or second whiff. Was the agent sensed?"""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    run_id: str
    sensed: bool
    kind: Literal["proof_sensed"] = "proof_sensed"


QUALITATIVE_PAYLOADS = (
    MethodChosen,
    ScreeningStarted,
    Squeezed,
    Screened,
    QualitativeStarted,
    DoseGiven,
    Detected,
    DetectionMistaken,
    EyesOpened,
    QualitativeEnded,
    ProofSensed,
)
