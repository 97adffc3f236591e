"""What protection a task needs: hazard ratio, required APF, the kinds that suffice, and up to which concentration."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from functools import lru_cache
from typing import Literal

from moorfog.core.arithmetic import NotANumber, cut, parse_decimal, whole_or_cut
from moorfog.core.events import Contaminant, Task
from moorfog.core.measure import Reason
from moorfog.core.rules import Book
from moorfog.core.same import Same

KINDS = (
    *("disposable_cup", "disposable_fold", "disposable_duckbill", "disposable_clip", "quarter", "half", "full"),
    *("powered_half", "powered_full", "supplied_demand_half", "supplied_demand_full", "supplied_half", "supplied_full"),
    *("scba_demand_full", "scba_full"),
)
AIR_PURIFYING = frozenset(one for one in KINDS if not one.startswith(("supplied", "scba")))


@dataclass(frozen=True)
class KindVerdict:
    """Whether a kind of facepiece suffices for a task. ``apf`` None: the book does not state it."""

    kind: str
    apf: Fraction | None
    suffices: Literal["yes", "no", "not stated"]
    why: str
    limits: tuple[str, ...]


@dataclass(frozen=True)
class Protection:
    """What a task needs. ``required`` None: it cannot be computed, and nothing air-purifying is enough."""

    hazard_ratio: Fraction | None
    required: Fraction | None
    worst: str
    kinds: tuple[KindVerdict, ...]
    reasons: tuple[Reason, ...]

    @property
    def is_stop(self) -> bool:
        """True where no air-purifying facepiece may be used at all."""
        return any(one.gravity == "stop" for one in self.reasons)


def apf(book: Book, kind: str, filter_class: str = "") -> Fraction | None:
    """Return the assigned protection factor a book states for a kind, None where it is silent; never another book's.

    A disposable's own class comes first where the book tells classes apart, then the half facepiece's.
    Source of the US values: 29 CFR 1910.134 (d)(3)(i)(A) Table 1 (recalled).
    """
    if kind.startswith("disposable"):
        by_class = book.ratio(f"apf.disposable.{filter_class}") if filter_class else None
        if by_class is not None or any(key.startswith("apf.disposable.") for key in book.values):
            return by_class
        return book.ratio("apf.half")
    return book.ratio(f"apf.{kind}")


def _figure(text: str, what: str) -> Fraction | None:
    if not text.strip():
        return None
    try:
        value = parse_decimal(text, what)
    except NotANumber:
        return None
    return value if value >= 0 else None


def hazard_ratio(one: Contaminant) -> Fraction | None:
    """Return exposure ÷ limit, exactly; None where either is unknown or the limit is not above zero."""
    exposure, limit = _figure(one.concentration, "concentration"), _figure(one.limit, "limit")
    if exposure is None or limit is None or limit <= 0:
        return None
    return exposure / limit


def maximum_use(one: Contaminant, factor: Fraction) -> tuple[Fraction | None, str]:
    """Return the maximum use concentration min(APF × limit, IDLH, cartridge limit) and what it is capped by.

    Source: 29 CFR 1910.134 (d)(3)(i)(B) (recalled). An unknown IDLH does not cap, and is said so.
    """
    limit = _figure(one.limit, "limit")
    if limit is None:
        return None, "the limit is not known"
    caps = {"APF × limit": factor * limit}
    for name, text in (("IDLH", one.idlh), ("cartridge limit", one.cartridge_limit)):
        value = _figure(text, name)
        if value is not None:
            caps[name] = value
    by = min(caps, key=lambda name: caps[name])
    words = f"by {by}" if "IDLH" in caps else f"by {by}; not capped by IDLH: check it"
    return caps[by], words


def _stops(task: Task, book: Book) -> list[Reason]:
    rule = "29 CFR 1910.134 (d)(2), (d)(3) (recalled)"
    remedy = "Self-contained or supplied air as the law has it; this is not decided at the bench."
    out: list[Reason] = []
    if task.is_idlh:
        out.append(
            Reason("idlh", "Immediately dangerous to life or health: never air-purifying.", rule, "stop", remedy)
        )
    if task.is_unknown or not task.contaminants:
        sentence = "Contaminant or concentration unknown: never air-purifying."
        out.append(Reason("unknown_hazard", sentence, rule, "stop", remedy))
    oxygen, minimum = _figure(task.oxygen_percent, "oxygen"), book.ratio("oxygen.minimum")
    if task.oxygen_percent.strip() and (oxygen is None or minimum is None or oxygen < minimum):
        sentence = (
            f"Oxygen {task.oxygen_percent} %: under {cut(minimum) if minimum else 'the minimum'} % never air-purifying."
        )
        out.append(Reason("oxygen", sentence, rule, "stop", remedy))
    for one in task.contaminants:
        if hazard_ratio(one) is None:
            sentence = f"{one.name}: concentration or limit is not known, so no ratio: never air-purifying on a guess."
            out.append(Reason("no_ratio", sentence, rule, "stop", "Have it measured; enter concentration and limit."))
        exposure, idlh = _figure(one.concentration, "concentration"), _figure(one.idlh, "IDLH")
        if exposure is not None and idlh is not None and exposure >= idlh:
            sentence = f"{one.name}: {one.concentration} {one.unit} reaches IDLH ({one.idlh}): never air-purifying."
            out.append(Reason("idlh", sentence, rule, "stop", remedy))
    return out


def protection(task: Task, book: Book, filter_class: str = "") -> Protection:
    """Return what a task needs under a book: required APF ≥ hazard ratio, which kinds suffice, and up to where."""
    return _protection(task, Same(book), filter_class)


@lru_cache(maxsize=512)
def _protection(task: Task, rule_book: Same[Book], filter_class: str) -> Protection:
    book = rule_book.one
    ratios = [(one, hazard_ratio(one)) for one in task.contaminants]
    known = [(ratio, one.name) for one, ratio in ratios if ratio is not None]
    worst = max(known, default=None)
    required = worst[0] if worst is not None and len(known) == len(ratios) else None
    reasons = _stops(task, book)
    kinds = tuple(_kind(one, task, book, required, bool(reasons), filter_class) for one in KINDS)
    return Protection(worst[0] if worst else None, required, worst[1] if worst else "", kinds, tuple(reasons))


def _kind(
    kind: str, task: Task, book: Book, required: Fraction | None, is_stop: bool, filter_class: str
) -> KindVerdict:
    factor = apf(book, kind, filter_class)
    if is_stop and kind in AIR_PURIFYING:
        return KindVerdict(kind, factor, "no", "never air-purifying here", ())
    if kind.startswith("disposable") and any(one.form != "particles" for one in task.contaminants):
        return KindVerdict(kind, factor, "no", "a disposable takes no gas or vapour", ())
    if factor is None:
        return KindVerdict(kind, None, "not stated", f"{book.title} states no APF for it here", ())
    if required is None:
        return KindVerdict(kind, factor, "no", "the needed factor is not known", ())
    limits = _limits(task.contaminants, factor)
    if factor < required:
        return KindVerdict(kind, factor, "no", f"APF {whole_or_cut(factor)} is below {cut(required)}", limits)
    for one in task.contaminants:
        highest, by = maximum_use(one, factor)
        exposure = _figure(one.concentration, "concentration")
        if highest is not None and exposure is not None and exposure > highest:
            return KindVerdict(kind, factor, "no", f"{one.name}: above {cut(highest)} {one.unit}, {by}", limits)
    return KindVerdict(kind, factor, "yes", f"APF {whole_or_cut(factor)} covers {cut(required)}", limits)


def _limits(contaminants: Sequence[Contaminant], factor: Fraction) -> tuple[str, ...]:
    out = []
    for one in contaminants:
        highest, by = maximum_use(one, factor)
        if highest is not None:
            out.append(f"{one.name}: up to {cut(highest)} {one.unit}, {by}")
    return tuple(out)
