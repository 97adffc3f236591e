"""Tables of people, of what is on file about them and what was reported. Names stand in erasable tables only."""

from __future__ import annotations

from datetime import date, datetime
from typing import Literal

from sqlalchemy import Date, ForeignKey, Index, Integer, String, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column
from sqlalchemy.types import JSON

from moorfog.platform.db.base import Base, Id, UtcDateTime


class Person(Base):
    """A wearer. Face length and width in tenths of a millimetre, null where not measured.

    ``task`` is the name of their task as it was written; ``task_id`` the task of their site that it is, null where it
    is none of them: then they may wear nothing until one is chosen.
    """

    __tablename__ = "person"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    employer_id: Mapped[str] = mapped_column(Id, ForeignKey("employer.id"))
    site_id: Mapped[str] = mapped_column(Id, ForeignKey("site.id"))
    name: Mapped[str] = mapped_column(String(190))
    number: Mapped[str] = mapped_column(String(40))
    job: Mapped[str] = mapped_column(String(190))
    task: Mapped[str] = mapped_column(String(190))
    task_id: Mapped[str | None] = mapped_column(Id, default=None)
    contact: Mapped[str] = mapped_column(String(190), default="")
    face_length: Mapped[int | None] = mapped_column(Integer)
    face_width: Mapped[int | None] = mapped_column(Integer)
    left_on: Mapped[date | None] = mapped_column(Date, default=None)
    """The day they left; nobody is tested after it until they come back."""
    merged_into: Mapped[str | None] = mapped_column(Id, default=None)
    """The entry that this one turned out to be another of: both histories are that person's."""
    erased_at: Mapped[datetime | None] = mapped_column(UtcDateTime, default=None)
    """When name, contact, papers and signatures were erased; the log's ids and digests stay."""
    __table_args__ = (
        Index("ix_person_merged", "merged_into"),
        UniqueConstraint("employer_id", "number", name="uq_person_number"),
        Index("ix_person_name", "employer_id", "name"),
        Index("ix_person_all", "name", "id"),
    )


class PersonWord(Base):
    """A folded word of a name, or the number: what people are found by."""

    __tablename__ = "person_word"
    employer_id: Mapped[str] = mapped_column(Id, primary_key=True)
    word: Mapped[str] = mapped_column(String(60, collation="utf8mb4_bin"), primary_key=True)
    person_id: Mapped[str] = mapped_column(Id, ForeignKey("person.id", ondelete="CASCADE"), primary_key=True)
    __table_args__ = (Index("ix_person_word", "person_id"), Index("ix_word", "word"))


class OnFile:
    """Columns of what is entered about a person; append-only, the latest counts."""

    id: Mapped[str] = mapped_column(Id, primary_key=True)
    person_id: Mapped[str] = mapped_column(Id, ForeignKey("person.id"))
    account_id: Mapped[str] = mapped_column(Id)
    entered_at: Mapped[datetime] = mapped_column(UtcDateTime)


class ClearanceRow(OnFile, Base):
    """Medical clearance: status and limits, never a diagnosis. An empty ``valid_until`` is not expired."""

    __tablename__ = "clearance"
    status: Mapped[str] = mapped_column(String(20))
    limits: Mapped[list[str]] = mapped_column(JSON)
    valid_from: Mapped[date] = mapped_column(Date)
    valid_until: Mapped[date | None] = mapped_column(Date)
    by_whom: Mapped[str] = mapped_column(String(190))
    __table_args__ = (Index("ix_clearance_person", "person_id", "entered_at"),)


class TrainingRow(OnFile, Base):
    """A training that was given; withdrawn with a reason where it was another person's, or none."""

    __tablename__ = "training"
    trained_on: Mapped[date] = mapped_column(Date)
    what: Mapped[str] = mapped_column(String(190))
    withdrawn_at: Mapped[datetime | None] = mapped_column(UtcDateTime, default=None)
    withdrawn_by: Mapped[str] = mapped_column(String(190), default="")
    withdrawn_why: Mapped[str] = mapped_column(String(400), default="")
    __table_args__ = (Index("ix_training_person", "person_id", "entered_at"),)


class MeasurementRow(OnFile, Base):
    """A measuring of a face: the readings as taken, and what they come to in tenths of a millimetre."""

    __tablename__ = "measurement"
    readings: Mapped[dict[str, list[str]]] = mapped_column(JSON)
    face_length: Mapped[int | None] = mapped_column(Integer)
    face_width: Mapped[int | None] = mapped_column(Integer)
    lip_length: Mapped[int | None] = mapped_column(Integer)
    __table_args__ = (Index("ix_measurement_person", "person_id", "entered_at"),)


class Erased(Base):
    """A signature or a paper that was emptied, or a visit whose words were taken out (kind ``words``, by the visit's
    id), and whose erasure that belonged to; never changed."""

    __tablename__ = "erased"
    row_id: Mapped[str] = mapped_column(Id, primary_key=True)
    kind: Mapped[str] = mapped_column(String(20))
    person_id: Mapped[str] = mapped_column(Id, index=True)
    account_id: Mapped[str] = mapped_column(Id)
    erased_at: Mapped[datetime] = mapped_column(UtcDateTime)


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
