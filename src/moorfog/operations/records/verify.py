"""Whether what is stored is what was stored: chains, heads, rule sets, seals, signatures, documents and read models.

It only reads. What it finds is named with where it is; nothing is mended here, since whatever mends hides.
"""

from __future__ import annotations

import hashlib
import json
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

from sqlalchemy import Engine, select
from sqlalchemy.orm import Session

from moorfog.core.events import payloads as ev
from moorfog.core.kernel.canonical import digest_of_json
from moorfog.core.measuring.readings import seal_digest
from moorfog.core.rules.book import Rules, rules_from_json
from moorfog.core.transitions.fold import fold
from moorfog.operations.accounts.journal import check_journal
from moorfog.operations.bench.readings import load_readings
from moorfog.operations.records.anchors import check_anchors
from moorfog.store.log import BrokenLog, whole_log
from moorfog.store.models import DocumentRow, EventRow, RuleSet, SignatureRow, VisitHead
from moorfog.store.models_house import Erased, JournalRow
from moorfog.store.readmodels import TABLES, actors_in, rows_of

TOLD_EVERY = 20


@dataclass(frozen=True)
class Fault:
    """Something stored that is not what was stored: of which kind, where it is, and what is wrong with it."""

    kind: str
    where: str
    problem: str


def verify(
    engine: Engine,
    progress: Callable[[int, int], None] = lambda done, total: None,
    trusted: str = "",
    kept: Iterable[str] = (),
) -> list[Fault]:
    """Check everything that binds one stored thing to another. Returns what is wrong; nothing where all holds.

    ``trusted``: the public key of this installation's anchors; ``kept``: anchors that were printed.
    """
    found: list[Fault] = []
    with Session(engine) as db:
        rules = _rule_sets(db, found)
        visits = list(db.scalars(select(VisitHead.id).order_by(VisitHead.id)))
        found += _without_a_visit(db)
        found += [Fault("journal", where, problem) for where, problem in check_journal(db)]
        found += _untold_erasures(db)
        found += [Fault("anchor", one.where, one.problem) for one in check_anchors(db, trusted, kept)]
    for done, visit_id in enumerate(visits, start=1):
        with Session(engine) as db:  # one each: a head is held only while its own visit is looked at
            head = db.get(VisitHead, visit_id)
            if head is not None:
                found += verify_visit(db, head, rules)
        if done % TOLD_EVERY == 0 or done == len(visits):
            progress(done, len(visits))
    return found


def _untold_erasures(db: Session) -> Iterator[Fault]:
    """Yield people of whom something was emptied although the journal has no erasure of them."""
    told = select(JournalRow.subject_id).where(JournalRow.deed == "erase_person")
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


def verify_visit(db: Session, head: VisitHead, rules: dict[str, Rules]) -> list[Fault]:
    """Check one visit: its log first; what hangs on a log that does not hold is not judged by it."""
    where = f"visit {head.id}"
    head = db.scalars(select(VisitHead).where(VisitHead.id == head.id).with_for_update(read=True)).one()
    try:
        events = whole_log(db, head)
    except BrokenLog as error:
        return [Fault("chain", error.where, error.problem)]
    known = rules.get(head.rules_digest)
    if known is None:
        return [Fault("rules", where, f"its rule set {head.rules_digest[:12]} is not there or does not hold")]
    found = [*_seals(db, head.id, events), *_signatures(db, head.id, events), *_documents(db, head.id)]
    visit = fold(events, known)
    for table, rows in rows_of(head, visit, actors_in(events)).items():
        stored = db.execute(select(table.__table__).where(table.visit_id == head.id)).mappings()
        names = [one.name for one in table.__table__.columns if one.name != "id"]
        kept = sorted(_line({key: one[key] for key in names if rows and key in rows[0]}) for one in stored)
        if kept != sorted(map(_line, rows)):
            found.append(Fault("read model", f"{where}, {table.__tablename__}", "it does not say what the log says"))
    return found


def _seals(db: Session, visit_id: str, events: Iterable[ev.Event]) -> Iterator[Fault]:
    """Yield runs whose readings are not those that were sealed."""
    started = {one.payload.run_id: one.payload for one in events if isinstance(one.payload, ev.RunStarted)}
    for event in events:
        payload = event.payload
        if isinstance(payload, ev.RunClosed):
            begun = started.get(payload.run_id)
            stream, is_kept = payload.run_id, begun is not None and payload.count > 0
        elif isinstance(payload, ev.ProofMeasured):
            stream, is_kept = payload.stream_id, payload.count > 0
        else:
            continue
        if not is_kept:
            continue
        readings = load_readings(db, stream)
        if len(readings) != payload.count or seal_digest(readings) != payload.sha256:
            problem = f"{len(readings)} readings are stored, and they are not the {payload.count} that were sealed"
            yield Fault("seal", f"visit {visit_id}, run {stream}", problem)


def _signatures(db: Session, visit_id: str, events: Iterable[ev.Event]) -> Iterator[Fault]:
    """Yield signatures whose bytes or names are not those that were signed, that are gone, or that nobody gave."""
    where = f"visit {visit_id}"
    stored = list(db.scalars(select(SignatureRow).where(SignatureRow.visit_id == visit_id)))
    erased = _erased(db, [row.id for row in stored])
    by_digest = {hashlib.sha256(row.canonical.encode()).hexdigest(): row for row in stored if row.id not in erased}
    gone = Counter(row.role for row in stored if row.id in erased)
    given = [one.payload for one in events if isinstance(one.payload, ev.Signed)]
    for payload in given:
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


def _erased(db: Session, ids: list[str]) -> set[str]:
    """Return which of these rows were emptied on purpose."""
    return set(db.scalars(select(Erased.row_id).where(Erased.row_id.in_(ids))))


def _documents(db: Session, visit_id: str) -> Iterator[Fault]:
    stored = list(db.scalars(select(DocumentRow).where(DocumentRow.visit_id == visit_id)))
    erased = _erased(db, [row.id for row in stored])
    for row in stored:
        if row.id not in erased and hashlib.sha256(row.content).hexdigest() != row.sha256:
            where = f"visit {visit_id}, report {row.page_size}, revision {row.revision}"
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
