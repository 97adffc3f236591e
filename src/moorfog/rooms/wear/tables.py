"""Tables of results of before, and of what a site says of them in writing."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any, Literal

from sqlalchemy import Date, ForeignKey, Index, String
from sqlalchemy.orm import Mapped, mapped_column
from sqlalchemy.types import JSON

from moorfog.platform.db.base import Base, Id, UtcDateTime


class HistoryRow(Base):
    """A result of before, taken over from a table: as it was written there, judged by nobody here. It permits nothing.

    ``digest`` keeps the same one from being taken over twice.
    """

    __tablename__ = "history_result"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    person_id: Mapped[str] = mapped_column(Id, ForeignKey("person.id"))
    employer_id: Mapped[str] = mapped_column(Id)
    tested_on: Mapped[date] = mapped_column(Date)
    model: Mapped[str] = mapped_column(String(190))
    size: Mapped[str] = mapped_column(String(40))
    method: Mapped[str] = mapped_column(String(190))
    result: Mapped[Literal["pass", "fail"]] = mapped_column(String(40))
    factor: Mapped[str] = mapped_column(String(30))
    tester: Mapped[str] = mapped_column(String(190))
    source: Mapped[str] = mapped_column(String(190))
    digest: Mapped[str] = mapped_column(String(64), unique=True)
    account_id: Mapped[str] = mapped_column(Id)
    entered_at: Mapped[datetime] = mapped_column(UtcDateTime)
    __table_args__ = (Index("ix_history_person", "person_id", "tested_on"),)


class HistoryWord(Base):
    """What a site says in writing of results of before: those in ``model`` and ``size``, as they stood in the table,
    count as passes in the set-up ``piece``. Never deleted; taken back with a reason.
    """

    __tablename__ = "history_word"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    site_id: Mapped[str] = mapped_column(Id, ForeignKey("site.id"))
    model: Mapped[str] = mapped_column(String(190))
    size: Mapped[str] = mapped_column(String(40))
    piece: Mapped[dict[str, Any]] = mapped_column(JSON)
    setup: Mapped[str] = mapped_column(String(500))
    why: Mapped[str] = mapped_column(String(400))
    said_by: Mapped[str] = mapped_column(String(190))
    said_on: Mapped[date] = mapped_column(Date)
    said_at: Mapped[datetime] = mapped_column(UtcDateTime)
    account_id: Mapped[str] = mapped_column(Id)
    withdrawn_at: Mapped[datetime | None] = mapped_column(UtcDateTime, default=None)
    withdrawn_by: Mapped[str] = mapped_column(String(190), default="")
    withdrawn_why: Mapped[str] = mapped_column(String(400), default="")
    __table_args__ = (Index("ix_history_word", "site_id", "said_at"),)
