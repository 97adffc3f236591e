"""Tables of the programme: what was said to have changed, and the codes by which a card is checked."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any, Literal

from sqlalchemy import BigInteger, Date, ForeignKey, Index, LargeBinary, String, UniqueConstraint
from sqlalchemy.dialects.mysql import LONGBLOB, MEDIUMTEXT
from sqlalchemy.orm import Mapped, mapped_column
from sqlalchemy.types import JSON

from moorfog.store.base import Base, UtcDateTime
from moorfog.store.models import Id


class ChangeReport(Base):
    """Something somebody said has changed about a person. Never deleted; withdrawn with a reason where it was wrong.

    ``doubted_from``: passes tested up to then are doubted. ``configuration`` empty: every set-up.
    """

    __tablename__ = "change_report"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    person_id: Mapped[str] = mapped_column(Id, ForeignKey("person.id"))
    employer_id: Mapped[str] = mapped_column(Id)
    kind: Mapped[Literal["face", "health", "facepiece", "workplace", "fit"]] = mapped_column(String(12))
    configuration: Mapped[str] = mapped_column(String(64))
    setup: Mapped[str] = mapped_column(String(500))
    on_day: Mapped[date] = mapped_column(Date)
    doubted_from: Mapped[datetime] = mapped_column(UtcDateTime)
    said_by: Mapped[str] = mapped_column(String(12))
    words: Mapped[str] = mapped_column(String(200))
    account_id: Mapped[str] = mapped_column(Id)
    entered_at: Mapped[datetime] = mapped_column(UtcDateTime)
    withdrawn_at: Mapped[datetime | None] = mapped_column(UtcDateTime, default=None)
    withdrawn_by: Mapped[str] = mapped_column(String(190), default="")
    withdrawn_why: Mapped[str] = mapped_column(String(400), default="")
    __table_args__ = (
        Index("ix_change_report", "person_id", "entered_at"),
        Index("ix_change_report_employer", "employer_id", "entered_at"),
    )


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


class Crew(Base):
    """People who work together at a site, under a name; by id, as names change."""

    __tablename__ = "crew"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    site_id: Mapped[str] = mapped_column(Id, ForeignKey("site.id"))
    name: Mapped[str] = mapped_column(String(190))
    people: Mapped[list[str]] = mapped_column(JSON)
    __table_args__ = (UniqueConstraint("site_id", "name", name="uq_crew"),)


class CalendarFeed(Base):
    """The secret address of a site's calendar for one account. Only its digest is stored; a new one takes its place."""

    __tablename__ = "calendar_feed"
    account_id: Mapped[str] = mapped_column(Id, ForeignKey("account.id"), primary_key=True)
    site_id: Mapped[str] = mapped_column(Id, ForeignKey("site.id"), primary_key=True)
    digest: Mapped[str] = mapped_column(String(64), unique=True)
    made_at: Mapped[datetime] = mapped_column(UtcDateTime)


class JobFile(Base):
    """What a job made to be taken away by whoever asked for it; kept for a day."""

    __tablename__ = "job_file"
    job_id: Mapped[str] = mapped_column(Id, ForeignKey("job.id"), primary_key=True)
    name: Mapped[str] = mapped_column(String(120))
    media: Mapped[str] = mapped_column(String(80))
    content: Mapped[bytes] = mapped_column(LargeBinary().with_variant(LONGBLOB(), "mariadb", "mysql"))
    made_at: Mapped[datetime] = mapped_column(UtcDateTime, index=True)


class GateLink(Base):
    """The short-lived address of a tablet at a gate: for which crew, made by whom. Only its digest is stored."""

    __tablename__ = "gate_link"
    digest: Mapped[str] = mapped_column(String(64), primary_key=True)
    site_id: Mapped[str] = mapped_column(Id, ForeignKey("site.id"))
    account_id: Mapped[str] = mapped_column(Id, ForeignKey("account.id"))
    asked: Mapped[str] = mapped_column(MEDIUMTEXT)
    expires_at: Mapped[datetime] = mapped_column(UtcDateTime, index=True)


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
