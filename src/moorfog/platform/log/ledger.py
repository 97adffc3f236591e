"""Writing a ledger: what was done, and every fact that came of it, in the same transaction as the facts themselves.

Nobody who changes a fact has to think of it. Whatever a session writes into a table of facts (see
:mod:`moorfog.platform.log.facts`) is noticed as it is written; before the session commits, how those rows then stand
is read back and entered, each into the ledger of whom it belongs to, chained to the entry before and sealed with a key
that is not in the database. A row that was written past this is in no ledger, and
:mod:`moorfog.platform.log.ledger_check` names it.

Statements on a bare connection are not seen: nothing here writes facts with one.
"""

from __future__ import annotations

import hmac
import json
import secrets
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from contextvars import ContextVar
from dataclasses import dataclass, field
from datetime import datetime
from hashlib import sha256
from pathlib import Path
from typing import Any

from sqlalchemy import Delete, Insert, Update, delete, event, insert, inspect, or_, select, update
from sqlalchemy.orm import ORMExecuteState, Session, UOWTransaction

from moorfog.core.events.payloads import instant
from moorfog.core.kernel.canonical import canonical_bytes, digest
from moorfog.platform.db.clock import Clock, DatabaseClock
from moorfog.platform.log.facts import FACTS, Fact, FactRow, key_of, rows_of_fact
from moorfog.platform.log.tables import Action, LedgerEntry, LedgerHead, LedgerValue
from moorfog.secret_files import key_folder, secret_of

KEY = "ledger"
FIRST = "0" * 64
GONE = "null"
MANY = 500
"""Keys in one statement."""
_NOTED = "moorfog_ledger"


@dataclass(frozen=True)
class Doing:
    """Who is at work in a session, and at what: it stands on every entry that comes of it."""

    account_id: str = ""
    deed: str = "program"
    clock: Clock = field(default_factory=DatabaseClock)


@dataclass(frozen=True)
class Deed:
    """Something that somebody did, to what, at which employer (empty: none), and what there is to say of it."""

    account_id: str
    deed: str
    kind: str
    subject: str
    ledger: str
    content: Mapping[str, Any]


@dataclass
class _Noted:
    """What a session has written and done since it last committed."""

    doing: Doing = field(default_factory=Doing)
    rows: dict[str, dict[str, tuple[Any, ...]]] = field(default_factory=lambda: defaultdict(dict))
    deeds: list[Deed] = field(default_factory=list)
    erased: dict[str, set[str]] = field(default_factory=lambda: defaultdict(set))


_AT_WORK: ContextVar[Doing | None] = ContextVar("moorfog_at_work", default=None)


def _noted(db: Session) -> _Noted:
    found: _Noted | None = db.info.get(_NOTED)
    if found is None:
        found = db.info[_NOTED] = _Noted(doing=_AT_WORK.get() or Doing())
    return found


@contextmanager
def at_work(doing: Doing) -> Iterator[None]:
    """Say who is at work, and at what, in all sessions of this thread until the end of the block."""
    before = _AT_WORK.set(doing)
    try:
        yield
    finally:
        _AT_WORK.reset(before)


def say_doing(db: Session, doing: Doing) -> None:
    """Say who is at work in a session from now on, and at what."""
    _noted(db).doing = doing


def enter_deed(db: Session, deed: Deed) -> None:
    """Have a deed entered when the session commits."""
    _noted(db).deeds.append(deed)


def erase_from_ledger(db: Session, kind: str, subjects: Iterable[str]) -> None:
    """Have what earlier entries say of rows taken out when the session commits, with an entry each that says so.

    ``kind``: their table, or ``deed`` for what was done to these subjects. A row that is still there is entered as it
    then stands.
    """
    _noted(db).erased[kind].update(subjects)


def seal_key(folder: Path | None = None) -> bytes:
    """Return the key of the seals, made at its first use. Raises ``SecretFault`` where its file is none."""
    return secret_of((folder or key_folder()) / KEY, lambda: secrets.token_hex(32).encode())


def chain_of(entry: Mapping[str, Any], before: str) -> str:
    """Return the chain at an entry, from the chain at the entry before it."""
    said = {
        "ledger": entry["ledger"],
        "no": entry["no"],
        "at": instant(entry["at"]),
        "account": entry["account_id"],
        "deed": entry["deed"],
        "action": entry["action"],
        "kind": entry["kind"],
        "subject": entry["subject"],
        "digest": entry["digest"],
        "before": before,
    }
    return digest(canonical_bytes(said).decode())


def seal_of(key: bytes, chain: str) -> str:
    """Return the seal of an entry: who has only the database cannot make it."""
    return hmac.digest(key, chain.encode(), sha256).hex()


def to_ms(moment: datetime) -> datetime:
    """Return a moment as the database keeps it."""
    return moment.replace(microsecond=moment.microsecond // 1000 * 1000)


def value_digest(salt: str, content: str) -> str:
    """Return the digest of what an entry says: without the salt nobody finds a short value by trying."""
    return digest(salt + content)


@dataclass(frozen=True)
class Line:
    """An entry that is to be written; ``at``: when it was done, where that was not now."""

    ledger: str
    account_id: str
    deed: str
    action: Action
    kind: str
    subject: str
    content: str
    at: datetime | None = None


def write_entries(db: Session, now: datetime, lines: Sequence[Line]) -> None:
    """Append lines to their ledgers, in order. Whoever writes next waits for the end of this transaction."""
    key = seal_key()
    heads = {one: _lock(db, one) for one in sorted({line.ledger for line in lines})}
    entries, values = [], []
    for line in lines:
        no, before = heads[line.ledger]
        salt = secrets.token_hex(16)
        entry = {
            "ledger": line.ledger,
            "no": no + 1,
            "at": to_ms(line.at or now),
            "account_id": line.account_id,
            "deed": line.deed,
            "action": line.action,
            "kind": line.kind,
            "subject": line.subject,
            "digest": value_digest(salt, line.content),
        }
        chain = chain_of(entry, before)
        entries.append({**entry, "chain": chain, "seal": seal_of(key, chain)})
        values.append({"ledger": line.ledger, "no": no + 1, "salt": salt, "content": line.content})
        heads[line.ledger] = (no + 1, chain)
    work = db.connection()
    for first in range(0, len(entries), MANY):
        work.execute(insert(LedgerEntry), entries[first : first + MANY])
        work.execute(insert(LedgerValue), values[first : first + MANY])
    for ledger, (no, chain) in heads.items():
        work.execute(update(LedgerHead).where(LedgerHead.ledger == ledger).values(no=no, chain=chain))


def _lock(db: Session, ledger: str) -> tuple[int, str]:
    asked = select(LedgerHead.no, LedgerHead.chain).where(LedgerHead.ledger == ledger).with_for_update()
    found = db.connection().execute(asked).one_or_none()
    if found is None:
        first = {"ledger": ledger, "no": 0, "chain": FIRST}
        db.connection().execute(insert(LedgerHead), first)
        return 0, FIRST
    return found[0], found[1]


def _lines(db: Session, noted: _Noted) -> list[Line]:
    """Return the entries for all that a session has written and done."""
    out = []
    for kind in sorted(set(noted.rows) | (set(noted.erased) & set(FACTS))):
        keys, erased = noted.rows.get(kind, {}), noted.erased.get(kind, set())
        wanted = sorted({*keys, *erased})
        for first in range(0, len(wanted), MANY):
            some = wanted[first : first + MANY]
            found = {row.key: row for row in rows_of_fact(db, FACTS[kind], [_values(keys, one) for one in some])}
            lost = _ledgers_of(db, kind, [one for one in some if one not in found])
            out += [_line(noted.doing, kind, one, found.get(one), lost.get(one), one in erased) for one in some]
    out += [_erased_deed(noted.doing, one, ledger) for one, ledger in _deeds_of(db, noted.erased.get("deed", set()))]
    for deed in noted.deeds:
        content = json.dumps(dict(deed.content), ensure_ascii=False, sort_keys=True, default=str)
        done = Line(
            deed.ledger, deed.account_id, deed.deed, "deed", kind=deed.kind, subject=deed.subject, content=content
        )
        out.append(done)
    return [one for one in out if one is not None]


def _values(keys: Mapping[str, tuple[Any, ...]], key: str) -> tuple[Any, ...]:
    return keys.get(key) or tuple(key.split(":"))


def _line(doing: Doing, kind: str, key: str, row: FactRow | None, lost: str | None, is_erased: bool) -> Line | None:
    ledger = row.ledger if row is not None else lost
    if ledger is None:
        return None  # it came and went within one transaction
    action: Action = "erased" if is_erased else "row" if row is not None else "gone"
    content = row.content if row is not None else GONE
    return Line(ledger, doing.account_id, doing.deed, action, kind=kind, subject=key, content=content)


def _erased_deed(doing: Doing, subject: str, ledger: str) -> Line:
    return Line(ledger, doing.account_id, doing.deed, "erased", kind="deed", subject=subject, content=GONE)


def _ledgers_of(db: Session, kind: str, keys: Sequence[str]) -> dict[str, str]:
    """Return in which ledger rows stand that are gone."""
    if not keys:
        return {}
    asked = select(LedgerEntry.subject, LedgerEntry.ledger).where(LedgerEntry.kind == kind)
    asked = asked.where(LedgerEntry.subject.in_(keys), LedgerEntry.action != "deed").order_by(LedgerEntry.id)
    return {row.subject: row.ledger for row in db.connection().execute(asked)}


def _deeds_of(db: Session, subjects: Iterable[str]) -> list[tuple[str, str]]:
    """Return of which of these subjects, in which ledgers, there are deeds."""
    wanted, out = sorted(subjects), []
    for first in range(0, len(wanted), MANY):
        asked = select(LedgerEntry.subject, LedgerEntry.ledger).distinct()
        asked = asked.where(LedgerEntry.subject.in_(wanted[first : first + MANY]), LedgerEntry.action == "deed")
        out += [(subject, ledger) for subject, ledger in db.connection().execute(asked)]
    return out


def _take_out(db: Session, noted: _Noted) -> None:
    """Take out what entries before an erasure say; the entry that says so stands already."""
    work = db.connection()
    for kind, subjects in noted.erased.items():
        wanted = sorted(subjects)
        for first in range(0, len(wanted), MANY):
            mine = LedgerEntry.kind == kind
            if kind == "deed":
                mine = or_(mine, LedgerEntry.action == "deed")
            asked = select(LedgerEntry.ledger, LedgerEntry.no, LedgerEntry.subject, LedgerEntry.action)
            asked = asked.where(LedgerEntry.subject.in_(wanted[first : first + MANY]), mine)
            told: dict[str, list[tuple[str, int]]] = defaultdict(list)
            ended: dict[str, int] = {}
            for ledger, no, subject, action in work.execute(asked.order_by(LedgerEntry.id)):
                if action == "erased":
                    ended[subject] = len(told[subject])
                if (action == "deed") == (kind == "deed"):
                    told[subject].append((ledger, no))
            for subject, end in ended.items():
                for ledger, no in told[subject][:end]:
                    work.execute(delete(LedgerValue).where(LedgerValue.ledger == ledger, LedgerValue.no == no))


def _attributes(fact: Fact, columns: Iterable[Any]) -> list[str]:
    """Return what columns of a fact are called on its objects."""
    mapper = inspect(fact.model)
    return [mapper.get_property_by_column(column).key for column in columns]


def _note_flush(db: Session, context: UOWTransaction) -> None:
    """Note the rows of facts that a flush writes."""
    for one in (*db.new, *db.dirty, *db.deleted):
        fact = FACTS.get(type(one).__tablename__)
        if fact is None:
            continue
        if one in db.dirty and not _is_changed(fact, one):
            continue
        values = tuple(getattr(one, name) for name in _attributes(fact, fact.keys))
        _noted(db).rows[fact.table.name][key_of(values)] = values


def _is_changed(fact: Fact, one: Any) -> bool:
    state = inspect(one)
    return any(state.attrs[name].history.has_changes() for name in _attributes(fact, fact.columns))


def _note_statement(state: ORMExecuteState) -> None:
    """Note the rows of facts that a statement is about to write."""
    statement = state.statement
    if not isinstance(statement, (Insert, Update, Delete)):
        return
    fact = FACTS.get(getattr(statement.table, "name", ""))
    if fact is None:
        return
    noted, names = _noted(state.session), [one.name for one in fact.keys]
    many: Sequence[Any] = state.parameters if isinstance(state.parameters, (list, tuple)) else ()
    if isinstance(statement, Insert) or (isinstance(statement, Update) and many):
        for one in many or [state.parameters or {}]:
            if not set(names) <= set(one):
                raise RuntimeError(
                    f"rows of {fact.table.name} are written with their keys as parameters, or by objects"
                )
            values = tuple(one[name] for name in names)
            noted.rows[fact.table.name][key_of(values)] = values
        return
    if isinstance(statement, Update):
        set_to = {getattr(one, "name", one) for one in (statement._values or {})}
        if set_to and set_to <= fact.left_out:
            return
    asked = select(*fact.keys).with_for_update()
    if statement.whereclause is not None:
        asked = asked.where(statement.whereclause)
    for row in state.session.execute(asked):
        noted.rows[fact.table.name][key_of(tuple(row))] = tuple(row)


def _enter(db: Session) -> None:
    """Enter what a session has written and done, at the end of its transaction."""
    db.flush()
    noted: _Noted | None = db.info.get(_NOTED)
    if noted is None or not (noted.rows or noted.deeds or noted.erased):
        return
    try:
        lines = _lines(db, noted)
        if lines:
            write_entries(db, noted.doing.clock.now(db), lines)
        _take_out(db, noted)
    finally:
        db.info[_NOTED] = _Noted(doing=noted.doing)


def _forget(db: Session) -> None:
    """Nothing was written after all."""
    with suppress(KeyError):
        db.info[_NOTED] = _Noted(doing=db.info[_NOTED].doing)


event.listen(Session, "after_flush", _note_flush)
event.listen(Session, "do_orm_execute", _note_statement)
event.listen(Session, "before_commit", _enter)
event.listen(Session, "after_rollback", _forget)
