"""Anchors: once a day the heads of all logs are signed with a key that is not in the database.

A chain shows that nothing before its head was changed; it cannot show that the head itself was not cut off together
with the last entries. An anchor can: it holds, for every log that has grown since the last one, how long it was and
what its head was, and the digest of the anchor before it. Whoever cuts a log must take back the anchor, and cannot
sign another. Printed, anchors are out of reach of whoever has the machine.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey
from sqlalchemy import and_, func, insert, literal, or_, select
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import instant
from moorfog.core.kernel.canonical import canonical_bytes, digest
from moorfog.platform.db.clock import Clock
from moorfog.platform.keys import public_hex
from moorfog.platform.log.tables import EventRow, LedgerEntry, LedgerHead, VisitHead
from moorfog.rooms.proof.tables import Anchor, Anchored, AnchoredLedger

AT_ONCE = 1000
FIRST = "0" * 64


@dataclass(frozen=True)
class AnchorFault:
    """What does not hold: where, and what is wrong."""

    where: str
    problem: str


@dataclass(frozen=True)
class _Heads:
    """Heads that an anchor signs: how many, and the digest of all of them."""

    count: int
    digest: str


def content_of(no: int, day: str, made_at: str, heads: _Heads, ledgers: _Heads, before: str) -> str:
    """Return what is signed of an anchor, as canonical JSON: the heads of visits' logs, and of ledgers."""
    said = {"no": no, "day": day, "made_at": made_at, "heads": heads.digest, "count": heads.count, "before": before}
    return canonical_bytes({**said, "ledgers": ledgers.digest, "ledger_count": ledgers.count}).decode()


def _digest_of_heads(rows: Iterable[tuple[str, int, str]]) -> _Heads:
    lines = [f"{of} {seq} {chain}" for of, seq, chain in rows]
    return _Heads(len(lines), digest(lines))


def last_anchor(db: Session) -> Anchor | None:
    """Return the newest anchor."""
    return db.scalar(select(Anchor).order_by(Anchor.no.desc()).limit(1))


def make_anchor(db: Session, clock: Clock, key: Ed25519PrivateKey) -> Anchor | None:
    """Sign the heads that have grown since the last anchor; None where there is one of today already."""
    now = clock.now(db)
    before = last_anchor(db)
    if before is not None and before.day >= now.date().isoformat():
        return None
    no = before.no + 1 if before is not None else 1
    known = select(Anchored.visit_id, func.max(Anchored.seq).label("seq")).group_by(Anchored.visit_id).subquery()
    grown = (
        select(literal(no), VisitHead.id, VisitHead.seq, VisitHead.chain)
        .outerjoin(known, known.c.visit_id == VisitHead.id)
        .where(VisitHead.seq > 0, or_(known.c.seq.is_(None), VisitHead.seq > known.c.seq))
    )
    db.execute(insert(Anchored).from_select(["no", "visit_id", "seq", "chain"], grown))
    told = select(AnchoredLedger.ledger, func.max(AnchoredLedger.seq).label("seq"))
    past = told.group_by(AnchoredLedger.ledger).subquery()
    longer = (
        select(literal(no), LedgerHead.ledger, LedgerHead.no, LedgerHead.chain)
        .outerjoin(past, past.c.ledger == LedgerHead.ledger)
        .where(LedgerHead.no > 0, or_(past.c.seq.is_(None), LedgerHead.no > past.c.seq))
    )
    db.execute(insert(AnchoredLedger).from_select(["no", "ledger", "seq", "chain"], longer))
    heads, ledgers = _digest_of_heads(_heads(db, no)), _digest_of_heads(_ledgers(db, no))
    last = digest(before.content) if before else FIRST
    content = content_of(no, now.date().isoformat(), instant(now), heads, ledgers, last)
    row = Anchor(
        no=no,
        day=now.date().isoformat(),
        content=content,
        signature=key.sign(content.encode()).hex(),
        public_key=public_hex(key.public_key()),
    )
    db.add(row)
    db.flush()
    return row


def _heads(db: Session, no: int) -> Iterator[tuple[str, int, str]]:
    query = select(Anchored.visit_id, Anchored.seq, Anchored.chain).where(Anchored.no == no)
    yield from ((visit, seq, chain) for visit, seq, chain in db.execute(query.order_by(Anchored.visit_id)))


def _ledgers(db: Session, no: int) -> Iterator[tuple[str, int, str]]:
    query = select(AnchoredLedger.ledger, AnchoredLedger.seq, AnchoredLedger.chain).where(AnchoredLedger.no == no)
    yield from (
        (ledger or "whole", seq, chain) for ledger, seq, chain in db.execute(query.order_by(AnchoredLedger.ledger))
    )


def printed(row: Anchor) -> str:
    """Return an anchor as a line to keep outside: its number, day, digest, signature and key."""
    return f"{row.no} {row.day} {digest(row.content)} {row.signature} {row.public_key}"


def check_anchors(
    db: Session, trusted: str, kept: Iterable[str] = (), last_only: bool = False
) -> Iterator[AnchorFault]:
    """Yield what is wrong with the anchors, and every log that is not what it was when it was anchored.

    ``trusted``: the public key in hexadecimal, empty where it is not at hand: then the anchors are believed to name
    their own. ``kept``: lines as :func:`printed` gave them out. ``last_only``: of the heads, only those of the last
    anchor are looked at.
    """
    before, no = FIRST, 0
    last = db.scalar(select(func.max(Anchor.no))) or 0
    lines = set[str]()
    for row in db.scalars(select(Anchor).order_by(Anchor.no)):
        where = f"anchor {row.no} of {row.day}"
        no += 1
        lines.add(printed(row))
        heads = not last_only or row.no == last
        yield from (AnchorFault(where, one) for one in _problems(db, row, no, before, trusted, heads))
        before, no = digest(row.content), row.no
    for line in kept:
        words = line.split()
        if len(words) == 5 and words[0].isdigit() and line.strip() not in lines:
            yield AnchorFault(f"anchor {words[0]} of {words[1]}", "it is not the one that was printed, or is gone")
    only = last if last_only else None
    yield from _cut_logs(db, only)
    yield from _cut_ledgers(db, only)


def _problems(db: Session, row: Anchor, no: int, before: str, trusted: str, heads: bool) -> Iterator[str]:
    if row.no != no:
        yield f"the anchor before it, number {no}, is gone"
    try:
        said = json.loads(row.content)
        key = Ed25519PublicKey.from_public_bytes(bytes.fromhex(trusted or row.public_key))
        key.verify(bytes.fromhex(row.signature), row.content.encode())
    except (InvalidSignature, ValueError):
        yield "its signature is not that of this installation's key"
        return
    if (said.get("no"), said.get("day")) != (row.no, row.day):
        yield "its number or day is not the one that was signed"
    if said.get("before") != before:
        yield "it does not follow on the anchor before it"
    if not heads:
        return
    if _Heads(said.get("count"), said.get("heads")) != _digest_of_heads(_heads(db, row.no)):
        yield "the heads it names are not those that were signed"
    there, ledgers = _digest_of_heads(_ledgers(db, row.no)), _Heads(said.get("ledger_count"), said.get("ledgers"))
    if ledgers != there and ("ledgers" in said or there.count):  # one made before there were ledgers names none
        yield "the heads of ledgers that it names are not those that were signed"


def _cut_logs(db: Session, only: int | None) -> Iterator[AnchorFault]:
    """Yield the logs that are shorter than they were when anchored, or other there; ``only``: by this anchor."""
    there = and_(EventRow.visit_id == Anchored.visit_id, EventRow.seq == Anchored.seq)
    query = (
        select(Anchored, VisitHead.seq, EventRow.chain)
        .outerjoin(VisitHead, VisitHead.id == Anchored.visit_id)
        .outerjoin(EventRow, there)
        .order_by(Anchored.visit_id, Anchored.seq)
    )
    if only is not None:
        query = query.where(Anchored.no == only)
    for one, seq, chain in db.execute(query.execution_options(yield_per=AT_ONCE)):
        where = f"visit {one.visit_id}"
        if seq is None:
            yield AnchorFault(where, f"it is gone: anchor {one.no} knows {one.seq} entries of it")
        elif seq < one.seq:
            yield AnchorFault(where, f"its log was cut: anchor {one.no} knows {one.seq} entries, {seq} are left")
        elif chain != one.chain:
            yield AnchorFault(where, f"its log is not the one that anchor {one.no} knows, at entry {one.seq}")


def _cut_ledgers(db: Session, only: int | None) -> Iterator[AnchorFault]:
    """Yield the same of the ledgers."""
    there = and_(LedgerEntry.ledger == AnchoredLedger.ledger, LedgerEntry.no == AnchoredLedger.seq)
    query = (
        select(AnchoredLedger, LedgerEntry.chain)
        .outerjoin(LedgerEntry, there)
        .order_by(AnchoredLedger.ledger, AnchoredLedger.seq)
    )
    if only is not None:
        query = query.where(AnchoredLedger.no == only)
    for one, chain in db.execute(query.execution_options(yield_per=AT_ONCE)):
        if chain != one.chain:
            what = "it was cut" if chain is None else "it is not the one that was anchored"
            yield AnchorFault(f"ledger of {one.ledger or 'the whole'}", f"{what}: anchor {one.no}, entry {one.seq}")
