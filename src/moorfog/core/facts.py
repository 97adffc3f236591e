"""Facts that events carry by value: facepiece, task, counter, clearance. A record can be judged without any list."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar, Literal, TypeAlias

from moorfog.core.canonical import digest

STRICT: Mapping[str, Any] = {"strict": True, "extra": "forbid"}


@dataclass(frozen=True)
class Facepiece:
    """A facepiece as it is on the face: model version, size and set-up, by value."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    model_id: str
    version_id: str
    maker: str
    model: str
    kind: str
    size: str
    valve: bool
    filter_kind: Literal["media", "particulate", "gas", "combined"]
    filter_class: str
    cover: Literal["front", "palms", "thumbs", "none"]
    suspension: str
    clip: str
    probe: Literal["valve_seat", "probed_cartridge", "through"]
    test_filters: bool
    is_own: bool
    ppe: tuple[str, ...]

    @property
    def family(self) -> str:
        """Return disposable, half, full or powered."""
        return family_of(self.kind)

    @cached_property
    def configuration(self) -> str:
        """Digest of what a result binds to: model, size, suspension, clip, filters' kind and class, PPE."""
        return digest(
            [
                self.model_id,
                self.size,
                self.suspension,
                self.clip,
                self.filter_kind,
                self.filter_class,
                sorted(self.ppe),
            ]
        )


def family_of(kind: str) -> str:
    """Return the family of a facepiece kind: disposable, half (quarter too), full, or powered."""
    if kind.startswith("disposable"):
        return "disposable"
    if kind.startswith(("powered", "supplied")):
        return "powered"
    return "full" if kind.startswith(("full", "scba")) else "half"


def level_key(kind: str) -> str:
    """Return which pass level of a rule book a kind is judged by: the facepiece decides, not the hazard."""
    return "level.full" if kind in ("full", "powered_full", "supplied_full", "scba_full") else "level.half"


Form: TypeAlias = Literal["particles", "gas or vapour", "both"]


@dataclass(frozen=True)
class Contaminant:
    """What is in the air. Figures as decimal text in ``unit``; an empty one is not known."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    name: str
    form: Form
    concentration: str
    limit: str
    unit: str
    idlh: str = ""
    cartridge_limit: str = ""


@dataclass(frozen=True)
class Task:
    """A task of a site, by value, with the filter class its work needs, and the cartridge where there is gas."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    id: str
    name: str
    contaminants: tuple[Contaminant, ...]
    oxygen_percent: str = ""
    is_idlh: bool = False
    is_unknown: bool = False
    work_filter: str = ""
    work_cartridge: str = ""


@dataclass(frozen=True)
class DailyCheck:
    """One daily check of an instrument, as a value against its limit, on a day where the instrument stands."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    name: str
    value: str
    limit: str
    passed: bool
    checked_on: str


InstrumentKind: TypeAlias = Literal["counter", "photometer", "pressure"]


@dataclass(frozen=True)
class Instrument:
    """The instrument a run was made with, by value; ``used_on`` is the date of the run where it stands.

    Counter: flow in cm³/min, resolution and limits in particles per cm³. Photometer: the same in µg/m³. Negative
    pressure: resolution in l/min, nothing else. ``required`` names the checks of the day it needs; ``charged_at`` is
    when the alcohol was charged last, within ``charge_h`` hours where it needs any (0: it needs none).
    """

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    id: str
    name: str
    serial_number: str
    counted_flow: str
    resolution: str
    ambient_minimum: str
    ambient_maximum: str
    calibrated_until: str
    used_on: str
    checks: tuple[DailyCheck, ...]
    kind: InstrumentKind = "counter"
    required: tuple[str, ...] = ("particle", "zero", "max_fit_factor")
    charged_at: str = ""
    charge_h: int = 0


LIMITS: dict[str, tuple[str, ...]] = {
    "no full facepiece": ("full",),
    "no half facepiece": ("half",),
    "no disposable": ("disposable",),
    "powered only": ("disposable", "half", "full"),
    "no self-contained": ("scba",),
}
"""What a clinician may rule out, and the families of facepiece that are ruled out by it. Never a diagnosis."""


@dataclass(frozen=True)
class Clearance:
    """Medical clearance as on file when the visit opened. Dates as YYYY-MM-DD; an empty ``until`` is not expired."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    status: Literal["cleared", "not cleared", "pending"]
    limits: tuple[str, ...]
    valid_from: str
    valid_until: str
    by: str

    def rules_out(self, piece: Facepiece) -> str:
        """Return the limit that rules a facepiece out, or nothing."""
        family = "scba" if piece.kind.startswith("scba") else piece.family
        return next((one for one in self.limits if family in LIMITS.get(one, ())), "")


Agent: TypeAlias = Literal["sweet", "bitter", "odour", "smoke"]


@dataclass(frozen=True)
class Lot:
    """A solution, jar or tube at the bench. ``role`` as the protocol's recipes name it; dates YYYY-MM-DD."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    id: str
    agent: Agent
    role: str
    number: str
    made_on: str
    use_by: str
    made_by: str


@dataclass(frozen=True)
class Nebuliser:
    """A nebuliser and what is in it. ``filled_at`` and ``checked_at`` are moments; an empty ``checked_at`` means that
    it has not been seen to spray since it was filled."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    id: str
    name: str
    role: str
    lot: Lot
    filled_at: str
    checked_at: str
