"""May this person wear this set-up at this task on this day; if not, every reason and who settles it.

The one place that answers it: screens, papers, lists and the API hand facts over and ask. It is the question of the
day, with the facts of the day, under the rules of the day. Unknown in anything is a no.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from fractions import Fraction
from typing import Literal

from moorfog.core.advice.methods import METHODS, QUALITATIVE, takes_by_taste, up_to_words
from moorfog.core.advice.protection import protection, suffices
from moorfog.core.events.facts import Clearance, Facepiece, Task
from moorfog.core.kernel.arithmetic import cut, whole_or_cut
from moorfog.core.rules.book import Book
from moorfog.core.rules.in_force import Books
from moorfog.core.rules.validity import INTERVAL, valid_until
from moorfog.core.visit.blocks import clearance_blocks, is_file_missing, trained_until

EndsBy = Literal["test", "clearance", "training"]
Who = Literal["tester", "administrator", "supervisor", "clinician"]


@dataclass(frozen=True)
class Held:
    """A signed pass: in which set-up, when, from and until which day at the site (YYYY-MM-DD), and what was shown.

    ``tested_at`` is a moment as text, to be compared with those of what ended it. ``up_to`` is the hazard ratio a
    qualitative test of a full facepiece allows, None without such a cap. ``overall`` and ``lowest`` are the fit factor
    over all and that of the worst exercise, None where the method gives no number. ``protocol`` is empty for a pass of
    before, which no protocol of ours was run for.
    """

    visit_id: str
    no: int
    piece: Facepiece
    tested_at: str
    valid_from: str
    valid_until: str
    up_to: Fraction | None
    method: str
    protocol: str
    overall: Fraction | None
    lowest: Fraction | None


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
class NoTask:
    """Somebody's task is none of their site's: as it is written (empty: nothing is). Which air it is, nobody knows."""

    name: str


@dataclass(frozen=True)
class Why:
    """One reason against wearing it, and who settles it."""

    code: str
    sentence: str
    settled_by: Who


@dataclass(frozen=True)
class Permission:
    """Whether it may be worn on the day; ``until`` is the last day before the first on which it may not, empty where
    it may not now, and ``ends_by`` is what ends then."""

    may: bool
    reasons: tuple[Why, ...]
    limits: tuple[str, ...]
    until: str
    ends_by: EndsBy | Literal[""] = ""


def clearance_on(clearances: Sequence[Clearance], day: str) -> Clearance | None:
    """Return the decision that counts on a day: the newest of those that have begun, by its own day, then by filing.

    One that begins later does not take the place of today's; where none has begun, the next one, which says from when.
    One that was followed by another does not come back when that one runs out.
    """
    order = sorted(clearances, key=lambda one: one.valid_from)
    begun = [one for one in order if one.valid_from <= day]
    return begun[-1] if begun else order[0] if order else None


def training_on(trained: Sequence[str], day: str) -> str:
    """Return the last day of training that is not after ``day``, or nothing."""
    return max((one for one in trained if one <= day), default="")


def may_wear(held: Held, person: PersonFacts, task: Task | NoTask, books: Books, day: str) -> Permission:
    """Return whether a person may wear the set-up of a signed pass at a task on a day, under the site's books.

    ``until`` is found by asking for every later day on which a fact or a rule begins or ends.
    """
    reasons, limits = _on_day(held, person, task, books, day)
    if reasons:
        return Permission(may=False, reasons=tuple(reasons), limits=limits, until="")
    for later in _days_of_change(held, person, books):
        if later > day:
            against, _ = _on_day(held, person, task, books, later)
            if against:
                return Permission(may=True, reasons=(), limits=limits, until=_before(later), ends_by=_ends_by(against))
    return Permission(may=True, reasons=(), limits=limits, until=held.valid_until, ends_by="test")


def without_a_pass(person: PersonFacts, books: Books, day: str) -> tuple[Why, ...]:
    """Return everything against wearing anything, for somebody who has passed in nothing: the test is not all of it."""
    nothing = Why("no_pass", "No signed pass in anything.", "tester")
    return nothing, *_of_the_file(None, person, books.on(day), day)


def _on_day(
    held: Held, person: PersonFacts, task: Task | NoTask, books: Books, day: str
) -> tuple[list[Why], tuple[str, ...]]:
    """Return everything against wearing it on a day, and the limits under which it is worn."""
    book = books.on(day)
    reasons = [*_of_the_pass(held, person, day), *_of_the_book(book)]
    of_the_rules, cap = _of_the_rules(held, book, day)
    transition = _transition(held, book, day)
    limits: list[str] = [up_to_words(cap)] if cap is not None else []
    if transition and of_the_rules and all(one.code in CARRIED for one in of_the_rules):
        limits.append(transition)
    else:
        reasons += of_the_rules
    reasons += _of_the_file(held.piece, person, book, day)
    if isinstance(task, NoTask):
        reasons.append(_no_task(task))
        return reasons, tuple(limits)
    found, needs = suffices(task, book, held.piece), protection(task, book)
    limits += found.limits
    if found.suffices != "yes":
        reasons.append(Why("task", f"Not enough for {task.name}: {found.why}.", "administrator"))
    elif cap is not None and (needs.required is None or needs.required > cap):
        words = f"Tested by taste or smell: up to {cut(cap)} times the limit only; {task.name} needs more."
        reasons.append(Why("capped", words, "tester"))
    return reasons, tuple(limits)


def _no_task(task: NoTask) -> Why:
    if not task.name.strip():
        return Why("no_task", "No task on file: which air they work in is not known.", "administrator")
    words = f"“{task.name}” is no task of their site: choose one of its tasks on their page."
    return Why("no_task", words, "administrator")


def _days_of_change(held: Held, person: PersonFacts, books: Books) -> list[str]:
    """Return, in order, every day on which the answer may become another one though nothing is entered."""
    rules = ("", *books.changes)
    days = {held.valid_from, _after(held.valid_until), *books.changes}
    for since in rules:
        book = books.on(since)
        months = book.ratio(INTERVAL)
        if months is not None:
            days.add(_after(valid_until(date.fromisoformat(held.valid_from), int(months)).isoformat()))
        days |= {_after(until) for one in person.trained if (until := trained_until(book, one, one))}
        until = book.text(TRANSITION)
        days |= {_after(until)} if until else set()
    days |= {one.valid_from for one in person.clearances} | set(person.trained)
    days |= {_after(one.valid_until) for one in person.clearances if one.valid_until}
    return sorted(days)


def _after(day: str) -> str:
    return (date.fromisoformat(day) + timedelta(days=1)).isoformat() if day < "9999-12-31" else day


def _before(day: str) -> str:
    return (date.fromisoformat(day) - timedelta(days=1)).isoformat()


def _ends_by(against: Iterable[Why]) -> EndsBy:
    first = next(iter(against))
    return "training" if first.code == "training" else "clearance" if first.settled_by == "clinician" else "test"


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
        elif one.configuration == held.piece.configuration and one.at >= held.tested_at:
            out.append(Why("failed_since", one.why, one.by))
    out += [_said(one) for one in person.reports if _doubts(one, held, person, day)]
    return out


def _of_the_book(book: Book) -> list[Why]:
    """Return what stands against everything under a book: an entry of the site that nobody can read."""
    words = "The site’s own entry for {} cannot be read: enter it anew under Rule books."
    return [Why("unsettled", words.format(", ".join(book.unsettled)), "administrator")] if book.unsettled else []


TRANSITION = "former.until"
"""Until when a site says, with a written reason, that passes by the rules before a change still count."""


CARRIED = ("level", "ended", "protocol", "method")
"""What of the rules such a word carries a pass over: what has changed, never what nobody states."""


def _transition(held: Held, book: Book, day: str) -> str:
    """Return the words under which a pass that today's rules would not take still counts, or nothing."""
    said = book.find(TRANSITION)
    if said is None or not said.changed or not day <= str(said.value) or held.valid_from > said.in_force:
        return ""
    return f"Counts by the rules of before until {said.value}: {said.changed}."


def _of_the_rules(held: Held, book: Book, day: str) -> tuple[list[Why], Fraction | None]:
    """Return why the rules of the day do not take a pass, level, method, interval and all, and the hazard ratio up to
    which they let it be used, None without a cap."""
    out: list[Why] = []
    piece, level, months = held.piece, book.ratio(held.piece.level_key), book.ratio(INTERVAL)
    if months is None:
        words = f"{book.title} states no interval here: enter it from your copy."
        out.append(Why("no_interval", words, "administrator"))
    else:
        last = valid_until(date.fromisoformat(held.valid_from), int(months)).isoformat()
        if last < day <= held.valid_until:
            out.append(Why("ended", f"By today’s interval the test counted until {last}.", "tester"))
    if level is None:
        out.append(Why("no_level", f"{book.title} states no pass level for this kind here.", "administrator"))
    if held.protocol and held.protocol not in book.protocols:
        words = f"{book.title} does not allow the protocol it was tested by ({held.protocol})."
        out.append(Why("protocol", words, "tester"))
    caps = [held.up_to] if held.up_to is not None else []
    if held.method in QUALITATIVE:
        why, up_to = takes_by_taste(held.method, piece, book)
        if why:
            out.append(Why("method", f"Today’s rules take no such test for it: {why}.", "tester"))
        caps += [up_to] if up_to is not None else []
    elif held.method not in METHODS:
        out.append(Why("method", f"“{held.method}” is no method known here.", "tester"))
    elif level is not None:
        out += _of_the_level(held, book, level)
    return out, min(caps, default=None)


def _of_the_level(held: Held, book: Book, level: Fraction) -> list[Why]:
    """Return why a counted pass does not reach the level of the day; a figure that is not there reaches nothing."""
    is_each = book.text("judged_by") != "overall"
    figures = (held.lowest, held.overall) if is_each else (held.overall,)
    known = [one for one in figures if one is not None]
    shown = min(known) if len(known) == len(figures) else None
    if shown is not None and shown >= level:
        return []
    had = f"{'worst exercise' if is_each else 'overall'} {cut(shown)}" if shown is not None else "no figure"
    return [Why("level", f"Today’s level is {whole_or_cut(level)}; the test showed {had}.", "tester")]


def _doubts(one: Report, held: Held, person: PersonFacts, day: str) -> bool:
    """Whether a report ends a pass: a test since then settles it, a change of health only a decision made since."""
    if one.configuration not in ("", held.piece.configuration):
        return False
    return is_open(one, person.cleared, day) if one.kind == "health" else one.at >= held.tested_at


def is_open(one: Report, cleared: Sequence[tuple[str, str]], day: str) -> bool:
    """Whether a reported change of health waits for the clinician on a day: no clearance was filed since that begins
    on the day of the change or later and has begun. An older one that is filed late knows nothing of it."""
    settled = (filed > one.at and one.on <= begins <= day for filed, begins in cleared)
    return one.kind == "health" and not any(settled)


def _said(one: Report) -> Why:
    words, by = REPORTED[one.kind]
    return Why(f"reported_{one.kind}", f"{words} on {one.on}, by {one.by}.", by)


def _told(code: str, sentence: str) -> str:
    """Return a reason as whoever plans the work may read it: which limit a clearance has is between three people."""
    return "Their clearance does not allow this kind of facepiece." if code == "clearance_limit" else f"{sentence}."


def _of_the_file(piece: Facepiece | None, person: PersonFacts, book: Book, day: str) -> list[Why]:
    out: list[Why] = []
    one = clearance_on(person.clearances, day)
    if one is None:
        if is_file_missing(book, "medical"):
            out.append(Why("no_clearance", "No clearance on file.", "clinician"))
    else:
        blocking = clearance_blocks(one, day, piece)
        out += [Why(code, _told(code, sentence), "clinician") for code, sentence, _ in blocking]
    if is_file_missing(book, "training") and not trained_until(book, training_on(person.trained, day), day):
        had = training_on(person.trained, day)
        words = f"The training of {had} no longer counts." if had else "No training on file."
        out.append(Why("training", words, "administrator"))
    return out
