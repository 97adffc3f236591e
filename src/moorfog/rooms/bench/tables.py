"""Tables of a visit while it goes on: screens, leases of instruments, readings, signatures."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ForeignKey, Integer, String
from sqlalchemy.dialects.mysql import MEDIUMTEXT
from sqlalchemy.orm import Mapped, mapped_column

from moorfog.platform.db.base import Base, Id, UtcDateTime


class WearerLink(Base):
    """The short-lived address of a wearer's screen. Only the digest of its secret is stored, and that of the secret of
    the screen which opened it first."""

    __tablename__ = "wearer_link"
    digest: Mapped[str] = mapped_column(String(64), primary_key=True)
    visit_id: Mapped[str] = mapped_column(Id, ForeignKey("visit.id"), index=True)
    expires_at: Mapped[datetime] = mapped_column(UtcDateTime, index=True)
    screen: Mapped[str | None] = mapped_column(String(64), default=None)


class ReadingChunk(Base):
    """About a second of readings, in columns; the instrument's own append-only stream."""

    __tablename__ = "reading_chunk"
    run_id: Mapped[str] = mapped_column(Id, primary_key=True)
    first: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    n: Mapped[int] = mapped_column(Integer)
    instrument_id: Mapped[str] = mapped_column(Id)
    columns: Mapped[str] = mapped_column(MEDIUMTEXT)
    received_at: Mapped[datetime] = mapped_column(UtcDateTime)


class SignatureRow(Base):
    """What was signed, by whom: erasable name, canonical bytes, salted digest in the log."""

    __tablename__ = "signature"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    visit_id: Mapped[str] = mapped_column(Id, ForeignKey("visit.id"), index=True)
    revision: Mapped[int] = mapped_column(Integer)
    role: Mapped[str] = mapped_column(String(10))
    typed_name: Mapped[str] = mapped_column(String(190))
    canonical: Mapped[str] = mapped_column(MEDIUMTEXT)
    signed_at: Mapped[datetime] = mapped_column(UtcDateTime)
