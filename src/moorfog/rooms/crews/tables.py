"""Tables of saved crews and of tablets at gates."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ForeignKey, String, UniqueConstraint
from sqlalchemy.dialects.mysql import MEDIUMTEXT
from sqlalchemy.orm import Mapped, mapped_column
from sqlalchemy.types import JSON

from moorfog.platform.db.base import Base, Id, UtcDateTime


class Crew(Base):
    """People who work together at a site, under a name; by id, as names change."""

    __tablename__ = "crew"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    site_id: Mapped[str] = mapped_column(Id, ForeignKey("site.id"))
    name: Mapped[str] = mapped_column(String(190))
    people: Mapped[list[str]] = mapped_column(JSON)
    __table_args__ = (UniqueConstraint("site_id", "name", name="uq_crew"),)


class GateLink(Base):
    """The short-lived address of a tablet at a gate: for which crew, made by whom. Only its digest is stored."""

    __tablename__ = "gate_link"
    digest: Mapped[str] = mapped_column(String(64), primary_key=True)
    site_id: Mapped[str] = mapped_column(Id, ForeignKey("site.id"))
    account_id: Mapped[str] = mapped_column(Id, ForeignKey("account.id"))
    asked: Mapped[str] = mapped_column(MEDIUMTEXT)
    expires_at: Mapped[datetime] = mapped_column(UtcDateTime, index=True)
