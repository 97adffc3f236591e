"""Tables of the logs of visits and of the ledgers."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from sqlalchemy import BigInteger, ForeignKey, Index, Integer, String, UniqueConstraint, and_
from sqlalchemy.dialects.mysql import MEDIUMTEXT
from sqlalchemy.orm import Mapped, mapped_column
from sqlalchemy.types import JSON

from moorfog.platform.db.base import Base, Id, UtcDateTime


class RuleSet(Base):
    """A pinned rule set, by digest."""

    __tablename__ = "rule_set"
    digest: Mapped[str] = mapped_column(String(64), primary_key=True)
    content: Mapped[dict[str, Any]] = mapped_column(JSON)


class VisitHead(Base):
    """The head of a visit's log: the row that is locked to append."""

    __tablename__ = "visit"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    employer_id: Mapped[str] = mapped_column(Id, ForeignKey("employer.id"), index=True)
    site_id: Mapped[str] = mapped_column(Id, ForeignKey("site.id"))
    rules_digest: Mapped[str] = mapped_column(String(64), ForeignKey("rule_set.digest"))
    origin: Mapped[str] = mapped_column(String(10))
    seq: Mapped[int] = mapped_column(Integer)
    chain: Mapped[str] = mapped_column(String(64))


class EventRow(Base):
    """One event, clustered on (visit, seq). ``proposal_digest`` makes a repeated proposal harmless."""

    __tablename__ = "event"
    visit_id: Mapped[str] = mapped_column(Id, ForeignKey("visit.id"), primary_key=True)
    seq: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    id: Mapped[str] = mapped_column(Id, unique=True)
    kind: Mapped[str] = mapped_column(String(40))
    version: Mapped[int] = mapped_column(Integer)
    occurred_at: Mapped[datetime] = mapped_column(UtcDateTime)
    recorded_at: Mapped[datetime] = mapped_column(UtcDateTime)
    actor: Mapped[str] = mapped_column(String(80))
    payload: Mapped[str] = mapped_column(MEDIUMTEXT)
    proposal_digest: Mapped[str] = mapped_column(String(64))
    chain: Mapped[str] = mapped_column(String(64))


class EventWords(Base):
    """Words somebody typed into the log of a visit, for which a sign stands there; taken out with the person."""

    __tablename__ = "event_words"
    visit_id: Mapped[str] = mapped_column(Id, ForeignKey("visit.id"), primary_key=True)
    sign: Mapped[str] = mapped_column(String(70), primary_key=True)
    salt: Mapped[str] = mapped_column(String(32))
    text: Mapped[str] = mapped_column(MEDIUMTEXT)


Action = Literal["deed", "row", "gone", "erased"]


class LedgerHead(Base):
    """The head of a ledger: the row that is locked to write into it. ``ledger``: an employer's id, or empty."""

    __tablename__ = "ledger_head"
    ledger: Mapped[str] = mapped_column(String(36), primary_key=True)
    no: Mapped[int] = mapped_column(BigInteger)
    chain: Mapped[str] = mapped_column(String(64))


class LedgerEntry(Base):
    """An entry of a ledger; chained, sealed with a key that is not in the database, never changed.

    ``action`` deed: somebody did something, ``kind`` and ``subject`` say to what. row: how a row stands from now on,
    ``kind`` its table, ``subject`` its key. gone: the row was taken out. erased: the same, or how it stands emptied;
    what earlier entries say of it is gone, and this entry is why.

    ``digest``: the salted digest of what it says, which stands in :class:`LedgerValue` and may name somebody.
    """

    __tablename__ = "ledger_entry"
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=True)
    ledger: Mapped[str] = mapped_column(String(36))
    no: Mapped[int] = mapped_column(BigInteger)
    at: Mapped[datetime] = mapped_column(UtcDateTime)
    account_id: Mapped[str] = mapped_column(String(36))
    deed: Mapped[str] = mapped_column(String(60))
    action: Mapped[Action] = mapped_column(String(6))
    kind: Mapped[str] = mapped_column(String(40))
    subject: Mapped[str] = mapped_column(String(80))
    digest: Mapped[str] = mapped_column(String(64))
    chain: Mapped[str] = mapped_column(String(64))
    seal: Mapped[str] = mapped_column(String(64))
    __table_args__ = (
        UniqueConstraint("ledger", "no", name="uq_ledger_entry"),
        Index("ix_ledger_subject", "subject", "kind", "id"),
        Index("ix_ledger_action", "ledger", "action", "id"),
        Index("ix_ledger_account", "account_id", "action", "id"),
    )


class LedgerValue(Base):
    """What an entry says, as JSON, with the salt of its digest. Taken out where an erasure says so, never changed."""

    __tablename__ = "ledger_value"
    ledger: Mapped[str] = mapped_column(String(36), primary_key=True)
    no: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    salt: Mapped[str] = mapped_column(String(32))
    content: Mapped[str] = mapped_column(MEDIUMTEXT)


SAID = and_(LedgerValue.ledger == LedgerEntry.ledger, LedgerValue.no == LedgerEntry.no)
"""Joins an entry with what it says."""


class Lease(Base):
    """A run's hold on one counter; the primary key is what keeps two benches apart.

    ``stop``: the bench has ended the run; its link is to read no further.
    """

    __tablename__ = "instrument_lease"
    instrument_id: Mapped[str] = mapped_column(Id, ForeignKey("instrument.id"), primary_key=True)
    run_id: Mapped[str] = mapped_column(Id, unique=True)
    visit_id: Mapped[str] = mapped_column(Id, ForeignKey("visit.id"))
    plan: Mapped[dict[str, Any]] = mapped_column(JSON)
    ends_at: Mapped[datetime] = mapped_column(UtcDateTime, index=True)
    stop: Mapped[bool] = mapped_column(default=False)


class VisitScreen(Base):
    """A screen on which presses for a visit are made. ``awaited_run``: the run whose verdict waits for it, if any."""

    __tablename__ = "visit_screen"
    visit_id: Mapped[str] = mapped_column(Id, ForeignKey("visit.id"), primary_key=True)
    screen: Mapped[str] = mapped_column(Id, primary_key=True)
    role: Mapped[Literal["bench", "wearer"]] = mapped_column(String(10))
    seen_at: Mapped[datetime] = mapped_column(UtcDateTime, index=True)
    awaited_run: Mapped[str | None] = mapped_column(Id, nullable=True, index=True)
