"""The log of a visit in the database: load, append, and the read models that follow in the same transaction."""

from __future__ import annotations

import json
import secrets
from collections import OrderedDict
from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from threading import Lock

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.events.chain import VERSIONS, check_chain, link_of_chain, read_payload
from moorfog.core.events.payloads import Event, Payload
from moorfog.core.events.words import MARK, NO_WORDS, Words, put_back, set_apart
from moorfog.core.kernel.canonical import canonical_bytes
from moorfog.core.kernel.codec import encode
from moorfog.core.rules.book import Rules, rules_from_json, rules_to_json
from moorfog.core.transitions.fold import step
from moorfog.core.visit.state import FOLD_VERSION, Visit
from moorfog.platform.log.tables import EventRow, EventWords, RuleSet, VisitHead
from moorfog.rooms.people.tables import Erased

_rules: dict[str, Rules] = {}
_states: OrderedDict[tuple[str, int], Visit] = OrderedDict()
_lock = Lock()
STATES_KEPT = 400


def forget_states() -> None:
    """Drop the cache of folded states; it may be dropped at any time."""
    with _lock:
        _states.clear()


def keep_rules(db: Session, rules: Rules) -> None:
    """Store a rule set under its digest unless it is there already."""
    if db.get(RuleSet, rules.digest) is None:
        db.add(RuleSet(digest=rules.digest, content=rules_to_json(rules)))
        db.flush()
    _rules[rules.digest] = rules


def load_rules(db: Session, digest: str) -> Rules:
    """Return the rule set with this digest. Raises ``LookupError`` if it is not stored."""
    if digest not in _rules:
        row = db.get(RuleSet, digest)
        if row is None:
            raise LookupError(f"rule set {digest} is not stored; restore it from a backup")
        _rules[digest] = rules_from_json(row.content)
    return _rules[digest]


def event_of(row: EventRow, words: Mapping[str, str] = NO_WORDS) -> Event:
    """Return the event a row holds, its payload upcast to the present version, with the words that stand beside it."""
    stored = json.loads(row.payload)
    said = put_back(stored, words) if MARK in row.payload else stored
    payload = read_payload(row.kind, row.version, said, f"event {row.seq}")
    return Event(
        id=row.id,
        seq=row.seq,
        version=row.version,
        occurred_at=row.occurred_at,
        recorded_at=row.recorded_at,
        actor=row.actor,
        payload=payload,
        chain=row.chain,
        stored=stored,
    )


def load_events(db: Session, visit_id: str, after: int = 0) -> list[Event]:
    """Return a visit's events after ``after``, in order."""
    rows = db.scalars(
        select(EventRow).where(EventRow.visit_id == visit_id, EventRow.seq > after).order_by(EventRow.seq)
    )
    return events_of(db, list(rows))


def events_of(db: Session, rows: Sequence[EventRow]) -> list[Event]:
    """Return the events in rows, with the words that stand beside them."""
    words = words_of(db, {row.visit_id for row in rows if MARK in row.payload})
    return [event_of(row, words) for row in rows]


def words_of(db: Session, visits: Iterable[str]) -> dict[str, str]:
    """Return the words that stand beside the logs of visits, by their signs."""
    wanted = sorted(visits)
    if not wanted:
        return {}
    asked = select(EventWords.sign, EventWords.text).where(EventWords.visit_id.in_(wanted))
    return {row.sign: row.text for row in db.execute(asked)}


def words_beside(db: Session, visit_id: str) -> tuple[Words, ...]:
    """Return the words that stand beside the log of a visit, with their salts, in the order of their signs."""
    asked = select(EventWords).where(EventWords.visit_id == visit_id).order_by(EventWords.sign)
    return tuple(Words(row.sign, row.salt, row.text) for row in db.scalars(asked))


class BrokenLog(RuntimeError):
    """A log is not what was written: at which entry (None: as a whole), and what is wrong with it."""

    def __init__(self, visit_id: str, seq: int | None, problem: str) -> None:
        self.where = f"visit {visit_id}" + (f", entry {seq}" if seq is not None else "")
        self.problem = problem
        super().__init__(f"{self.where}: {problem}.")


def whole_log(db: Session, head: VisitHead) -> list[Event]:
    """Return a visit's events up to its head, each held against the chain; others may go on writing meanwhile.

    Raises :class:`BrokenLog` where an entry was edited, taken out or put in, or the end cut off.
    """
    db.refresh(head)
    seq, chain = head.seq, head.chain
    rows = list(db.scalars(select(EventRow).where(EventRow.visit_id == head.id).order_by(EventRow.seq)))
    db.refresh(head)
    if rows and rows[-1].seq > head.seq:
        raise BrokenLog(head.id, None, f"its log ends at entry {rows[-1].seq}, its head says {head.seq}")
    mine = [row for row in rows if row.seq <= seq]
    words = words_of(db, {head.id} if any(MARK in row.payload for row in mine) else ())
    return held_log(head.id, seq, chain, mine, words)


def held_log(
    visit_id: str, seq: int, chain: str, rows: Sequence[EventRow], words: Mapping[str, str] = NO_WORDS
) -> list[Event]:
    """Return the events in the rows of a log, in order, with their words, held against the chain and against a head
    that stands at ``seq`` and ``chain``. Raises :class:`BrokenLog`."""
    try:
        events = [event_of(row, words) for row in rows]
    except ValueError as error:
        raise BrokenLog(visit_id, None, f"an entry cannot be read: {error}") from error
    wrong = check_chain(events)
    if wrong is not None:
        raise BrokenLog(visit_id, wrong, "it is not what was written, or not where it was written")
    for row, event in zip(rows, events, strict=True):
        if event.content.get("kind") != row.kind:
            raise BrokenLog(visit_id, row.seq, "its kind is not that of its content")
    last = (events[-1].seq, events[-1].chain) if events else (0, "")
    if last != (seq, chain):
        raise BrokenLog(visit_id, None, f"its log ends at entry {last[0]}, its head says {seq}")
    return events


def load_visit(db: Session, head: VisitHead) -> Visit:
    """Return the visit folded up to its head, from the cache where it can be carried on.

    A state of before words were taken out of the log still says them, so a visit that is over is asked for them.
    """
    with _lock:
        kept = _states.get((head.id, FOLD_VERSION))
    rules = load_rules(db, head.rules_digest)
    if kept is not None and not _leads_to(db, kept, head):
        kept = None
    visit = _folded_on(db, head, kept or Visit(rules))
    if kept is not None and visit.closed and are_words_gone(db, head.id):
        visit = _folded_on(db, head, Visit(rules))
    return visit


def _leads_to(db: Session, state: Visit, head: VisitHead) -> bool:
    """Tell whether a state is one of the log that ends at this head."""
    if state.seq == head.seq:
        return state.chain == head.chain
    return state.seq < head.seq and chain_at(db, head.id, state.seq) == state.chain


def _folded_on(db: Session, head: VisitHead, visit: Visit) -> Visit:
    for event in load_events(db, head.id, visit.seq) if visit.seq < head.seq else ():
        visit = step(visit, event)
    return visit


def are_words_gone(db: Session, visit_id: str) -> bool:
    """Tell whether what was typed into the log of a visit was erased."""
    asked = select(Erased.row_id).where(Erased.row_id == visit_id, Erased.kind == "words")
    return db.scalar(asked) is not None


def chain_at(db: Session, visit_id: str, seq: int) -> str | None:
    """Return the chain of an entry as it is stored, None where there is none: a state is carried on only from it."""
    return db.scalar(select(EventRow.chain).where(EventRow.visit_id == visit_id, EventRow.seq == seq))


def keep_state(visit_id: str, visit: Visit) -> None:
    """Remember a state whose events are committed: call it after the commit, never before."""
    with _lock:
        old = _states.get((visit_id, FOLD_VERSION))
        if old is None or old.seq <= visit.seq:
            _states[(visit_id, FOLD_VERSION)] = visit
            _states.move_to_end((visit_id, FOLD_VERSION))
        while len(_states) > STATES_KEPT:
            _states.popitem(last=False)


def write_event(
    db: Session,
    head: VisitHead,
    event_id: str,
    payload: Payload,
    occurred_at: datetime,
    recorded_at: datetime,
    actor: str,
    proposal_digest: str,
) -> Event:
    """Insert the next event of a locked head and move the head on. The caller has asked ``admit`` before."""
    occurred_at = occurred_at.replace(microsecond=occurred_at.microsecond // 1000 * 1000)
    seq, version = head.seq + 1, VERSIONS[payload.kind]
    stored, words = set_apart(encode(payload), lambda: secrets.token_hex(16))
    chain = link_of_chain(head.chain, event_id, seq, version, occurred_at, actor, stored)
    db.add_all(EventWords(visit_id=head.id, sign=word.sign, salt=word.salt, text=word.text) for word in words)
    db.add(
        EventRow(
            visit_id=head.id,
            seq=seq,
            id=event_id,
            kind=payload.kind,
            version=version,
            occurred_at=occurred_at,
            recorded_at=recorded_at,
            actor=actor,
            payload=canonical_bytes(stored).decode(),
            proposal_digest=proposal_digest,
            chain=chain,
        )
    )
    head.seq, head.chain = seq, chain
    db.flush()
    return Event(
        id=event_id,
        seq=seq,
        version=version,
        occurred_at=occurred_at,
        recorded_at=recorded_at,
        actor=actor,
        payload=payload,
        chain=chain,
        stored=stored,
    )


def lock_head(db: Session, visit_id: str) -> VisitHead | None:
    """Lock and return the head of a visit, or None if there is no such visit."""
    return db.scalar(select(VisitHead).where(VisitHead.id == visit_id).with_for_update())
