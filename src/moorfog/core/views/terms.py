"""What a result is good for, in words: the task, the limits of use, what is on file, what is signed under."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from fractions import Fraction

from moorfog.core.advice.methods import cap_by_taste, up_to_words
from moorfog.core.advice.protection import protection, suffices
from moorfog.core.kernel.arithmetic import cut
from moorfog.core.kernel.days import day_in
from moorfog.core.rules.validity import INTERVAL, valid_until
from moorfog.core.visit.outcomes import outcome
from moorfog.core.visit.state import Try, Visit
from moorfog.core.visit.steps import is_signed


@dataclass(frozen=True)
class TaskView:
    """The task this is for: what it needs, up to which concentrations the facepiece may be used, its work filters."""

    id: str
    name: str
    required: str
    worst: str
    limits: tuple[str, ...]
    work_filters: str


def task_view(visit: Visit) -> TaskView | None:
    """Return the task with what it needs and the limits of the chosen facepiece, or None."""
    task, piece = visit.task, visit.facepiece
    if task is None:
        return None
    found = protection(task, visit.rules.book)
    return TaskView(
        id=task.id,
        name=task.name,
        required=cut(found.required) if found.required is not None else "unknown",
        worst=found.worst,
        limits=suffices(task, visit.rules.book, piece).limits if piece is not None else (),
        work_filters=" with ".join(part for part in (task.work_filter, task.work_cartridge) if part),
    )


def method_limits(visit: Visit, one: Try) -> tuple[str, ...]:
    """Return the limits of use that the method of a try brings with it."""
    most = _cap(visit, one)
    return (up_to_words(most),) if most is not None else ()


def capped_at(visit: Visit, one: Try) -> str | None:
    """Return up to which hazard ratio a pass of a try may be used, as text, None where its method sets no cap."""
    most = _cap(visit, one)
    return str(most) if most is not None else None


def _cap(visit: Visit, one: Try) -> Fraction | None:
    return cap_by_taste(one.facepiece, visit.rules.book) if one.sensed is not None else None


def limits_of_use(visit: Visit) -> tuple[str, ...]:
    """Return the limits of use told and signed: the procedure's, and what the method of the last try brings."""
    more = method_limits(visit, visit.tries[-1]) if visit.tries else ()
    return (*visit.rules.procedure.limits_of_use, *more)


def on_file(visit: Visit) -> str:
    """Return what is on file about clearance and training, in words; never a medical detail."""
    if visit.opened is None:
        return ""
    one, parts = visit.file.clearance if visit.file is not None else None, []
    if one is None:
        parts.append("no clearance on file")
    else:
        until = f", until {one.valid_until}" if one.valid_until else ""
        limits = f", {', '.join(one.limits)}" if one.limits else ""
        parts.append(f"{one.status}{until}{limits}, by {one.by}")
    trained = visit.file.trained_on if visit.file is not None else ""
    parts.append(f"trained {trained}" if trained else "no training on file")
    return "; ".join(parts)


def good_until(visit: Visit) -> date | None:
    """Return until when the pass of a record is good, by its book's interval; None where it promises nothing: no pass,
    not signed, practice, or a book that states no interval."""
    last, months = visit.tries[-1] if visit.tries else None, visit.rules.book.ratio(INTERVAL)
    if last is None or visit.opened is None or months is None or visit.is_practice or not is_signed(visit):
        return None
    if outcome(visit, last)[0] != "pass":
        return None
    return valid_until(day_in(visit.opened.zone, last.started_at), int(months))


def on_file_words(what: str) -> str:
    """Return the sentence that what is on file is signed under with."""
    return f"On file: {what}."


def signed_under(visit: Visit) -> tuple[str, ...]:
    """Return what both sign besides verdicts, limits and terms, in words: rules, file, revision, corrections."""
    procedure, revision = visit.rules.procedure, f"Revision {visit.revision}"
    return (
        f"Judged under {visit.rules.book.title}, by {procedure.title} {procedure.edition}.",
        on_file_words(on_file(visit)),
        f"{revision}, corrected: {'; '.join(visit.corrections)}." if visit.corrections else f"{revision}.",
        *(("Practice: not a result.",) if visit.is_practice else ()),
    )
