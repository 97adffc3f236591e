"""The report of a visit: a plain view model first, then a page out of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from fractions import Fraction
from typing import Literal
from zoneinfo import ZoneInfo

from moorfog import __version__
from moorfog.core.kernel.arithmetic import cut
from moorfog.core.measuring.readings import Reading
from moorfog.core.rules.book import Item
from moorfog.core.rules.protocols import Protocol
from moorfog.core.views.qualitative import senses_view
from moorfog.core.views.rests_on import rests_on
from moorfog.core.views.runs import TryView, try_view
from moorfog.core.views.terms import good_until, limits_of_use, on_file, task_view
from moorfog.core.visit.outcomes import outcome
from moorfog.core.visit.state import FOLD_VERSION, Answer, Try, Visit
from moorfog.data import instrument_kinds
from moorfog.platform.printing.fonts import STACK
from moorfog.platform.printing.pdf import pdf_of
from moorfog.platform.printing.qr import qr_svg
from moorfog.platform.printing.templates import templates_beside
from moorfog.rooms.papers.trace import trace_svg

PageSize = Literal["A4", "Letter"]
templates = templates_beside(__file__)


@dataclass(frozen=True)
class Names:
    """Names that stand in erasable tables, looked up when the report is issued."""

    person: str
    number: str
    employer: str
    site: str
    task: str
    tester: str
    signatures: tuple[tuple[str, str, str], ...]


@dataclass(frozen=True)
class GateLine:
    """A gate as it was asked or observed."""

    title: str
    how: str
    answer: str
    at: str
    source: str


@dataclass(frozen=True)
class RuleLine:
    """A value the verdict rests on, with source and standing."""

    key: str
    value: str
    source: str
    standing: str


@dataclass(frozen=True)
class TryPage:
    """A try with its set-up, its kit and its trace."""

    view: TryView
    setup: str
    instrument: str
    checks: tuple[str, ...]
    seal: tuple[str, ...]
    source_words: str
    trace: str


@dataclass(frozen=True)
class ReportView:
    """Everything the report says, as text."""

    code: str
    program: str
    names: Names
    place: str
    tested_on: str
    verdict: str
    headline: str
    valid_until: str
    is_practice: bool
    revision: int
    corrections: tuple[str, ...]
    changed: tuple[str, ...]
    questions: tuple[str, ...]
    tries: tuple[TryPage, ...]
    gates: tuple[GateLine, ...]
    rules: tuple[RuleLine, ...]
    alterations: tuple[str, ...]
    task: tuple[str, ...]
    on_file: str
    limits: tuple[str, ...]
    terms: str
    rule_book: str
    type_of_test: str
    procedure: str
    fine_print: str
    page_size: PageSize
    check: str = ""
    """The address by which a stranger asks whether it still holds, with the signed statement; empty without a pass."""
    card: str = ""
    """The code of that address, as it is printed."""


def _local(at: datetime, zone: ZoneInfo) -> str:
    return at.astimezone(zone).strftime("%Y-%m-%d %H:%M:%S")


def _gates(visit: Visit, zone: ZoneInfo) -> tuple[GateLine, ...]:
    out = []
    methods = {visit.method} | {one.method for one in map(_protocol_of(visit), visit.tries) if one is not None}
    for item in visit.rules.procedure.item:
        answer, when = visit.answers.get(item.id), item.when
        if answer is None or item.act:
            continue
        if (when.methods and not methods & set(when.methods)) or methods <= set(when.unless_methods):
            continue  # asked for another method, before the one it was tested by was chosen
        words = _said(item, answer.answer)
        if answer.minutes_ago is not None:
            words += f" ({answer.minutes_ago} min before)"
        how = "observed" if item.mode == "observe" else "asked"
        moment = answer.at.astimezone(zone).strftime("%H:%M:%S")
        title = item.title
        out.append(GateLine(title=title, how=how, answer=words, at=moment, source=f"{item.source} ({item.standing})"))
    return tuple(out)


def _said(item: Item, answer: str) -> str:
    """Return an answer in words: the question's own where it has any."""
    if answer == "fine":
        return item.fine or "fine"
    return item.not_fine or ("noted" if item.gravity == "note" else "not fine")


def _protocol_of(visit: Visit) -> Callable[[Try], Protocol | None]:
    return lambda one: visit.rules.protocol(one.started.protocol_id)


def _changed_answers(visit: Visit, zone: ZoneInfo) -> tuple[str, ...]:
    """Return every answer that was followed by another to the same question about the same, with both moments."""
    out, last = [], dict[tuple[str, str], Answer]()
    for one in visit.asked:
        item, before = visit.rules.procedure.find(one.question), last.get((one.question, one.facts))
        if item is not None and before is not None and before.answer != one.answer:
            first, then = (each.at.astimezone(zone).strftime("%H:%M:%S") for each in (before, one))
            title = item.title
            out.append(f"{title} {_said(item, before.answer)} at {first}, then {_said(item, one.answer)} at {then}")
        last[(one.question, one.facts)] = one
    return tuple(out)


def _rule_lines(visit: Visit) -> tuple[RuleLine, ...]:
    """Return every value that something on the report rests on, and every one that the site has changed."""
    wanted = rests_on(visit)
    out = []
    changed = [key for key, one in sorted(visit.rules.book.values.items()) if one.changed and key not in wanted]
    for key in (*wanted, *changed):
        found = visit.rules.book.find(key)
        if found is None or found.value == "":
            continue
        source = "; ".join(part for part in (found.source, found.changed) if part)
        checked = f"{found.standing}; checked against {found.checked}" if found.checked else found.standing
        out.append(RuleLine(key, _value_words(found.value, found.unit), source, checked))
    for one in visit.rules.protocols:
        if any(made.started.protocol_id == one.id for made in visit.tries):
            out.append(RuleLine(f"protocol {one.id}", f"{one.n} exercises, {one.total_s} s", one.source, one.standing))
    return tuple(out)


def _value_words(value: object, unit: str) -> str:
    """Write a value of a rule book as it is read on paper: a list with commas, yes and no as words."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    return f"{', '.join(map(str, value)) if isinstance(value, (list, tuple)) else value} {unit}".strip()


def _try_page(visit: Visit, one: Try, readings: list[Reading]) -> TryPage:
    piece = one.facepiece
    parts = [
        piece.traits.title,
        piece.suspension,
        piece.clip,
        f"{piece.filter_class} {piece.filter_kind}",
        *piece.ppe,
        "own" if piece.is_own else "pool",
    ]
    seals = tuple(
        f"{result.check.check}: wearer {result.check.wearer}, tester {result.check.tester}"
        + (f", at the {result.check.place}" if result.check.place else "")
        for result in visit.asked_seals
        if result.donning == one.donning
    )
    protocol = visit.rules.protocol(one.started.protocol_id)
    kit, checks, source = _kit_words(visit, one)
    level = Fraction(one.counted.level) if one.counted is not None else None
    return TryPage(
        view=try_view(visit, one),
        setup=", ".join(part for part in parts if part.strip()),
        instrument=kit,
        checks=checks,
        seal=seals,
        source_words=source,
        trace=trace_svg(protocol, readings, level) if protocol and readings and level is not None else "",
    )


def _kit_words(visit: Visit, one: Try) -> tuple[str, tuple[str, ...], str]:
    """Return what a try was made with, its checks or lots, and where the result comes from, in words."""
    started = one.counted
    if started is None:
        senses = senses_view(visit, one)
        lots = senses.lots if senses is not None else ()
        return senses.nebuliser if senses is not None else "", lots, "what the wearer senses: pass or fail, no number"
    counter = started.instrument
    kind = instrument_kinds().get(counter.kind)
    titles = {check.name: check.title for check in kind.check} if kind is not None else {}
    checks = tuple(
        f"{titles.get(check.name, check.name)} {check.value} (limit {check.limit}) "
        f"{'passed' if check.passed else 'failed'} on {check.checked_on}"
        for check in counter.checks
    )
    source = "read from the instrument by its link"
    if started.source != "counter":
        source = "readings from a file of the instrument" if one.closed else "numbers typed from the counter's display"
    if one.typed is not None:
        source += f", display resolution {one.typed.resolution}; no bound from typed numbers"
    flow = f", counted flow {counter.counted_flow} cm³/min" if counter.kind == "counter" else ""
    parts = ", ".join(f"{each.kind} {each.name!r}" for each in one.parts)
    sampled = f"; sampled through {parts}" if parts else ""
    kit = (
        f"{counter.name}, serial {counter.serial_number}{flow}, "
        f"calibrated until {counter.calibrated_until}, {started.mode} mode{sampled}"
    )
    return kit, checks, source


def _type_of_test(visit: Visit) -> str:
    """Return the kind of test of every try, in words, each once."""
    words = []
    for one in visit.tries:
        protocol = visit.rules.protocol(one.started.protocol_id)
        title = protocol.title if protocol is not None else one.started.protocol_id
        words.append(f"{'quantitative' if one.counted is not None else 'qualitative'}: {title}")
    return "; ".join(dict.fromkeys(words)) or "none"


def _task_lines(visit: Visit) -> tuple[str, ...]:
    """Return what the task needs and up to where this facepiece may be used, in words."""
    task = task_view(visit)
    if task is None:
        return ()
    filters = (f"work filters: {task.work_filters}",) if task.work_filters else ()
    return (f"{task.name}: {task.required} times the limit ({task.worst})", *task.limits, *filters)


def report_view(
    visit: Visit, visit_id: str, names: Names, readings: dict[str, list[Reading]], page_size: PageSize
) -> ReportView:
    """Return what the report says. ``readings`` by run id; runs typed by hand have none."""
    if visit.opened is None or visit.opened_at is None:
        raise ValueError("a visit that was never opened has no report")
    zone = ZoneInfo(visit.opened.zone)
    last = visit.tries[-1] if visit.tries else None
    verdict = outcome(visit, last)[0] if last else "no test"
    until = good_until(visit)
    headline = {
        "pass": "Pass",
        "fail": "Fail",
        "void": "Void: no result",
        "unfinished": "Unfinished: no result",
        "no test": "Not tested",
    }[verdict]
    if verdict == "pass" and last is not None and last.numbers.overall is not None:
        headline += f", overall fit factor {'≥ ' if last.numbers.at_least else ''}{cut(last.numbers.overall)}"
        if last.numbers.at_least and last.numbers.bound is not None:
            headline += f", lower bound {cut(Fraction(last.numbers.bound))}"
    book = visit.rules.book
    return ReportView(
        code=visit_id[-12:].upper(),
        program=__version__,
        names=names,
        place=visit.opened.bench,
        tested_on=_local(visit.opened_at, zone)[:10],
        verdict=verdict,
        headline=headline,
        valid_until=until.isoformat() if until is not None else "",
        is_practice=visit.is_practice,
        revision=visit.revision,
        corrections=visit.corrections,
        changed=_changed_answers(visit, zone),
        questions=tuple(one.sentence for one in visit.questions),
        tries=tuple(_try_page(visit, one, readings.get(one.started.run_id, [])) for one in visit.tries),
        gates=_gates(visit, zone),
        rules=_rule_lines(visit),
        alterations=tuple(
            f"{alteration.facepiece}: {word.put_back}, {_local(at, zone)}"
            for alteration, at in visit.alterations_undone
            for word in visit.rules.procedure.alteration
            if word.id == alteration.rule
        ),
        task=_task_lines(visit),
        on_file=on_file(visit),
        limits=limits_of_use(visit) if verdict == "pass" else (),
        terms=visit.rules.procedure.terms,
        rule_book=f"{book.title}, {book.edition}",
        type_of_test=_type_of_test(visit),
        procedure=f"{visit.rules.procedure.title}, edition {visit.rules.procedure.edition}",
        fine_print=f"Log entry {visit.seq}, chain {visit.chain}, rules {visit.rules.digest}, fold {FOLD_VERSION}. "
        f"Times in {visit.opened.zone}.",
        page_size=page_size,
    )


def render_html(view: ReportView) -> str:
    """Return the report as a page of HTML with its fonts named relative to this package."""
    return templates.get_template("report.html").render(v=view, qr=qr_svg, stack=STACK)


def render_pdf(view: ReportView) -> bytes:
    """Return the report as PDF bytes."""
    return pdf_of(render_html(view))
