"""Tables that are worked out of others, so that a list costs the same however many people there are."""

from __future__ import annotations

from datetime import date, datetime

from sqlalchemy import Date, Index, Integer, String
from sqlalchemy.orm import Mapped, mapped_column

from moorfog.store.base import Base, UtcDateTime
from moorfog.store.models import Id, ReadModel


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
