"""What protection a task needs: hazard ratio, required APF, what suffices with which work filters, and up to where.

Test filters prove the face only. What is worn at work must itself stop every contaminant of the task.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from functools import lru_cache
from typing import Literal

from moorfog.core.events.payloads import Contaminant, Facepiece, Kind, Task, WorkFilter
from moorfog.core.kernel.arithmetic import NotANumber, cut, parse_decimal, whole_or_cut
from moorfog.core.kernel.identity import Identity
from moorfog.core.rules.book import Book
from moorfog.core.rules.reason import Reason


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
    reasons: tuple[Reason, ...]

    @property
    def is_stop(self) -> bool:
        """True where no air-purifying facepiece may be used at all."""
        return any(one.gravity == "stop" for one in self.reasons)


STATED = "protection.stated"
"""Where a book says so, what a task needs and what a facepiece gives must be stated for exactly this: no oxygen that
nobody measured, no factor of another kind, class or part. Books from before judge as they did."""


def apf(book: Book, kind: Kind, filter_class: str = "") -> Fraction | None:
    """Return the assigned protection factor a book states for a kind, None where it is silent; never another book's.

    Where the book tells filter classes apart, that of exactly the class worn counts, and "gas" for what stops gas.
    Source of the US values: 29 CFR 1910.134 (d)(3)(i)(A) Table 1 (recalled).
    """
    is_stated = book.yes(STATED) is True
    if any(key.startswith(f"{kind.apf}.") and (is_stated or value.is_on) for key, value in book.values.items()):
        return book.ratio(f"{kind.apf}.{filter_class}") if filter_class else None
    found = book.ratio(kind.apf)
    return book.ratio("apf.half") if found is None and kind.family == "disposable" and not is_stated else found


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
    stated = book.find("oxygen.minimum")
    rule = stated.source if stated is not None else "common practice"
    remedy = "Self-contained or supplied air as the law has it; this is not decided at the bench."
    out: list[Reason] = []
    if task.is_idlh:
        out.append(
            Reason(
                code="idlh",
                sentence="Immediately dangerous to life or health: never air-purifying.",
                rule=rule,
                gravity="stop",
                remedy=remedy,
            )
        )
    if task.is_unknown or not task.contaminants:
        sentence = "Contaminant or concentration unknown: never air-purifying."
        out.append(Reason(code="unknown_hazard", sentence=sentence, rule=rule, gravity="stop", remedy=remedy))
    oxygen, minimum = _figure(task.oxygen_percent, "oxygen"), book.ratio("oxygen.minimum")
    if not task.oxygen_percent.strip() and book.yes(STATED):
        out.append(
            Reason(
                code="oxygen_unknown",
                sentence="Oxygen is not stated: never air-purifying on a guess.",
                rule=rule,
                gravity="stop",
                remedy="Have it measured; enter it in the task.",
                keys=("oxygen.minimum", STATED),
            )
        )
    if task.oxygen_percent.strip() and (oxygen is None or minimum is None or oxygen < minimum):
        sentence = (
            f"Oxygen {task.oxygen_percent} %: under {cut(minimum) if minimum else 'the minimum'} % never air-purifying."
        )
        out.append(
            Reason(code="oxygen", sentence=sentence, rule=rule, gravity="stop", remedy=remedy, keys=("oxygen.minimum",))
        )
    for one in task.contaminants:
        if hazard_ratio(one) is None:
            sentence = f"{one.name}: concentration or limit is not known, so no ratio: never air-purifying on a guess."
            out.append(
                Reason(
                    code="no_ratio",
                    sentence=sentence,
                    rule=rule,
                    gravity="stop",
                    remedy="Have it measured; enter concentration and limit.",
                )
            )
        exposure, idlh = _figure(one.concentration, "concentration"), _figure(one.idlh, "IDLH")
        if exposure is not None and idlh is not None and exposure >= idlh:
            sentence = f"{one.name}: {one.concentration} {one.unit} reaches IDLH ({one.idlh}): never air-purifying."
            out.append(Reason(code="idlh", sentence=sentence, rule=rule, gravity="stop", remedy=remedy))
    return out


def protection(task: Task, book: Book) -> Protection:
    """Return what a task needs under a book: required APF ≥ hazard ratio, and what forbids air-purifying altogether."""
    return _protection(task, Identity(book))


@lru_cache(maxsize=512)
def _protection(task: Task, rule_book: Identity[Book]) -> Protection:
    ratios = [(one, hazard_ratio(one)) for one in task.contaminants]
    known = [(ratio, one.name) for one, ratio in ratios if ratio is not None]
    worst = max(known, default=None)
    required = worst[0] if worst is not None and len(known) == len(ratios) else None
    reasons = tuple(_stops(task, rule_book.one))
    return Protection(worst[0] if worst else None, required, worst[1] if worst else "", reasons)


def may_enter_danger(kind: Kind, has_escape_cylinder: bool) -> bool:
    """Return whether a kind is one for air that is immediately dangerous, or in which oxygen is low or unknown: only a
    full facepiece under pressure demand, self-contained or supplied with an escape cylinder of its own.

    Source: 29 CFR 1910.134 (d)(2) (recalled).
    """
    if kind.outline != "full" or kind.pressure != "pressure demand":
        return False
    return kind.air == "self-contained" or (kind.air == "supplied" and has_escape_cylinder)


def kind_suffices(
    task: Task, book: Book, kind: Kind, filter_class: str = "", has_escape_cylinder: bool = False
) -> KindVerdict:
    """Return whether a kind is enough for a task by its factor, whatever its filters stop; see :func:`suffices`.

    For each contaminant the factor of the part that stops it counts: of the filter class for particles, of "gas" for
    gas or vapour, the smaller of both for both.
    """
    needs = protection(task, book)

    def no(why: str, limits: tuple[str, ...] = (), factor: Fraction | None = None) -> KindVerdict:
        return KindVerdict(kind=kind.id, apf=factor, suffices="no", why=why, limits=limits)

    factors = [_factor(one, book, kind, filter_class) for one in task.contaminants]
    known = [one for one in factors if one is not None]
    least = min(known, default=None) if len(known) == len(factors) else None
    if needs.is_stop and kind.air == "purifying":
        why = next(one.sentence for one in needs.reasons if one.gravity == "stop").rstrip(".")
        return no(f"never air-purifying here. {why}", factor=least)
    if needs.is_stop and book.yes(STATED) and not may_enter_danger(kind, has_escape_cylinder):
        return no(
            "only a full facepiece under pressure demand, self-contained or with an escape cylinder, goes in here",
            factor=least,
        )
    if kind.family == "disposable" and any(one.form != "particles" for one in task.contaminants):
        return no("a disposable takes no gas or vapour", factor=least)
    if least is None:
        why = f"{book.title} states no APF for it here"
        return KindVerdict(kind=kind.id, apf=None, suffices="not stated", why=why, limits=())
    if needs.required is None:
        return no("the needed factor is not known", factor=least)
    with_factors = list(zip(task.contaminants, known, strict=True))
    limits = _limits(with_factors)
    for one, factor in with_factors:
        ratio = hazard_ratio(one)
        if ratio is None or factor < ratio:
            needed = cut(ratio) if ratio is not None else "what is needed"
            return no(f"APF {whole_or_cut(factor)} is below {needed}", limits, factor)
    for one, factor in with_factors:
        highest, by = maximum_use(one, factor)
        exposure = _figure(one.concentration, "concentration")
        if highest is not None and exposure is not None and exposure > highest:
            return no(f"{one.name}: above {cut(highest)} {one.unit}, {by}", limits, factor)
    why = f"APF {whole_or_cut(least)} covers {cut(needs.required)}"
    return KindVerdict(kind=kind.id, apf=least, suffices="yes", why=why, limits=limits)


def _factor(one: Contaminant, book: Book, kind: Kind, filter_class: str) -> Fraction | None:
    """Return the factor of the part that stops a contaminant; of a class a book from before took for all of them."""
    if not book.yes(STATED):
        return apf(book, kind, filter_class)
    classes = {"particles": (filter_class,), "gas or vapour": ("gas",), "both": (filter_class, "gas")}[one.form]
    found = [apf(book, kind, each) for each in classes]
    stated = [each for each in found if each is not None]
    return min(stated) if len(stated) == len(found) else None


def suffices(task: Task, book: Book, piece: Facepiece) -> KindVerdict:
    """Return whether a set-up is enough for a task as it is worn at work: its factor, and filters that stop it all.

    A book from before filter classes were put in order (``filters.order``) judges the factor alone, as it did then.
    """
    return _suffices(task, Identity(book), piece)


@lru_cache(maxsize=512)
def _suffices(task: Task, rule_book: Identity[Book], piece: Facepiece) -> KindVerdict:
    book = rule_book.one
    if not book.words(ORDER):
        return kind_suffices(task, book, piece.traits, piece.filter_class)
    if piece.traits.air != "purifying":
        return kind_suffices(task, book, piece.traits, has_escape_cylinder=piece.has_escape_cylinder)
    filters = work_filters(piece)
    if not filters:
        by_kind = kind_suffices(task, book, piece.traits)
        sentence = f"{piece.model}: which filters it takes at work is not stated; the test filters prove the face only"
        return KindVerdict(kind=by_kind.kind, apf=by_kind.apf, suffices="no", why=sentence, limits=by_kind.limits)
    found = [_with_filter(task, book, piece.traits, one) for one in filters]
    return next((one for one in found if one.suffices == "yes"), found[0])


ORDER = "filters.order"
"""The book's filter classes for particles, weakest first; keys that go on from it hold those of another system."""


def work_filters(piece: Facepiece) -> tuple[WorkFilter, ...]:
    """Return what a facepiece takes at work: as the model states it, else what is on it in the test, if that is worn
    at work too. A set of test filters says nothing about work."""
    if piece.work:
        return piece.work
    if piece.test_filters:
        return ()
    if piece.filter_kind in ("media", "particulate"):
        return (WorkFilter("particles", piece.filter_class),)
    return (WorkFilter("gas or vapour" if piece.filter_kind == "gas" else "both", piece.filter_class),)


def _with_filter(task: Task, book: Book, kind: Kind, worn: WorkFilter) -> KindVerdict:
    by_class = worn.filter_class if worn.form != "gas or vapour" or book.yes(STATED) else "gas"
    verdict = kind_suffices(task, book, kind, by_class)
    blocking = not_stopped(task, book, worn) if verdict.suffices == "yes" else ""
    return (
        KindVerdict(kind=verdict.kind, apf=verdict.apf, suffices="no", why=blocking, limits=verdict.limits)
        if blocking
        else verdict
    )


def not_stopped(task: Task, book: Book, worn: WorkFilter) -> str:
    """Return the first contaminant of a task that a work filter does not stop, and why, or nothing.

    What the task does not say, a class or a kind of cartridge, is not stopped: unknown is never enough.
    """
    for one in task.contaminants:
        if one.form in ("particles", "both"):
            if worn.form == "gas or vapour":
                return f"{one.name}: a gas cartridge alone stops no particles"
            orders = [book.words(key) for key in book.values if key == ORDER or key.startswith(f"{ORDER}.")]
            known = [order for order in orders if task.work_filter in order]
            if not known:
                return f"{one.name}: the task names no filter class that this rule book knows"
            if not any(worn.filter_class in order[order.index(task.work_filter) :] for order in known):
                return f"{one.name}: needs {task.work_filter} filters, this takes {worn.filter_class or 'none stated'}"
        if one.form in ("gas or vapour", "both"):
            needed = one.cartridge or task.work_cartridge
            if worn.form == "particles":
                return f"{one.name}: a particle filter takes no gas or vapour"
            if not needed:
                return f"{one.name}: the task names no cartridge for it"
            if needed not in worn.cartridges:
                takes = ", ".join(worn.cartridges) or "none stated"
                return f"{one.name}: needs {needed} cartridges, this takes {takes}"
    return ""


def _limits(contaminants: Sequence[tuple[Contaminant, Fraction]]) -> tuple[str, ...]:
    out = []
    for one, factor in contaminants:
        highest, by = maximum_use(one, factor)
        if highest is not None:
            out.append(f"{one.name}: up to {cut(highest)} {one.unit}, {by}")
    return tuple(out)
