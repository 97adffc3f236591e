"""Tables of the kit: instruments, parts, lots and nebulisers, what was done to each, and what was found wrong."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from sqlalchemy import Date, ForeignKey, Index, String
from sqlalchemy.orm import Mapped, mapped_column
from sqlalchemy.types import JSON

from moorfog.platform.db.base import Base, Id, UtcDateTime


class InstrumentRow(Base):
    """A counter. ``content`` holds its figures; ``live`` what its link said last."""

    __tablename__ = "instrument"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    employer_id: Mapped[str | None] = mapped_column(Id, ForeignKey("employer.id"))
    name: Mapped[str] = mapped_column(String(80))
    content: Mapped[dict[str, Any]] = mapped_column(JSON)
    is_simulated: Mapped[bool]
    link_token_digest: Mapped[str] = mapped_column(String(64), index=True)
    seen_at: Mapped[datetime | None] = mapped_column(UtcDateTime)
    live: Mapped[dict[str, Any] | None] = mapped_column(JSON)
    retired_at: Mapped[datetime | None] = mapped_column(UtcDateTime, default=None)
    """Since when nobody tests with it any more."""
    line: Mapped[str] = mapped_column(String(190), default="")
    """Where it is plugged into the machine the program runs on; empty where its link runs elsewhere."""
    local_token_digest: Mapped[str] = mapped_column(String(64), default="", index=True)


class InstrumentCheckRow(Base):
    """One daily check as a value against its limit; append-only."""

    __tablename__ = "instrument_check"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    instrument_id: Mapped[str] = mapped_column(Id, ForeignKey("instrument.id"))
    name: Mapped[str] = mapped_column(String(30))
    value: Mapped[str] = mapped_column(String(30))
    limit: Mapped[str] = mapped_column(String(30))
    passed: Mapped[bool]
    checked_at: Mapped[datetime] = mapped_column(UtcDateTime)
    actor: Mapped[str] = mapped_column(String(80))
    __table_args__ = (Index("ix_check_latest", "instrument_id", "checked_at"),)


class InstrumentActRow(Base):
    """Something done to an instrument, such as charging its alcohol; append-only, the latest of a name counts."""

    __tablename__ = "instrument_act"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    instrument_id: Mapped[str] = mapped_column(Id, ForeignKey("instrument.id"))
    name: Mapped[str] = mapped_column(String(30))
    done_at: Mapped[datetime] = mapped_column(UtcDateTime)
    account_id: Mapped[str] = mapped_column(Id)
    __table_args__ = (Index("ix_act_latest", "instrument_id", "name", "done_at"),)


class KitRecall(Base):
    """Kit found wrong afterwards: which, by which check, since when it may have been. Open or confirmed it suspends
    what rests on it; cleared it does not. Never deleted."""

    __tablename__ = "kit_recall"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    kit_kind: Mapped[str] = mapped_column(String(20))
    kit_id: Mapped[str] = mapped_column(Id)
    kit_name: Mapped[str] = mapped_column(String(190))
    check_name: Mapped[str] = mapped_column(String(30))
    what: Mapped[str] = mapped_column(String(400))
    employer_id: Mapped[str | None] = mapped_column(Id)
    since: Mapped[datetime | None] = mapped_column(UtcDateTime)
    until: Mapped[datetime] = mapped_column(UtcDateTime)
    state: Mapped[str] = mapped_column(String(12))
    opened_by: Mapped[str] = mapped_column(String(80))
    settled_by: Mapped[str] = mapped_column(String(190), default="")
    settled_at: Mapped[datetime | None] = mapped_column(UtcDateTime, default=None)
    reason: Mapped[str] = mapped_column(String(400), default="")
    job_id: Mapped[str | None] = mapped_column(Id, default=None)
    __table_args__ = (Index("ix_recall_kit", "kit_id", "state"), Index("ix_recall_state", "state", "until"))


class RecallSettled(Base):
    """What one employer's people said of shared kit found wrong: it holds for that employer's tests and no others."""

    __tablename__ = "recall_settled"
    recall_id: Mapped[str] = mapped_column(Id, ForeignKey("kit_recall.id"), primary_key=True)
    employer_id: Mapped[str] = mapped_column(Id, ForeignKey("employer.id"), primary_key=True)
    state: Mapped[str] = mapped_column(String(12))
    settled_by: Mapped[str] = mapped_column(String(190))
    settled_at: Mapped[datetime] = mapped_column(UtcDateTime)
    reason: Mapped[str] = mapped_column(String(400))
    job_id: Mapped[str | None] = mapped_column(Id)


class SamplingPart(Base):
    """A probe, adapter, probed cartridge or manifold. Never changed; put away where it is done for."""

    __tablename__ = "sampling_part"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    employer_id: Mapped[str | None] = mapped_column(Id, ForeignKey("employer.id"))
    name: Mapped[str] = mapped_column(String(80))
    kind: Mapped[str] = mapped_column(String(20))
    fits: Mapped[str] = mapped_column(String(190))
    once_only: Mapped[bool]


class SamplingPartAct(Base):
    """A sampling part used, cleaned or put away; append-only, the latest of a name counts."""

    __tablename__ = "sampling_part_act"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    part_id: Mapped[str] = mapped_column(Id, ForeignKey("sampling_part.id"))
    name: Mapped[str] = mapped_column(String(12))
    done_at: Mapped[datetime] = mapped_column(UtcDateTime)
    account_id: Mapped[str] = mapped_column(Id)
    visit_id: Mapped[str | None] = mapped_column(Id, ForeignKey("visit.id"))
    __table_args__ = (Index("ix_part_act", "part_id", "name", "done_at"),)


class LotRow(Base):
    """A lot of a solution, a jar or a tube. Never changed; withdrawn where it turns out wrong."""

    __tablename__ = "lot"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    employer_id: Mapped[str | None] = mapped_column(Id, ForeignKey("employer.id"))
    agent: Mapped[str] = mapped_column(String(20))
    role: Mapped[str] = mapped_column(String(20))
    number: Mapped[str] = mapped_column(String(60))
    made_on: Mapped[date] = mapped_column(Date)
    use_by: Mapped[date] = mapped_column(Date)
    made_by: Mapped[str] = mapped_column(String(190))
    entered_at: Mapped[datetime] = mapped_column(UtcDateTime)
    withdrawn_at: Mapped[datetime | None] = mapped_column(UtcDateTime)
    __table_args__ = (Index("ix_lot", "employer_id", "agent", "use_by"),)


class NebuliserRow(Base):
    """A nebuliser: for the threshold solution (1) or for the fit-test solution (2), for good."""

    __tablename__ = "nebuliser"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    employer_id: Mapped[str | None] = mapped_column(Id, ForeignKey("employer.id"))
    name: Mapped[str] = mapped_column(String(80))
    role: Mapped[str] = mapped_column(String(20))


class FillingRow(Base):
    """A nebuliser rinsed and filled with a lot; append-only, the latest counts."""

    __tablename__ = "nebuliser_filling"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    nebuliser_id: Mapped[str] = mapped_column(Id, ForeignKey("nebuliser.id"))
    lot_id: Mapped[str] = mapped_column(Id, ForeignKey("lot.id"))
    filled_at: Mapped[datetime] = mapped_column(UtcDateTime)
    account_id: Mapped[str] = mapped_column(Id)
    __table_args__ = (Index("ix_filling", "nebuliser_id", "filled_at"),)


class SprayCheckRow(Base):
    """A nebuliser seen to spray, or not; append-only."""

    __tablename__ = "nebuliser_check"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    nebuliser_id: Mapped[str] = mapped_column(Id, ForeignKey("nebuliser.id"))
    checked_at: Mapped[datetime] = mapped_column(UtcDateTime)
    sprays: Mapped[bool]
    account_id: Mapped[str] = mapped_column(Id)
    __table_args__ = (Index("ix_spray", "nebuliser_id", "checked_at"),)


class CautionRow(Base):
    """A tester has acknowledged the cautions of a method on a day at the site."""

    __tablename__ = "caution"
    account_id: Mapped[str] = mapped_column(Id, primary_key=True)
    method: Mapped[str] = mapped_column(String(20), primary_key=True)
    day: Mapped[date] = mapped_column(Date, primary_key=True)


class Calibration(Base):
    """A calibration of an instrument as its certificate has it; append-only, the latest counts."""

    __tablename__ = "calibration"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    instrument_id: Mapped[str] = mapped_column(Id, ForeignKey("instrument.id"))
    done_on: Mapped[date] = mapped_column(Date)
    good_until: Mapped[date] = mapped_column(Date)
    certificate: Mapped[str] = mapped_column(String(190))
    by_whom: Mapped[str] = mapped_column(String(190))
    account_id: Mapped[str] = mapped_column(Id)
    entered_at: Mapped[datetime] = mapped_column(UtcDateTime)
    __table_args__ = (Index("ix_calibration", "instrument_id", "entered_at"),)
