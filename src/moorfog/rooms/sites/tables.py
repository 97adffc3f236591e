"""Tables of employers and sites, and of what a site decides: its rules, tasks, protocols and words."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any, Literal

from sqlalchemy import Date, ForeignKey, Index, Integer, String
from sqlalchemy.dialects.mysql import MEDIUMTEXT
from sqlalchemy.orm import Mapped, mapped_column
from sqlalchemy.types import JSON

from moorfog.platform.db.base import Base, Id, UtcDateTime


class Employer(Base):
    """An employer; the border of what an account may see."""

    __tablename__ = "employer"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    name: Mapped[str] = mapped_column(String(190))
    archived_at: Mapped[datetime | None] = mapped_column(UtcDateTime, default=None)
    day_order: Mapped[Literal["", "dmy", "mdy", "ymd"]] = mapped_column(String(3), default="")
    """In which order the days of their tables are written (dmy, mdy, ymd); empty where nobody has chosen it yet."""


class Site(Base):
    """A site of an employer, with its IANA time zone: "valid until" is a date in it."""

    __tablename__ = "site"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    employer_id: Mapped[str] = mapped_column(Id, ForeignKey("employer.id"), index=True)
    name: Mapped[str] = mapped_column(String(190))
    zone: Mapped[str] = mapped_column(String(64))
    benches: Mapped[list[str]] = mapped_column(JSON)
    rule_book: Mapped[str] = mapped_column(String(60), default="us-29cfr1910-134")
    archived_at: Mapped[datetime | None] = mapped_column(UtcDateTime, default=None)
    notice_days: Mapped[int | None] = mapped_column(Integer, default=None)
    """How long before a test runs out it is due; null: as the rule book has it."""
    keep_months: Mapped[int | None] = mapped_column(Integer, default=None)
    """How long after somebody has left their personal data are kept; null: until somebody erases them."""


class SiteRule(Base):
    """An entry of a site over its rule book; append-only, the latest of a key counts. Value null: only checked."""

    __tablename__ = "site_rule"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    site_id: Mapped[str] = mapped_column(Id, ForeignKey("site.id"))
    book: Mapped[str] = mapped_column(String(60))
    key: Mapped[str] = mapped_column(String(80))
    value: Mapped[Any | None] = mapped_column(JSON(none_as_null=True))
    reason: Mapped[str] = mapped_column(String(400))
    edition: Mapped[str] = mapped_column(String(190))
    by_name: Mapped[str] = mapped_column(String(190))
    entered_at: Mapped[datetime] = mapped_column(UtcDateTime)
    begins_on: Mapped[date | None] = mapped_column(Date, default=None)
    """From which day on it counts; null: from the moment it was entered."""
    __table_args__ = (Index("ix_site_rule", "site_id", "book", "entered_at"),)


class SiteTask(Base):
    """A task of a site. A changed or renamed task is a new row with the same ``task_id``, by which people have it; the
    old row stays for the records that name it."""

    __tablename__ = "site_task"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    site_id: Mapped[str] = mapped_column(Id, ForeignKey("site.id"))
    name: Mapped[str] = mapped_column(String(190))
    content: Mapped[dict[str, Any]] = mapped_column(JSON)
    entered_at: Mapped[datetime] = mapped_column(UtcDateTime)
    is_current: Mapped[bool]
    task_id: Mapped[str] = mapped_column(Id)
    __table_args__ = (
        Index("ix_site_task", "site_id", "is_current", "name"),
        Index("ix_site_task_id", "task_id"),
    )


class SiteProtocol(Base):
    """A protocol that a site has added; append-only, the latest of an id counts, a withdrawn one is off."""

    __tablename__ = "site_protocol"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    site_id: Mapped[str] = mapped_column(Id, ForeignKey("site.id"))
    protocol_id: Mapped[str] = mapped_column(String(60))
    content: Mapped[dict[str, Any]] = mapped_column(JSON)
    is_withdrawn: Mapped[bool]
    by_name: Mapped[str] = mapped_column(String(190))
    entered_at: Mapped[datetime] = mapped_column(UtcDateTime)
    __table_args__ = (Index("ix_site_protocol", "site_id", "protocol_id", "entered_at"),)


class Organisation(Base):
    """Who runs this installation. One row; none before it is set up."""

    __tablename__ = "organisation"
    id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    name: Mapped[str] = mapped_column(String(190))
    by_senses_only: Mapped[bool] = mapped_column(default=False)
    """Whether it was said that there is no instrument here."""
    made_at: Mapped[datetime] = mapped_column(UtcDateTime)


class SiteTerms(Base):
    """A site's own terms, which wearer and tester sign under; append-only, the highest number counts. Empty text: the
    procedure's own again."""

    __tablename__ = "site_terms"
    site_id: Mapped[str] = mapped_column(Id, ForeignKey("site.id"), primary_key=True)
    no: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    text: Mapped[str] = mapped_column(MEDIUMTEXT)
    by_name: Mapped[str] = mapped_column(String(190))
    entered_at: Mapped[datetime] = mapped_column(UtcDateTime)
