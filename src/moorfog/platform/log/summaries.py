"""Tables of the read models: what lists and searches need, refilled at any time from the logs."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from sqlalchemy import Date, ForeignKey, Index, Integer, String, text
from sqlalchemy.orm import Mapped, mapped_column
from sqlalchemy.types import JSON

from moorfog.platform.db.base import Base, Id, UtcDateTime


class ReadModel:
    """Columns that every read model carries."""

    source_seq: Mapped[int] = mapped_column(Integer)
    fold_version: Mapped[int] = mapped_column(Integer)


class SealNotice(Base):
    """A supervisor has acknowledged the failed seal checks of a visit, so many of them."""

    __tablename__ = "seal_notice"
    visit_id: Mapped[str] = mapped_column(Id, ForeignKey("visit.id"), primary_key=True)
    account_id: Mapped[str] = mapped_column(Id)
    acknowledged_at: Mapped[datetime] = mapped_column(UtcDateTime)
    fails: Mapped[int] = mapped_column(Integer)


class VisitSummary(ReadModel, Base):
    """A visit in a line."""

    __tablename__ = "visit_summary"
    visit_id: Mapped[str] = mapped_column(Id, primary_key=True)
    employer_id: Mapped[str] = mapped_column(Id)
    site_id: Mapped[str] = mapped_column(Id)
    person_id: Mapped[str] = mapped_column(Id, index=True)
    bench: Mapped[str] = mapped_column(String(80))
    step: Mapped[str] = mapped_column(String(20))
    doing: Mapped[str] = mapped_column(String(190))
    verdict: Mapped[str] = mapped_column(String(12))
    tries: Mapped[int] = mapped_column(Integer)
    facepiece: Mapped[str] = mapped_column(String(190))
    alterations_open: Mapped[int] = mapped_column(Integer)
    seal_fails: Mapped[int] = mapped_column(Integer)
    ready_at: Mapped[datetime | None] = mapped_column(UtcDateTime)
    is_practice: Mapped[bool]
    is_signed: Mapped[bool]
    closed: Mapped[str] = mapped_column(String(12))
    under_question: Mapped[bool] = mapped_column(default=False)
    opened_at: Mapped[datetime] = mapped_column(UtcDateTime)
    last_at: Mapped[datetime] = mapped_column(UtcDateTime)
    seal_open: Mapped[bool] = mapped_column(default=False)
    """Whether seal checks failed that no supervisor has acknowledged."""
    changed_at: Mapped[datetime] = mapped_column(UtcDateTime, server_default=text("CURRENT_TIMESTAMP(3)"))
    """When the database last wrote this line: by it a page of the day hears that something has changed."""
    __table_args__ = (
        Index("ix_summary_open", "closed", "is_practice", "opened_at"),
        Index("ix_summary_last", "last_at"),
        Index("ix_summary_question", "under_question", "last_at"),
        Index("ix_summary_notice", "seal_open", "last_at"),
        Index("ix_summary_changed", "changed_at"),
    )


class TryResult(ReadModel, Base):
    """A try with its outcome."""

    __tablename__ = "try_result"
    visit_id: Mapped[str] = mapped_column(Id, primary_key=True)
    no: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    run_id: Mapped[str] = mapped_column(Id)
    employer_id: Mapped[str] = mapped_column(Id)
    site_id: Mapped[str | None] = mapped_column(Id)
    tester_id: Mapped[str] = mapped_column(String(80), default="")
    """Who started it."""
    protocol_id: Mapped[str] = mapped_column(String(60), default="")
    book: Mapped[str] = mapped_column(String(60), default="")
    """The rule book it was judged under."""
    person_id: Mapped[str] = mapped_column(Id)
    model_id: Mapped[str] = mapped_column(Id)
    model: Mapped[str] = mapped_column(String(250))
    size: Mapped[str] = mapped_column(String(40))
    configuration: Mapped[str] = mapped_column(String(64))
    method: Mapped[str] = mapped_column(String(20))
    outcome: Mapped[str] = mapped_column(String(12))
    overall: Mapped[str] = mapped_column(String(30))
    level: Mapped[str] = mapped_column(String(30))
    is_practice: Mapped[bool]
    is_signed: Mapped[bool]
    tested_at: Mapped[datetime] = mapped_column(UtcDateTime)
    __table_args__ = (
        Index("ix_try_all", "tested_at", "visit_id", "no"),
        Index("ix_try_employer", "employer_id", "tested_at", "visit_id", "no"),
        Index("ix_try_site", "site_id", "tested_at", "visit_id", "no"),
        Index("ix_try_model", "model_id", "size", "tested_at", "visit_id", "no"),
        Index("ix_try_tester", "tester_id", "tested_at", "visit_id", "no"),
        Index("ix_try_person", "person_id", "configuration", "tested_at"),
    )


class TryKit(ReadModel, Base):
    """A counter or a nebuliser a try was made with, so that its tests are found when it turns out to be wrong."""

    __tablename__ = "try_kit"
    visit_id: Mapped[str] = mapped_column(Id, primary_key=True)
    no: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    kit_id: Mapped[str] = mapped_column(Id, primary_key=True)
    employer_id: Mapped[str] = mapped_column(Id)
    tested_at: Mapped[datetime] = mapped_column(UtcDateTime)
    __table_args__ = (Index("ix_try_kit", "kit_id", "tested_at"),)


class PermissionEnd(ReadModel, Base):
    """A fail that ends every earlier pass of the same person in the same set-up, whatever it is called later."""

    __tablename__ = "permission_end"
    visit_id: Mapped[str] = mapped_column(Id, primary_key=True)
    no: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    configuration: Mapped[str] = mapped_column(String(64), primary_key=True)
    person_id: Mapped[str] = mapped_column(Id, primary_key=True)
    employer_id: Mapped[str] = mapped_column(Id)
    why: Mapped[str] = mapped_column(String(250))
    ended_at: Mapped[datetime] = mapped_column(UtcDateTime)
    __table_args__ = (Index("ix_end_person", "person_id", "configuration", "ended_at"),)


class WearPermission(ReadModel, Base):
    """A signed pass: from and until as dates at the site, and the facts that decide who may wear it. Today is never
    stored; it is compared."""

    __tablename__ = "wear_permission"
    visit_id: Mapped[str] = mapped_column(Id, primary_key=True)
    configuration: Mapped[str] = mapped_column(String(64), primary_key=True)
    employer_id: Mapped[str] = mapped_column(Id)
    person_id: Mapped[str] = mapped_column(Id, index=True)
    no: Mapped[int] = mapped_column(Integer, default=0)
    facts: Mapped[dict[str, Any] | None] = mapped_column(JSON)
    model_id: Mapped[str] = mapped_column(Id)
    model: Mapped[str] = mapped_column(String(250))
    size: Mapped[str] = mapped_column(String(40))
    setup: Mapped[str] = mapped_column(String(500))
    method: Mapped[str] = mapped_column(String(20))
    limits: Mapped[list[str]] = mapped_column(JSON)
    overall: Mapped[str] = mapped_column(String(30))
    tested_at: Mapped[datetime] = mapped_column(UtcDateTime)
    valid_from: Mapped[date] = mapped_column(Date)
    valid_until: Mapped[date] = mapped_column(Date)
    __table_args__ = (Index("ix_permission_model", "model_id", "size", "valid_until"),)


class Standing(Base):
    """Until when somebody can wear anything at their usual task: what the one permission answered, and nothing that
    is decided by. Whatever changes a fact marks it stale, in the same transaction, by triggers of the database and
    where read models are refreshed; it is then worked out anew before it is shown.

    ``rev`` rises with every such change: what was worked out from older facts is not stored. ``look_again``: from that
    day on the answer may be another though nothing changes; null: never. ``until`` null: nothing can be worn.
    """

    __tablename__ = "standing"
    person_id: Mapped[str] = mapped_column(Id, primary_key=True)
    site_id: Mapped[str] = mapped_column(Id)
    is_here: Mapped[bool]
    """Whether they work there: not left, not merged into another entry, not erased."""
    rev: Mapped[int] = mapped_column(Integer, default=0)
    is_stale: Mapped[bool] = mapped_column(default=True)
    has_passed: Mapped[bool] = mapped_column(default=False)
    until: Mapped[date | None] = mapped_column(Date, default=None)
    is_only: Mapped[bool] = mapped_column(default=False)
    look_again: Mapped[date | None] = mapped_column(Date, default=None)
    __table_args__ = (
        Index("ix_standing_due", "site_id", "is_here", "has_passed", "until", "is_only", "person_id"),
        Index("ix_standing_stale", "is_here", "is_stale", "site_id"),
        Index("ix_standing_again", "is_here", "look_again", "site_id"),
    )


class StandingBy(Base):
    """By which program and rule books how people stand was worked out; one row. Another works it out anew."""

    __tablename__ = "standing_by"
    id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    made_by: Mapped[str] = mapped_column(String(64))


class ResultUnit(ReadModel, Base):
    """What pass results count: a person × model × size × visit with a signed pass or fail; ``method`` empty: by any,
    else by that one alone. ``day``: that of the last judged try, at the site. ``seq``: its start in the log."""

    __tablename__ = "result_unit"
    visit_id: Mapped[str] = mapped_column(Id, primary_key=True)
    model_id: Mapped[str] = mapped_column(Id, primary_key=True)
    size: Mapped[str] = mapped_column(String(40), primary_key=True)
    method: Mapped[str] = mapped_column(String(20), primary_key=True)
    employer_id: Mapped[str] = mapped_column(Id)
    site_id: Mapped[str] = mapped_column(Id)
    person_id: Mapped[str] = mapped_column(Id)
    model: Mapped[str] = mapped_column(String(250))
    task: Mapped[str] = mapped_column(String(190))
    day: Mapped[date] = mapped_column(Date)
    seq: Mapped[int] = mapped_column(Integer)
    outcome: Mapped[str] = mapped_column(String(12))
    first: Mapped[str] = mapped_column(String(12))
    overall: Mapped[str] = mapped_column(String(30))
    is_sensed: Mapped[bool]
    tested_at: Mapped[datetime] = mapped_column(UtcDateTime)
    __table_args__ = (
        Index("ix_unit_counted", "model_id", "size", "method", "tested_at", "visit_id"),
        Index("ix_unit_day", "day"),
        Index("ix_unit_employer", "employer_id", "model_id", "size", "method", "tested_at", "visit_id"),
    )


class ResultCount(Base):
    """How many units there are: at a place (empty: everywhere; an employer; a site), in a period (empty: ever; a month
    YYYY-MM; a day YYYY-MM-DD), by a method (empty: any), of a model in a size. Kept with the units, in the same
    transaction."""

    __tablename__ = "result_count"
    place: Mapped[str] = mapped_column(String(36), primary_key=True)
    method: Mapped[str] = mapped_column(String(20), primary_key=True)
    period: Mapped[str] = mapped_column(String(10), primary_key=True)
    model_id: Mapped[str] = mapped_column(Id, primary_key=True)
    size: Mapped[str] = mapped_column(String(40), primary_key=True)
    model: Mapped[str] = mapped_column(String(250))
    tested: Mapped[int] = mapped_column(Integer)
    passed: Mapped[int] = mapped_column(Integer)
    passed_first: Mapped[int] = mapped_column(Integer)
    sensed: Mapped[int] = mapped_column(Integer)
