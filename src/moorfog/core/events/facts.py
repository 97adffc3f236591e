"""Facts that events carry by value: facepiece, task, counter, clearance. A record can be judged without any list."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar, Literal, TypeAlias

from moorfog.core.kernel.canonical import digest

FULL_LEVEL = "level.full"
"""The rule by which whatever covers the whole face is judged."""
STRICT: Mapping[str, Any] = {"strict": True, "extra": "forbid"}
Outline: TypeAlias = Literal["disposable", "half", "full"]
Form: TypeAlias = Literal["particles", "gas or vapour", "both"]
Pressure: TypeAlias = Literal["negative", "demand", "continuous", "pressure demand"]


@dataclass(frozen=True)
class Kind:
    """What a kind of facepiece is judged by, by value: never worked out from its name.

    ``level`` and ``apf`` are keys of the rule book; an empty ``level``: it has none and cannot be tested.
    ``ruled_out_by``: limits of a clearance that rule it out. ``air``: cleaned by filters, supplied, or carried along.
    ``pressure``: what drives the air in: the wearer's breath alone, on demand of that breath, a steady flow, or a
    pressure that never falls below the outside; empty in events from before it was written down.
    """

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    id: str
    title: str
    family: Literal["disposable", "half", "full", "powered"]
    air: Literal["purifying", "supplied", "self-contained"]
    level: str
    apf: str
    ruled_out_by: tuple[str, ...]
    pressure: Pressure | Literal[""] = ""
    weight: Literal["light", "heavy", ""] = ""

    @property
    def is_negative(self) -> bool:
        """Whether breathing in draws the inside below the outside: tested, limited and put back as such."""
        if not self.pressure:
            return self.family != "powered"
        return self.pressure in ("negative", "demand")

    @property
    def outline(self) -> Outline:
        """Return how it sits on a face: a powered or supplied one like the full or half facepiece it is."""
        if self.family == "full" or self.level == FULL_LEVEL:
            return "full"
        return "disposable" if self.family == "disposable" else "half"


@dataclass(frozen=True)
class WorkFilter:
    """A filter or cartridge that a facepiece takes at work: what it stops, its class, the kinds of gas it is for."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    form: Form
    filter_class: str
    cartridges: tuple[str, ...] = ()


@dataclass(frozen=True)
class Facepiece:
    """A facepiece as it is on the face: model version, size and set-up, by value.

    ``filter_kind`` and ``filter_class`` are what is on it in the test; ``work`` is what it takes at work.
    ``has_escape_cylinder``: supplied air with a cylinder of its own to get out by.
    """

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
    traits: Kind
    work: tuple[WorkFilter, ...]
    has_escape_cylinder: bool = False

    @property
    def family(self) -> str:
        """Return disposable, half, full or powered."""
        return self.traits.family

    @property
    def level_key(self) -> str:
        """Return which pass level of a rule book it is judged by: the facepiece decides, not the hazard."""
        return self.traits.level

    @property
    def worn_as(self) -> str:
        """Return how it is worn, in words: suspension, clip, filter class, other gear."""
        return ", ".join(part for part in (self.suspension, self.clip, self.filter_class, *self.ppe) if part)

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
    cartridge: str = ""
    """The kind of cartridge it needs; empty: the task's own."""


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
    ``said_serial`` is the serial number that the instrument on the link says it has, empty where it says none.
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
    required: tuple[str, ...] = ("room_air", "clean_air", "clean_line_ratio")
    charged_at: str = ""
    charge_h: int = 0
    said_serial: str = ""


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
        return next((one for one in self.limits if one in piece.traits.ruled_out_by), "")


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
