"""Which fit-test methods may be used for a facepiece, under a book, for a hazard and a person, and which is best.

Source of the US rules: 29 CFR 1910.134 (f) and App. A (recalled).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction
from functools import lru_cache
from typing import Literal

from moorfog.core.events.payloads import Facepiece
from moorfog.core.kernel.arithmetic import whole_or_cut
from moorfog.core.kernel.identity import Identity
from moorfog.core.rules.book import Book, Rules

Method = Literal["sweet", "bitter", "odour", "smoke", "ambient_count", "aerosol", "negative_pressure"]
METHODS: tuple[Method, ...] = ("sweet", "bitter", "odour", "smoke", "ambient_count", "aerosol", "negative_pressure")
QUALITATIVE = frozenset(("sweet", "bitter", "odour", "smoke"))
WORDS: dict[str, str] = {
    "sweet": "Sweet taste (saccharin)",
    "bitter": "Bitter taste (denatonium benzoate)",
    "odour": "Odour (isoamyl acetate)",
    "smoke": "Irritant smoke (stannic chloride)",
    "ambient_count": "Ambient particle count",
    "aerosol": "Generated aerosol, photometer",
    "negative_pressure": "Controlled negative pressure",
}


def method_words(method: str) -> str:
    """Return a method in words; one that is not known, or none, as it is."""
    return WORDS.get(method, method)


@dataclass(frozen=True)
class Kit:
    """What is at hand: methods with a sound kit today. A counter counts as ``ambient_count``."""

    methods: frozenset[Method]


@dataclass(frozen=True)
class Wearer:
    """What is known of the person that decides a method: agents they could not taste or smell, or may not meet."""

    out: frozenset[Method] = frozenset()


@dataclass(frozen=True)
class MethodAdvice:
    """One method: whether it may be used, what it limits, why or why not; ``mode`` where a counter counts."""

    method: Method
    verdict: Literal["may", "not permitted", "not here"]
    is_best: bool
    reasons: tuple[str, ...]
    limits: tuple[str, ...]
    mode: Literal["", "ordinary", "classified"] = ""


def counter_mode(book: Book, filter_class: str) -> Literal["", "ordinary", "classified"]:
    """Return the mode a filter class is counted in, empty where no mode suits it."""
    if filter_class in book.words("mode.ordinary.filters"):
        return "ordinary"
    return "classified" if filter_class in book.words("mode.classified.filters") else ""


def _by_filter(method: Method, piece: Facepiece, book: Book) -> str:
    """Return why the filters at hand rule a method out, or nothing."""
    takes_particles = piece.filter_kind in ("media", "particulate", "combined")
    takes_gas = piece.filter_kind in ("gas", "combined")
    if method in ("sweet", "bitter"):
        return "" if takes_particles else "a taste test needs a particulate filter on"
    if method == "smoke":
        if not takes_particles or piece.filter_class != "100-type":
            return "smoke needs the highest class of filter (HEPA, 100-type)"
        return ""
    if method == "odour":
        if piece.family == "disposable":
            return "odour goes through a disposable's filter"
        return "" if takes_gas else "odour needs organic-vapour cartridges on"
    if method == "ambient_count":
        return (
            ""
            if counter_mode(book, piece.filter_class)
            else f"no counter mode suits the filter class {piece.filter_class!r}"
        )
    if method == "aerosol":
        allowed = book.words("mode.photometer.filters")
        return "" if piece.filter_class in allowed else "the aerosol needs the highest class of filter"
    return "not for disposables: there is no hard edge to draw against" if piece.family == "disposable" else ""


def _by_book(method: Method, piece: Facepiece, book: Book, required: Fraction | None) -> tuple[str, tuple[str, ...]]:
    """Return why a book rules a method out, or nothing, and the limits of use it brings."""
    level = book.ratio(piece.level_key)
    if method == "smoke" and book.yes("smoke.allowed") is not True:
        return f"{book.title}: irritant smoke is off here", ()
    if method not in QUALITATIVE:
        if level is None:
            return f"{book.title} states no pass level for this kind here: enter it from your own copy", ()
        if method == "ambient_count" and counter_mode(book, piece.filter_class) == "classified":
            cap = book.ratio("mode.classified.cap")
            if cap is not None and level > cap:
                return f"size-classified mode reports at most {cap}; it cannot show {level}", ()
        return "", ()
    if piece.level_key != "level.half" and book.text("qlft.full") != "limited":
        return f"{book.title}: no qualitative test for full facepieces", ()
    if not piece.traits.is_negative:
        return "", ()  # tested in negative-pressure mode and worn in its own: 29 CFR 1910.134 (f)(8) (recalled)
    maximum = book.ratio("qlft.maximum_factor")
    if piece.traits.outline == "full":
        return _full_by_taste(book, required)
    if maximum is None:
        return f"{book.title} states no limit for qualitative tests here", ()
    if level is not None and level > maximum:
        return f"it needs a fit factor of {level}; a qualitative test shows {maximum} at most", ()
    return "", ()


def _full_by_taste(book: Book, required: Fraction | None) -> tuple[str, tuple[str, ...]]:
    rule = book.text("qlft.full")
    if rule != "limited":
        return f"{book.title}: no qualitative test for full facepieces", ()
    if required is None:
        return "the hazard is not known, so no multiple of the limit can be promised", ()
    most = full_by_taste_up_to(book)
    if required > most:
        return (
            f"a full facepiece passed this way may be used up to {most} times the limit only; this task needs more",
            (),
        )
    return "", (f"up to {most} times the limit only",)


def takes_by_taste(method: str, piece: Facepiece, book: Book) -> tuple[str, Fraction | None]:
    """Return why a book takes no pass by a qualitative method in a facepiece, or nothing, and up to which hazard ratio
    one may be used (None: no cap of its own)."""
    most = full_by_taste_up_to(book)
    known = next((one for one in METHODS if one == method), None) if method in QUALITATIVE else None
    why = _by_book(known, piece, book, most)[0] if known is not None else f"{method!r} is no method known here"
    return why, cap_by_taste(piece, book)


def up_to_words(most: Fraction) -> str:
    """Return the limit of use of a full facepiece that was passed by taste or smell, in words."""
    return f"Up to {whole_or_cut(most)} times the limit only, by this method."


def cap_by_taste(piece: Facepiece, book: Book) -> Fraction | None:
    """Return up to which hazard ratio a facepiece passed by taste or smell may be used, None without a cap."""
    is_capped = piece.traits.is_negative and piece.traits.outline == "full"
    return full_by_taste_up_to(book) if is_capped and book.text("qlft.full") == "limited" else None


def full_by_taste_up_to(book: Book) -> Fraction:
    """Return the hazard ratio up to which a full facepiece passed by taste or smell may be used.

    A book from before it was a value of its own meant ten, the factor of 29 CFR 1910.134 (f)(6) (recalled).
    """
    return book.ratio("qlft.full_up_to") or Fraction(10)


def advise(
    piece: Facepiece, rules: Rules, required: Fraction | None, kit: Kit, wearer: Wearer
) -> tuple[MethodAdvice, ...]:
    """Return every method in a fixed order: may, not permitted, or permitted but not here, each with its reasons.

    ``required`` is the APF the task needs, None where no task is known. The best is a counting method with the kit at
    hand, which gives a number; otherwise the first qualitative one.
    """
    return _advise(piece, Identity(rules), required, kit, wearer)


@lru_cache(maxsize=1024)
def _advise(
    piece: Facepiece, pinned: Identity[Rules], required: Fraction | None, kit: Kit, wearer: Wearer
) -> tuple[MethodAdvice, ...]:
    rules = pinned.one
    book = rules.book
    checks: tuple[Callable[[Method], str], ...] = (
        lambda method: _by_filter(method, piece, book),
        lambda method: (
            "this person is out of it: not tasted, smelt or reacted to, or not to be met"
            if method in wearer.out
            else ""
        ),
        lambda method: _by_protocol(method, piece, rules),
    )
    found: list[MethodAdvice] = []
    for method in METHODS:
        by_book, limits = _by_book(method, piece, book, required)
        by_filter, *others = (one(method) for one in checks)
        blocking = tuple(reason for reason in (by_filter, by_book, *others) if reason)
        mode = counter_mode(book, piece.filter_class) if method == "ambient_count" else ""
        if blocking:
            found.append(
                MethodAdvice(
                    method=method, verdict="not permitted", is_best=False, reasons=blocking, limits=(), mode=mode
                )
            )
        elif method not in kit.methods:
            found.append(
                MethodAdvice(
                    method=method,
                    verdict="not here",
                    is_best=False,
                    reasons=("no kit for it is ready here today; see Kit",),
                    limits=limits,
                    mode=mode,
                )
            )
        else:
            found.append(
                MethodAdvice(
                    method=method,
                    verdict="may",
                    is_best=False,
                    reasons=(_why(method, piece),),
                    limits=limits,
                    mode=mode,
                )
            )
    order: tuple[Method, ...] = ("ambient_count", "aerosol", "negative_pressure", "bitter", "sweet", "odour", "smoke")
    best = next((one for one in order for each in found if each.method == one and each.verdict == "may"), None)
    return tuple(
        MethodAdvice(
            method=one.method,
            verdict=one.verdict,
            is_best=one.method == best,
            reasons=one.reasons,
            limits=one.limits,
            mode=one.mode,
        )
        for one in found
    )


def method_stands(method: str, piece: Facepiece, rules: Rules, required: Fraction | None, out: frozenset[str]) -> str:
    """Return why a method cannot be used for a facepiece and person, or nothing. Kit is not judged here."""
    wearer = Wearer(frozenset(one for one in METHODS if one in out))
    found = next(
        (one for one in advise(piece, rules, required, Kit(frozenset(METHODS)), wearer) if one.method == method), None
    )
    if found is None:
        return f"{method!r} is no method known here"
    return "" if found.verdict == "may" else "; ".join(found.reasons)


def _why(method: Method, piece: Facepiece) -> str:
    if method in QUALITATIVE:
        return (
            "pass or fail, no number"
            if piece.traits.is_negative
            else "tested in negative-pressure mode, fan off; restored after"
        )
    return "gives a number for each exercise" + ("" if piece.traits.is_negative else "; fan off, restored after")


def _by_protocol(method: Method, piece: Facepiece, rules: Rules) -> str:
    if rules.protocol_for(method, piece.kind) is not None:
        return ""
    if any(name not in rules.book.protocols for name in rules.book.protocols_on_confirmation):
        return f"{rules.book.title}: no protocol for it is allowed until the site confirms one from its own copy"
    return f"{rules.book.title} allows no such protocol for this kind"
