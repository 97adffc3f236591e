"""Tables of papers: each as it was issued, and the codes on them."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import BigInteger, ForeignKey, Index, Integer, LargeBinary, String, UniqueConstraint
from sqlalchemy.dialects.mysql import LONGBLOB
from sqlalchemy.orm import Mapped, mapped_column

from moorfog.platform.db.base import Base, Id, UtcDateTime


class DocumentRow(Base):
    """An issued document; a reprint is the same file."""

    __tablename__ = "document"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    visit_id: Mapped[str] = mapped_column(Id, ForeignKey("visit.id"))
    revision: Mapped[int] = mapped_column(Integer)
    page_size: Mapped[str] = mapped_column(String(10))
    sha256: Mapped[str] = mapped_column(String(64))
    content: Mapped[bytes] = mapped_column(LargeBinary().with_variant(LONGBLOB(), "mariadb", "mysql"))
    issued_at: Mapped[datetime] = mapped_column(UtcDateTime)
    __table_args__ = (UniqueConstraint("visit_id", "revision", "page_size", name="uq_document"),)


class CardCode(Base):
    """The code on a visit's card and papers: by it a stranger asks whether the card still holds."""

    __tablename__ = "card_code"
    code: Mapped[str] = mapped_column(String(16), primary_key=True)
    visit_id: Mapped[str] = mapped_column(Id, ForeignKey("visit.id"), unique=True)
    made_at: Mapped[datetime] = mapped_column(UtcDateTime)


class CodeTry(Base):
    """A code that was asked for and does not exist: guessing is slow."""

    __tablename__ = "code_try"
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=True)
    address: Mapped[str] = mapped_column(String(64))
    at: Mapped[datetime] = mapped_column(UtcDateTime)
    __table_args__ = (Index("ix_code_try", "address", "at"), Index("ix_code_try_at", "at"))
