"""Whether visits are what was stored: chain, head, rule set, seals, signatures, papers, read models; many at a time."""

from __future__ import annotations

import hashlib
import json
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from moorfog.core.events import payloads as ev
from moorfog.core.events.words import Words, holds, signs_in
from moorfog.core.measuring.columns import seal_of
from moorfog.core.measuring.readings import Chunk, seal_digest
from moorfog.core.rules.book import Rules
from moorfog.core.transitions.fold import fold
from moorfog.platform.log.fault import Fault
from moorfog.platform.log.log import BrokenLog, held_log
from moorfog.platform.log.readmodels import TABLES, actors_in, rows_of
from moorfog.platform.log.tables import EventRow, EventWords, VisitHead
from moorfog.rooms.bench.readings import load_fresh_chunks
from moorfog.rooms.bench.tables import SignatureRow
from moorfog.rooms.papers.tables import DocumentRow
from moorfog.rooms.people.tables import Erased

RUNS_AT_ONCE = 40


@dataclass(frozen=True)
class _Paper:
    """A paper, without its bytes: their digest as the database works it out."""

    id: str
    revision: int
    page_size: str
    sha256: str
    there: str


@dataclass
class _Stored:
    """What is stored of some visits, by the id of each."""

    heads: list[VisitHead]
    events: dict[str, list[EventRow]]
    signatures: dict[str, list[SignatureRow]]
    papers: dict[str, list[_Paper]]
    erased: set[str]
    rows: dict[str, dict[str, list[dict[str, Any]]]]
    words: dict[str, list[Words]]

    def texts(self, visit_id: str) -> dict[str, str]:
        """Return what the signs in a log stand for."""
        return {words.sign: words.text for words in self.words.get(visit_id, ())}


@dataclass(frozen=True)
class Looked:
    """What a look at visits came to. ``runs``: of each visit that holds, the runs whose readings are sealed."""

    found: list[Fault]
    runs: dict[str, list[str]]


def verify_visits(db: Session, ids: Sequence[str], rules: Mapping[str, Rules]) -> list[Fault]:
    """Return what is wrong with these visits; see :func:`look_at`."""
    return look_at(db, ids, rules).found


def look_at(db: Session, ids: Sequence[str], rules: Mapping[str, Rules]) -> Looked:
    """Check these visits: the log of each first; what hangs on a log that does not hold is not judged by it.

    Their heads are held while they are read, so that nobody writes on between the log and what hangs on it.
    """
    stored = _load(db, ids)
    holding: dict[str, list[str]] = {}
    found: list[Fault] = []
    runs: dict[str, tuple[str, int, str]] = {}
    for head in stored.heads:
        try:
            events = held_log(head.id, head.seq, head.chain, stored.events.get(head.id, []), stored.texts(head.id))
        except BrokenLog as error:
            found.append(Fault("chain", error.where, error.problem))
            continue
        known = rules.get(head.rules_digest)
        if known is None:
            problem = f"its rule set {head.rules_digest[:12]} is not there or does not hold"
            found.append(Fault("rules", f"visit {head.id}", problem))
            continue
        wrong = [*_head(head, events), *_words(head.id, events, stored)]
        mine = {run: (head.id, count, sealed) for run, count, sealed in _sealed(events)}
        runs |= mine
        wrong += _signatures(head.id, events, stored)
        wrong += _papers(head.id, stored)
        wrong += _read_models(head, events, known, stored)
        found += wrong
        if not wrong:
            holding[head.id] = list(mine)
    for visit, fault in _seals(db, runs):
        found.append(fault)
        holding.pop(visit, None)
    return Looked(found, holding)


def _load(db: Session, ids: Sequence[str]) -> _Stored:
    heads = list(
        db.scalars(select(VisitHead).where(VisitHead.id.in_(ids)).order_by(VisitHead.id).with_for_update(read=True))
    )
    events: dict[str, list[EventRow]] = defaultdict(list)
    asked = select(EventRow).where(EventRow.visit_id.in_(ids)).order_by(EventRow.visit_id, EventRow.seq)
    for row in db.scalars(asked):
        events[row.visit_id].append(row)
    signatures: dict[str, list[SignatureRow]] = defaultdict(list)
    for signature in db.scalars(select(SignatureRow).where(SignatureRow.visit_id.in_(ids)).order_by(SignatureRow.id)):
        signatures[signature.visit_id].append(signature)
    papers: dict[str, list[_Paper]] = defaultdict(list)
    said = (DocumentRow.id, DocumentRow.revision, DocumentRow.page_size, DocumentRow.sha256)
    printed = select(DocumentRow.visit_id, *said, func.sha2(DocumentRow.content, 256).label("there"))
    for one in db.execute(printed.where(DocumentRow.visit_id.in_(ids))):
        paper = _Paper(id=one.id, revision=one.revision, page_size=one.page_size, sha256=one.sha256, there=one.there)
        papers[one.visit_id].append(paper)
    of_rows = [one.id for mine in signatures.values() for one in mine]
    of_rows += [one.id for theirs in papers.values() for one in theirs]
    erased = set(db.scalars(select(Erased.row_id).where(Erased.row_id.in_([*of_rows, *ids]))))
    words: dict[str, list[Words]] = defaultdict(list)
    for beside in db.scalars(select(EventWords).where(EventWords.visit_id.in_(ids))):
        words[beside.visit_id].append(Words(beside.sign, beside.salt, beside.text))
    rows: dict[str, dict[str, list[dict[str, Any]]]] = {}
    for table in TABLES:
        mine = rows[table.__tablename__] = defaultdict(list)
        for found in db.execute(select(table.__table__).where(table.visit_id.in_(ids))).mappings():
            mine[found["visit_id"]].append(dict(found))
    return _Stored(
        heads=heads, events=events, signatures=signatures, papers=papers, erased=erased, rows=rows, words=words
    )


def _head(head: VisitHead, events: Sequence[ev.Event]) -> Iterator[Fault]:
    """Yield what a head says of its visit that the first entry of its log does not."""
    for event in events[:1]:
        opened = event.payload
        said = (head.employer_id, head.site_id, head.rules_digest)
        if not isinstance(opened, ev.VisitOpened):
            yield Fault("chain", f"visit {head.id}", "its log does not begin with its opening")
        elif said != (opened.employer_id, opened.site_id, opened.rules_digest):
            problem = "its head names another employer, site or rule set than its log"
            yield Fault("chain", f"visit {head.id}", problem)
        elif opened.visit_id not in ("", head.id):
            yield Fault("chain", f"visit {head.id}", "its log is that of another visit")


def _words(visit_id: str, events: Sequence[ev.Event], stored: _Stored) -> Iterator[Fault]:
    """Yield words that are not those which a sign in the log stands for, that are gone, or that nobody typed."""
    there = {words.sign: words for words in stored.words.get(visit_id, ())}
    for event in events:
        for sign in signs_in(event.content):
            beside = there.pop(sign, None)
            where = f"visit {visit_id}, entry {event.seq}"
            if beside is None and visit_id not in stored.erased:
                yield Fault("words", where, "the words that were typed are gone")
            elif beside is not None and not holds(beside):
                yield Fault("words", where, "its words are not those that were typed")
    for _ in there:
        yield Fault("words", f"visit {visit_id}", "words stand beside its log that no entry has")


def _read_models(head: VisitHead, events: list[ev.Event], rules: Rules, stored: _Stored) -> Iterator[Fault]:
    visit = fold(events, rules)
    for table, rows in rows_of(head, visit, actors_in(events)).items():
        names = [one.name for one in table.__table__.columns if one.name != "id" and rows and one.name in rows[0]]
        there = stored.rows[table.__tablename__].get(head.id, [])
        if sorted(_line({key: one[key] for key in names}) for one in there) != sorted(map(_line, rows)):
            where = f"visit {head.id}, {table.__tablename__}"
            yield Fault("read model", where, "it does not say what the log says")


def _sealed(events: Iterable[ev.Event]) -> Iterator[tuple[str, int, str]]:
    """Yield the runs whose readings were sealed: how many, with which digest."""
    started = {one.payload.run_id for one in events if isinstance(one.payload, ev.RunStarted)}
    for event in events:
        payload = event.payload
        if isinstance(payload, ev.RunClosed) and payload.run_id in started and payload.count > 0:
            yield payload.run_id, payload.count, payload.sha256
        elif isinstance(payload, ev.ProofMeasured) and payload.count > 0:
            yield payload.stream_id, payload.count, payload.sha256


def _seals(db: Session, runs: Mapping[str, tuple[str, int, str]]) -> Iterator[tuple[str, Fault]]:
    """Yield runs whose readings are not those that were sealed, each with its visit."""
    ids = sorted(runs)
    for first in range(0, len(ids), RUNS_AT_ONCE):
        some = ids[first : first + RUNS_AT_ONCE]
        chunks = load_fresh_chunks(db, dict.fromkeys(some, -1))
        for run in some:
            visit, count, sealed = runs[run]
            there, digest = _digest_of(chunks.get(run, []))
            if (there, digest) != (count, sealed):
                problem = f"{there} readings are stored, and they are not the {count} that were sealed"
                yield visit, Fault("seal", f"visit {visit}, run {run}", problem)


def _digest_of(chunks: Sequence[Chunk]) -> tuple[int, str]:
    count = sum(len(one.t) for one in chunks)
    if any(one.problem() for one in chunks):
        return count, seal_digest([reading for one in chunks for reading in one.readings()])
    return count, seal_of(chunks)


def _signatures(visit_id: str, events: Iterable[ev.Event], stored: _Stored) -> Iterator[Fault]:
    """Yield signatures whose bytes or names are not those that were signed, that are gone, or that nobody gave."""
    where, there = f"visit {visit_id}", stored.signatures.get(visit_id, [])
    standing = [row for row in there if row.id not in stored.erased]
    by_digest = {hashlib.sha256(row.canonical.encode()).hexdigest(): row for row in standing}
    gone = Counter(row.role for row in there if row.id in stored.erased)
    for payload in [one.payload for one in events if isinstance(one.payload, ev.Signed)]:
        row = by_digest.pop(payload.digest, None)
        if row is None and gone[payload.role]:
            gone[payload.role] -= 1  # emptied on purpose, with the person it was of
            continue
        if row is None:
            yield Fault("signature", where, f"what the {payload.role} signed is gone, or was changed")
            continue
        signer = json.loads(row.canonical)["signer"]
        if (row.role, row.typed_name) != (signer["role"], signer["name"]) or row.role != payload.role:
            yield Fault("signature", where, f"the name beside it is not the name that the {payload.role} signed with")
    for row in by_digest.values():
        yield Fault("signature", where, f"one of a {row.role} that the log does not know")


def _papers(visit_id: str, stored: _Stored) -> Iterator[Fault]:
    for one in stored.papers.get(visit_id, []):
        if one.id not in stored.erased and one.there != one.sha256:
            where = f"visit {visit_id}, report {one.page_size}, revision {one.revision}"
            yield Fault("document", where, "its bytes are not those that were issued")


def _line(row: dict[str, Any]) -> str:
    """Write a row of a read model so that what is stored and what is computed compare."""
    return json.dumps({key: _plain(value) for key, value in sorted(row.items())}, sort_keys=True)


def _plain(value: Any) -> Any:
    if isinstance(value, datetime):
        return value.replace(tzinfo=None, microsecond=value.microsecond // 1000 * 1000).isoformat()
    if isinstance(value, date):
        return value.isoformat()
    if isinstance(value, (list, tuple)):
        return [_plain(one) for one in value]
    if isinstance(value, dict):
        return {key: _plain(one) for key, one in value.items()}
    return int(value) if isinstance(value, bool) else value
