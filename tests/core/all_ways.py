"""Every way to test there is: each protocol of each book, with what a site must confirm confirmed, walked to a pass."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import cache
from typing import Any

from moorfog.core.events import payloads as ev
from moorfog.core.events.chain import VERSIONS, link_of_chain
from moorfog.core.rules.book import Book, Rules
from moorfog.core.rules.overlay import Overlay
from moorfog.core.transitions.fold import fold
from moorfog.core.visit.outcomes import outcome
from moorfog.core.visit.state import Visit
from moorfog.data import lay_over, rules_for, shipped_books
from tests.core.bench import Bench, facepiece, task

GIVEN = {"interval": "12", "level.half": "100", "level.full": "500"}


def confirmed(book: Book) -> Book:
    """A book as a site has it that has looked everything up in its own copy."""
    keys = [(one.key, GIVEN.get(one.key, "50")) for one in book.blank]
    keys += [(key, one.value) for key, one in book.values.items() if not one.is_on]
    keys += [(f"protocols.{one}", True) for one in book.protocols_on_confirmation]
    if book.yes("smoke.allowed") is not True:
        keys.append(("smoke.allowed", True))
    entries = [Overlay(key, value, "tried here", "our copy", "2026-03-01", "A") for key, value in keys]  # type: ignore[arg-type]
    return lay_over(book, entries)


@dataclass(frozen=True)
class Way:
    """A protocol under a book, and a kind of facepiece it may be used on."""

    book: str
    protocol: str

    def __str__(self) -> str:
        return f"{self.book.split('-')[0]}-{self.protocol}"


@cache
def rules_of(book: str) -> Rules:
    """The rules of a book with everything confirmed."""
    return rules_for(confirmed(shipped_books()[book]))


def ways() -> list[Way]:
    """Every protocol of every book."""
    return [Way(book, one.id) for book in shipped_books() for one in rules_of(book).protocols]


def piece_for(way: Way) -> ev.Facepiece:
    """A facepiece that a protocol may be used on."""
    protocol = rules_of(way.book).protocol(way.protocol)
    assert protocol is not None
    kind = next(one for one in ("half", "quarter", "disposable_cup", "full") if one in protocol.kinds)
    changes: dict[str, Any] = {"kind": kind}
    if protocol.method == "odour":
        changes |= {"filter_kind": "combined"}
    if kind.startswith("disposable"):
        changes |= {"cover": "front", "filter_kind": "media", "filter_class": "99-type", "probe": "through"}
        changes |= {"suspension": "two bands"}
    elif rules_of(way.book).book.words("filters.order.p"):  # its factors are those of its own classes
        changes |= {"work": (ev.WorkFilter("particles", "P3"),), "test_filters": True}
    return facepiece(**changes)


def at_the_start(way: Way) -> Bench:
    """A visit brought to the start of the run."""
    rules = rules_of(way.book)
    protocol = rules.protocol(way.protocol)
    assert protocol is not None
    bench, piece = Bench(rules, method=protocol.method), piece_for(way)
    if piece.work:
        bench.task = task(work_filter="P2")
    bench.until("run", piece)
    return bench


def run_well(bench: Bench, way: Way) -> None:
    """Run a protocol with a seal that is good."""
    protocol = bench.rules.protocol(way.protocol)
    assert protocol is not None
    if protocol.is_qualitative:
        bench.smell()
    else:
        bench.run((4000,) * len(protocol.exercises()), protocol_id=protocol.id)


@cache
def passing_log(way: Way) -> tuple[tuple[ev.Event, ...], int]:
    """The log of a visit that passes and is released, and how many of its entries come before the release."""
    bench = at_the_start(way)
    run_well(bench, way)
    bench.until("release")
    assert outcome(bench.visit, bench.visit.tries[-1])[0] == "pass", bench.view.between
    before = len(bench.log)
    bench.do("release")
    return tuple(bench.log), before


def inserted(log: tuple[ev.Event, ...], place: int, payload: ev.Payload, at: datetime) -> list[ev.Event]:
    """A log with an entry that is heard after ``place`` others; numbers and chain made anew."""
    rows = [(one.payload, one.occurred_at, one.actor) for one in log]
    rows.insert(place, (payload, at, "t"))
    out: list[ev.Event] = []
    for seq, (what, when, actor) in enumerate(rows, start=1):
        version, name = VERSIONS[what.kind], f"id-{seq}"
        chain = link_of_chain(out[-1].chain if out else "", name, seq, version, when, actor, ev.encode(what))
        out.append(ev.Event(name, seq, version, when, when, actor, what, chain))
    return out


def outcomes(visit: Visit) -> list[str]:
    """What every try came to."""
    return [outcome(visit, one)[0] for one in visit.tries]


def refolded(log: list[ev.Event], way: Way) -> Visit:
    """Fold a log under a way's rules."""
    return fold(log, rules_of(way.book))


def seconds(count: float) -> timedelta:
    """So many seconds."""
    return timedelta(seconds=count)
