"""The ledgers: for each employer, and for what is nobody's alone, what was done and every fact that came of it."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from sqlalchemy import BigInteger, Index, Integer, String, UniqueConstraint, and_
from sqlalchemy.dialects.mysql import MEDIUMTEXT
from sqlalchemy.orm import Mapped, mapped_column

from moorfog.store.base import Base, UtcDateTime

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


class AnchoredLedger(Base):
    """The head of a ledger that an anchor signed."""

    __tablename__ = "anchored_ledger"
    ledger: Mapped[str] = mapped_column(String(36), primary_key=True)
    seq: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    no: Mapped[int] = mapped_column(Integer, index=True)
    chain: Mapped[str] = mapped_column(String(64))
