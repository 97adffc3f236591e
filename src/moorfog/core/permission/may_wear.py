"""May this person wear this set-up at this task on this day; if not, every reason and who settles it.

The one place that answers it: screens, papers, lists and the API hand facts over and ask. Unknown in anything is a no.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Literal

from moorfog.core.advice.protection import protection, suffices
from moorfog.core.events.facts import Clearance, Facepiece, Task
from moorfog.core.kernel.arithmetic import cut
from moorfog.core.rules.book import Book
from moorfog.core.visit.blocks import clearance_blocks, is_file_missing, trained_until

EndsBy = Literal["test", "clearance", "training"]
Who = Literal["tester", "administrator", "supervisor", "clinician"]


@dataclass(frozen=True)
class Held:
    """A signed pass: in which set-up, when, from and until which day at the site (YYYY-MM-DD), up to which ratio.

    ``tested_at`` is a moment as text, to be compared with those of what ended it. ``up_to`` is the hazard ratio a
    qualitative test of a full facepiece allows, None without such a cap. ``level`` is what was reached.
    """

    visit_id: str
    no: int
    piece: Facepiece
    tested_at: str
    valid_from: str
    valid_until: str
    up_to: Fraction | None
    level: Fraction | None


@dataclass(frozen=True)
class End:
    """Something that ends or suspends passes of a set-up made before it: what, when, who settles it."""

    configuration: str
    at: str
    why: str
    by: Who
    is_suspension: bool = False
    visit_id: str = ""
    no: int = 0


ReportKind = Literal["face", "health", "facepiece", "workplace", "fit"]
REPORTED: dict[ReportKind, tuple[str, Who]] = {
    "face": ("A change of the face was reported", "tester"),
    "health": ("A change of health was reported", "clinician"),
    "facepiece": ("A change of the facepiece was reported", "tester"),
    "workplace": ("A change at the workplace was reported", "tester"),
    "fit": ("It was reported not to fit any more", "tester"),
}
"""What is said of a report, and who settles it (29 CFR 1910.134 (f)(3), (f)(4), (e)(7); recalled)."""


@dataclass(frozen=True)
class Report:
    """Something that somebody said has changed: from which moment on earlier passes are doubted (as text, to be
    compared with theirs), for which set-up (empty: all), on which day, by whom in words."""

    kind: ReportKind
    at: str
    on: str
    by: str
    configuration: str = ""


@dataclass(frozen=True)
class PersonFacts:
    """What is known of a person: clearances in the order they were filed, days of training, ends, signed passes,
    reports of change, and the clearances as "cleared", each with the moment it was filed and the day it begins."""

    clearances: tuple[Clearance, ...]
    trained: tuple[str, ...]
    ends: tuple[End, ...]
    passes: tuple[Held, ...]
    reports: tuple[Report, ...] = ()
    cleared: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True)
class Why:
    """One reason against wearing it, and who settles it."""

    code: str
    sentence: str
    settled_by: Who


@dataclass(frozen=True)
class Permission:
    """Whether it may be worn on the day; ``until`` is the last day on which it still may, empty where it may not, and
    ``ends_by`` is what ends then."""

    may: bool
    reasons: tuple[Why, ...]
    limits: tuple[str, ...]
    until: str
    ends_by: EndsBy | Literal[""] = ""


def clearance_on(clearances: Sequence[Clearance], day: str) -> Clearance | None:
    """Return the clearance that counts on a day: the last one filed of those that have begun by then.

    One that begins later does not take the place of today's; where none has begun, the next one, which says from when.
    """
    begun = [one for one in clearances if one.valid_from <= day]
    return begun[-1] if begun else clearances[-1] if clearances else None


def training_on(trained: Sequence[str], day: str) -> str:
    """Return the last day of training that is not after ``day``, or nothing."""
    return max((one for one in trained if one <= day), default="")


def may_wear(held: Held, person: PersonFacts, task: Task | None, book: Book, day: str) -> Permission:
    """Return whether a person may wear the set-up of a signed pass at a task on a day, under the site's book."""
    reasons = [*_of_the_pass(held, person, day), *_of_the_file(held.piece, person, book, day)]
    last_days: list[tuple[str, EndsBy]] = [(held.valid_until, "test")]
    clearance = clearance_on(person.clearances, day)
    if clearance is not None and clearance.valid_until:
        last_days.append((clearance.valid_until, "clearance"))
    trained = trained_until(book, training_on(person.trained, day), day)
    if trained and not book.text("training.kept_at"):
        last_days.append((trained, "training"))
    limits: tuple[str, ...] = ()
    if task is not None:
        found, needs = suffices(task, book, held.piece), protection(task, book)
        limits = found.limits
        if found.suffices != "yes":
            reasons.append(Why("task", f"Not enough for {task.name}: {found.why}.", "administrator"))
        elif held.up_to is not None and (needs.required is None or needs.required > held.up_to):
            words = f"Tested by taste or smell: up to {cut(held.up_to)} times the limit only; {task.name} needs more."
            reasons.append(Why("capped", words, "tester"))
    if reasons:
        return Permission(may=False, reasons=tuple(reasons), limits=limits, until="")
    until, ends_by = min(last_days, key=lambda one: one[0])
    return Permission(may=True, reasons=(), limits=limits, until=until, ends_by=ends_by)


def without_a_pass(person: PersonFacts, book: Book, day: str) -> tuple[Why, ...]:
    """Return everything against wearing anything, for somebody who has passed in nothing: the test is not all of it."""
    return Why("no_pass", "No signed pass in anything.", "tester"), *_of_the_file(None, person, book, day)


def _of_the_pass(held: Held, person: PersonFacts, day: str) -> list[Why]:
    out = []
    if day < held.valid_from:
        out.append(Why("not_yet", f"Tested on {held.valid_from} only.", "tester"))
    if day > held.valid_until:
        out.append(Why("ended", f"The test counted until {held.valid_until}.", "tester"))
    for one in person.ends:
        is_of_this = (one.visit_id, one.no) == (held.visit_id, held.no)
        if one.is_suspension:
            if is_of_this:
                out.append(Why("suspended", one.why, one.by))
        elif one.configuration == held.piece.configuration and one.at > held.tested_at:
            out.append(Why("failed_since", one.why, one.by))
    out += [_said(one) for one in person.reports if _doubts(one, held, person)]
    level = held.level
    if level is not None and held.piece.level_key == "":
        out.append(Why("no_level", "This kind has no stated pass level.", "administrator"))
    return out


def _doubts(one: Report, held: Held, person: PersonFacts) -> bool:
    """Whether a report ends a pass: a test since then settles it, a change of health only a clearance filed since."""
    if one.configuration not in ("", held.piece.configuration):
        return False
    return is_open(one, person.cleared) if one.kind == "health" else one.at >= held.tested_at


def is_open(one: Report, cleared: Sequence[tuple[str, str]]) -> bool:
    """Whether a reported change of health waits for the clinician: no clearance was filed since that begins on the day
    of the change or later. An older one that is filed late knows nothing of it."""
    return one.kind == "health" and not any(filed > one.at and begins >= one.on for filed, begins in cleared)


def _said(one: Report) -> Why:
    words, by = REPORTED[one.kind]
    return Why(f"reported_{one.kind}", f"{words} on {one.on}, by {one.by}.", by)


def _of_the_file(piece: Facepiece | None, person: PersonFacts, book: Book, day: str) -> list[Why]:
    out: list[Why] = []
    one = clearance_on(person.clearances, day)
    if one is None:
        if is_file_missing(book, "medical"):
            out.append(Why("no_clearance", "No clearance on file.", "clinician"))
    else:
        blocking = clearance_blocks(one, day, piece)
        out += [Why(code, f"{sentence}.", "clinician") for code, sentence, _ in blocking]
    if is_file_missing(book, "training") and not trained_until(book, training_on(person.trained, day), day):
        had = training_on(person.trained, day)
        words = f"The training of {had} no longer counts." if had else "No training on file."
        out.append(Why("training", words, "administrator"))
    return out
