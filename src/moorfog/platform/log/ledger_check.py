"""Whether the facts are those that were entered: each ledger is read again, and its tables are held against it.

Of a ledger: nothing missing, nothing put in, every entry what was written and sealed by this installation; what an
entry says is there, or a later erasure of the same row says why it is not. Of a table: every row is what the last
entry of it says, no row is there that was never entered, and none is gone that was not taken out.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import instant
from moorfog.platform.log.facts import FACTS, WHOLE, Fact, all_rows, rows_of_fact
from moorfog.platform.log.fault import Fault
from moorfog.platform.log.ledger import FIRST, GONE, chain_of, seal_of, value_digest
from moorfog.platform.log.tables import SAID, LedgerEntry, LedgerHead, LedgerValue
from moorfog.platform.log.take_over import columns_told
from moorfog.rooms.accounts.tables import Account, ApiToken
from moorfog.same import is_same

Progress = Callable[[int], None]
TOLD_EVERY = 2000
_COLUMNS = (
    LedgerEntry.ledger,
    LedgerEntry.no,
    LedgerEntry.at,
    LedgerEntry.account_id,
    LedgerEntry.deed,
    LedgerEntry.action,
    LedgerEntry.kind,
    LedgerEntry.subject,
    LedgerEntry.digest,
    LedgerEntry.chain,
    LedgerEntry.seal,
    LedgerValue.salt,
    LedgerValue.content,
)


@dataclass(frozen=True)
class _Last:
    """The last entry of a row: which, and what it says."""

    no: int
    content: str | None


def check_ledgers(
    db: Session, key: bytes | None, progress: Progress = lambda done: None, since: dict[str, int] | None = None
) -> Iterator[Fault]:
    """Yield what is wrong with the ledgers and with the tables of facts.

    ``key``: of the seals, None where it is not at hand: then the chains are believed. ``since``: up to which entry
    each ledger was checked before; only what came after, and the rows that it names, are looked at. ``progress`` hears
    now and then at which entry of a ledger it is.
    """
    if columns_told(db) is None:
        yield Fault("ledger", "the ledgers", "they have not begun, or their beginning was taken out")
    heads = {one.ledger: (one.no, one.chain) for one in db.scalars(select(LedgerHead))}
    known = set(heads) | {WHOLE}
    for ledger in db.scalars(select(LedgerEntry.ledger).distinct()):
        known.add(ledger)
    for fact in FACTS.values():
        yield from _astray(db, fact, known)
    for ledger in sorted(known):
        after = (since or {}).get(ledger, 0)
        last: dict[str, dict[str, _Last]] = {name: {} for name in FACTS}
        yield from _check_entries(db, ledger, heads.get(ledger, (0, FIRST)), key, last, after, progress)
        for name, fact in FACTS.items():
            if since is None:
                yield from _check_table(db, fact, ledger, last[name])
            else:
                yield from _check_some(db, fact, ledger, last[name])


def _astray(db: Session, fact: Fact, known: set[str]) -> Iterator[Fault]:
    """Yield the rows that belong to an employer, or through something, that has no ledger at all."""
    table = fact.table
    if fact.by is not None:
        owner = fact.by.__table__
        keys = [column.label(f"key_{n}") for n, column in enumerate(fact.keys)]
        asked = select(*keys).outerjoin(owner, owner.columns["id"] == table.columns[fact.through])
        for row in db.execute(asked.where(owner.columns["id"].is_(None))):
            yield Fault(
                "fact", f"{table.name} {':'.join(map(str, row))}", f"what its {fact.through} names is not there"
            )
    elif fact.employer is not None:
        column = table.columns[fact.employer]
        for employer in db.scalars(select(column).distinct()):
            if (employer or WHOLE) not in known:
                yield Fault("fact", f"{table.name} of employer {employer}", "it was entered in no ledger")


def _check_entries(
    db: Session,
    ledger: str,
    head: tuple[int, str],
    key: bytes | None,
    last: dict[str, dict[str, _Last]],
    after: int,
    progress: Progress,
) -> Iterator[Fault]:
    """Yield what is wrong with a ledger itself, and note in ``last`` what its last entry of each row says."""
    name = f"ledger of {ledger or 'the whole'}"
    before, no = FIRST, after
    if after:
        found = db.scalar(select(LedgerEntry.chain).where(LedgerEntry.ledger == ledger, LedgerEntry.no == after))
        before = found or FIRST
    missing: dict[tuple[str, str], int] = {}
    asked = select(*_COLUMNS).outerjoin(LedgerValue, SAID)
    asked = asked.where(LedgerEntry.ledger == ledger, LedgerEntry.no > after)
    for row in db.execute(asked.order_by(LedgerEntry.no).execution_options(yield_per=TOLD_EVERY)):
        entry = row._mapping
        where = f"{name}, entry {entry['no']}"
        if entry["no"] != no + 1:
            yield Fault("ledger", where, f"entries {no + 1} to {entry['no'] - 1} before it are gone")
        if entry["chain"] != chain_of(dict(entry), before):
            yield Fault("ledger", where, "it is not what was written")
        elif key is not None and not is_same(entry["seal"], seal_of(key, entry["chain"])):
            yield Fault("ledger", where, "it was not written by this installation: its seal is not ours")
        if entry["content"] is not None and value_digest(entry["salt"], entry["content"]) != entry["digest"]:
            yield Fault("ledger", where, "what it says is not what was written")
        action, kind, subject = entry["action"], entry["kind"], entry["subject"]
        of = ("deed" if action == "deed" else kind, subject)
        if action == "erased":
            missing.pop(of, None)
        if entry["content"] is None and of not in missing:
            missing[of] = entry["no"]
        if action != "deed" and kind in last:
            last[kind][subject] = _Last(entry["no"], entry["content"])
        before, no = entry["chain"], entry["no"]
        if no % TOLD_EVERY == 0:
            progress(no)
    if (no, before) != head:
        yield Fault("ledger", f"{name}, its end", "entries were cut off, or its head was changed")
    for (kind, subject), at in missing.items():
        problem = f"what it says of {kind} {subject} is gone, and no erasure says why"
        yield Fault("ledger", f"{name}, entry {at}", problem)


def _check_table(db: Session, fact: Fact, ledger: str, last: dict[str, _Last]) -> Iterator[Fault]:
    """Yield the rows of a table that are other than their ledger says, more, or missing."""
    name, seen, other = fact.table.name, set(), []
    for row in all_rows(db, fact, ledger):  # nothing else is asked on this connection meanwhile
        entry = last.get(row.key)
        seen.add(row.key)
        if entry is None or entry.content != row.content:
            other.append((row.key, entry, row.content))
    for key, entry, now in other:
        if entry is None or entry.content == GONE:
            problem = (
                "nobody entered it: it is in no ledger" if entry is None else "it is there again, and was taken out"
            )
            yield Fault("fact", f"{name} {key}", problem + _by(db, ledger, entry))
        else:
            yield from _other(db, name, ledger, key, entry, now)
    for key, entry in last.items():
        if key not in seen and entry.content != GONE:
            yield Fault("fact", f"{name} {key}", "it is gone" + _by(db, ledger, entry))


def _check_some(db: Session, fact: Fact, ledger: str, last: dict[str, _Last]) -> Iterator[Fault]:
    """Yield the same of the rows that these entries name."""
    keys = sorted(last)
    for first in range(0, len(keys), 500):
        some = keys[first : first + 500]
        found = {row.key: row for row in rows_of_fact(db, fact, [tuple(one.split(":")) for one in some])}
        for key in some:
            row, entry = found.get(key), last[key]
            if row is None and entry.content != GONE:
                yield Fault("fact", f"{fact.table.name} {key}", "it is gone" + _by(db, ledger, entry))
            elif row is not None and entry.content != row.content:
                yield from _other(db, fact.table.name, ledger, key, entry, row.content)


def _other(db: Session, name: str, ledger: str, key: str, entry: _Last, now: str) -> Iterator[Fault]:
    held, found = json.loads(entry.content or "{}"), json.loads(now)
    if not isinstance(held, dict):
        held = {}
    names = sorted(one for one in held.keys() & found.keys() if held[one] != found[one])
    if names or not held:
        words = ", ".join(names) or "all of it"
        problem = f"it is not what was entered: {words}" + _by(db, ledger, entry)
        yield Fault("fact", f"{name} {key}", problem)


def _name_of(db: Session, account: str) -> str | None:
    """Return who an account is, or what a token was made for."""
    named = db.scalar(select(Account.name).where(Account.id == account))
    return named or db.scalar(select(ApiToken.name).where(ApiToken.id == account))


def _by(db: Session, ledger: str, entry: _Last | None) -> str:
    """Say who wrote a row last, and when."""
    if entry is None:
        return ""
    asked = select(LedgerEntry.at, LedgerEntry.account_id, LedgerEntry.deed)
    at, account, deed = db.execute(asked.where(LedgerEntry.ledger == ledger, LedgerEntry.no == entry.no)).one()
    who = _name_of(db, account) if account else None
    return f" (last written at {instant(at)} by {who or account or 'the program'}, {deed}; entry {entry.no})"
