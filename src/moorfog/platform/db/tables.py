"""Tables of the clock."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import BigInteger, ForeignKey, Index, Integer, String
from sqlalchemy.orm import Mapped, mapped_column

from moorfog.platform.db.base import Base, Id, UtcDateTime


class ClockRow(Base):
    """By how much times here are behind the database's clock; one row, 0 but after a jump."""

    __tablename__ = "clock"
    id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    behind_ms: Mapped[int] = mapped_column(BigInteger)


class ClockJump(Base):
    """A jump of the database's clock: when, how far ahead (below zero: back), when the new time was taken."""

    __tablename__ = "clock_jump"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    at: Mapped[datetime] = mapped_column(UtcDateTime)
    by_ms: Mapped[int] = mapped_column(BigInteger)
    taken_at: Mapped[datetime | None] = mapped_column(UtcDateTime)


class KitLent(Base):
    """An instrument, lot, nebuliser or sampling part lent to an employer: its people use it as if it were theirs."""

    __tablename__ = "kit_lent"
    kit_id: Mapped[str] = mapped_column(Id, primary_key=True)
    employer_id: Mapped[str] = mapped_column(Id, ForeignKey("employer.id"), primary_key=True)
    lent_by: Mapped[str] = mapped_column(String(190))
    lent_at: Mapped[datetime] = mapped_column(UtcDateTime)
    __table_args__ = (Index("ix_lent_to", "employer_id"),)
