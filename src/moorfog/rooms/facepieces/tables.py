"""The table of the catalogue: every version of every model."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import Integer, String, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column
from sqlalchemy.types import JSON

from moorfog.platform.db.base import Base, Id, UtcDateTime


class FacepieceVersion(Base):
    """An immutable version of a facepiece model; results group by ``model_id`` and size."""

    __tablename__ = "facepiece_version"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    model_id: Mapped[str] = mapped_column(Id, index=True)
    version: Mapped[int] = mapped_column(Integer)
    maker: Mapped[str] = mapped_column(String(120))
    model: Mapped[str] = mapped_column(String(120))
    kind: Mapped[str] = mapped_column(String(40))
    content: Mapped[dict[str, Any]] = mapped_column(JSON)
    withdrawn_at: Mapped[datetime | None] = mapped_column(UtcDateTime, default=None)
    """When its approval was withdrawn: it is not chosen any more, and what was passed in it is recalled."""
    __table_args__ = (UniqueConstraint("model_id", "version", name="uq_model_version"),)
