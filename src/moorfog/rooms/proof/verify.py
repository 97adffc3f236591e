"""Whether what is stored is what was stored: ledgers and facts, anchors, rule sets, and every visit.

It only reads. What it finds is named with where it is; nothing is mended here, since whatever mends hides.
"""

from __future__ import annotations

import multiprocessing
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, Select, func, or_, select
from sqlalchemy.orm import Session

from moorfog.core.kernel.canonical import digest_of_json
from moorfog.core.rules.book import Rules, rules_from_json
from moorfog.platform.db.base import make_engine
from moorfog.platform.keys import known_key
from moorfog.platform.log.fault import Fault
from moorfog.platform.log.ledger import KEY, seal_key
from moorfog.platform.log.ledger_check import check_ledgers
from moorfog.platform.log.readmodels import TABLES
from moorfog.platform.log.tables import EventRow, LedgerEntry, RuleSet, VisitHead
from moorfog.rooms.bench.tables import SignatureRow
from moorfog.rooms.papers.tables import DocumentRow
from moorfog.rooms.people.tables import Erased
from moorfog.rooms.proof.anchors import check_anchors
from moorfog.rooms.proof.seen import keep_seen, seals_for, seen_before
from moorfog.rooms.proof.tables import Anchored, AnchoredLedger
from moorfog.rooms.proof.verify_visits import look_at

BATCH, IN_FULL = 200, 25
"""Visits that are looked at together; and of those that were not seen as they stand, so many."""
Progress = Callable[[int, int], None]
Done = Callable[[str, list[Fault]], None]


@dataclass(frozen=True)
class Extent:
    """How much is looked at. ``since_anchor``: only what was written after the last anchor, and that anchor; the rest
    is taken for what it was when it was looked at last. ``after``: the visit up to which an earlier check came, which
    had done with all but the visits; ``processes``: how many look at visits at once, none but this one where 0;
    ``anew``: visits are looked at in full, though they stand as they did when they held."""

    since_anchor: bool = False
    after: str = ""
    processes: int = 0
    anew: bool = False


def verify(
    engine: Engine,
    progress: Progress = lambda done, total: None,
    keys: Path | None = None,
    kept: Iterable[str] = (),
    extent: Extent = Extent(),
    done: Done = lambda visit, found: None,
    entries: Callable[[int], None] = lambda no: None,
) -> list[Fault]:
    """Check everything that binds one stored thing to another. Returns what is wrong; nothing where all holds.

    ``keys``: the folder of this installation's keys, None where it is not at hand: then anchors are believed to name
    their own key, and ledgers to be sealed. ``kept``: anchors that were printed. ``done`` hears up to which visit all
    is looked at, and what was found: from there the check can be taken up again. ``entries`` hears at which entry of a
    ledger it is.
    """
    found: list[Fault] = []
    with Session(engine.execution_options(isolation_level="REPEATABLE READ")) as db:  # all of it as at one moment
        if not extent.after:
            found += _all_but_visits(db, keys, kept, extent, entries)
        visits = list(db.scalars(_visits(extent)))
    batches = [visits[first : first + BATCH] for first in range(0, len(visits), BATCH)]
    looked, results = 0, _looked_at(engine, batches, extent, _key(keys))
    done(extent.after, found)
    for batch, faults in results:
        found += faults
        looked += len(batch)
        done(batch[-1], found)
        progress(looked, len(visits))
    return found


def _visits(extent: Extent) -> Select[str]:
    asked = select(VisitHead.id).where(VisitHead.id > extent.after) if extent.after else select(VisitHead.id)
    if extent.since_anchor:
        known = select(Anchored.visit_id, func.max(Anchored.seq).label("seq")).group_by(Anchored.visit_id).subquery()
        asked = asked.outerjoin(known, known.c.visit_id == VisitHead.id)
        asked = asked.where(or_(known.c.seq.is_(None), VisitHead.seq > known.c.seq))
    return asked.order_by(VisitHead.id)


def _all_but_visits(
    db: Session, keys: Path | None, kept: Iterable[str], extent: Extent, entries: Callable[[int], None]
) -> list[Fault]:
    found: list[Fault] = []
    trusted = known_key(keys) if keys is not None else ""
    since = None
    if extent.since_anchor:
        ends = select(AnchoredLedger.ledger, func.max(AnchoredLedger.seq).label("seq"))
        since = {one.ledger: one.seq for one in db.execute(ends.group_by(AnchoredLedger.ledger))}
    _rule_sets(db, found)
    if not extent.since_anchor:
        found += _without_a_visit(db)
    found += check_ledgers(db, _key(keys), entries, since)
    found += _untold_erasures(db)
    found += [Fault("anchor", one.where, one.problem) for one in check_anchors(db, trusted, kept, extent.since_anchor)]
    return found


def _key(keys: Path | None) -> bytes | None:
    return seal_key(keys) if keys is not None and (keys / KEY).exists() else None


def _looked_at(
    engine: Engine, batches: list[list[str]], extent: Extent, key: bytes | None
) -> Iterator[tuple[list[str], list[Fault]]]:
    """Yield each batch in its order with what is wrong in it, worked out by this process or by others."""
    processes = extent.processes
    if not processes:
        _at_hand(engine, key, extent.anew)
        for batch in batches:
            yield batch, _look(batch)
        return
    url = engine.url.render_as_string(hide_password=False)
    how = multiprocessing.get_context("spawn")
    with ProcessPoolExecutor(processes, how, initializer=_begin, initargs=(url, key, extent.anew)) as pool:
        waiting: dict[int, Future[list[Fault]]] = {}
        given = 0
        for at in range(len(batches)):
            while given < len(batches) and len(waiting) < processes * 3:
                waiting[given] = pool.submit(_look, batches[given])
                given += 1
            yield batches[at], waiting.pop(at).result()


@dataclass(frozen=True)
class _Hand:
    """What a process that looks at visits has at hand; without the ``key``, nothing counts as seen."""

    engine: Engine
    rules: dict[str, Rules]
    key: bytes | None
    anew: bool

    def reading(self) -> Session:
        """Read as at one moment, which is that of the first question: heads are held by it where they are."""
        return Session(self.engine.execution_options(isolation_level="REPEATABLE READ"))


_HAND: list[_Hand] = []


def _begin(url: str, key: bytes | None, anew: bool) -> None:
    _at_hand(make_engine(url), key, anew)


def _at_hand(engine: Engine, key: bytes | None, anew: bool) -> None:
    with Session(engine) as db:
        _HAND[:] = [_Hand(engine, _rule_sets(db, []), key, anew)]


def _look(ids: list[str]) -> list[Fault]:
    hand, seen, found = _HAND[0], set[str](), list[Fault]()
    if hand.key is not None and not hand.anew:
        with hand.reading() as db:
            seen = seen_before(db, hand.key, ids, hand.rules)
    rest = [one for one in ids if one not in seen]
    for first in range(0, len(rest), IN_FULL):
        with hand.reading() as db:  # one each: heads are held only while their own visits are read
            looked = look_at(db, rest[first : first + IN_FULL], hand.rules)
            seals = seals_for(db, hand.key, looked.runs) if hand.key is not None else []
        keep_seen(hand.engine, seals)
        found += looked.found
    return found


def _untold_erasures(db: Session) -> Iterator[Fault]:
    """Yield people of whom something was emptied although no ledger has an erasure of them."""
    told = select(LedgerEntry.subject).where(LedgerEntry.deed == "erase_person", LedgerEntry.action == "deed")
    for person_id in db.scalars(select(Erased.person_id).where(Erased.person_id.not_in(told)).distinct()):
        yield Fault("erased", f"person {person_id}", "signatures or papers were emptied, and nobody has written why")


def _rule_sets(db: Session, found: list[Fault]) -> dict[str, Rules]:
    """Return the stored sets of rules by digest, those that hold; what does not is added to ``found``."""
    out = {}
    for row in db.scalars(select(RuleSet)):
        if digest_of_json(row.content) != row.digest:
            found.append(Fault("rules", f"rule set {row.digest[:12]}", "its content is not what its digest says"))
            continue
        try:
            out[row.digest] = rules_from_json(row.content)
        except ValueError as error:
            found.append(Fault("rules", f"rule set {row.digest[:12]}", f"it cannot be read: {error}"))
    return out


def _without_a_visit(db: Session) -> Iterator[Fault]:
    """Yield rows that belong to no visit: a head was taken away, or a permission was made up."""
    written: tuple[tuple[type[Any], str], ...] = (
        (EventRow, "chain"),
        (SignatureRow, "signature"),
        (DocumentRow, "document"),
    )
    for table, kind in (*written, *((one, "read model") for one in TABLES)):
        query = select(table.visit_id).outerjoin(VisitHead, VisitHead.id == table.visit_id)
        for visit_id in db.scalars(query.where(VisitHead.id.is_(None)).distinct()):
            yield Fault(kind, f"visit {visit_id}, {table.__tablename__}", "there is no such visit: its head is gone")
