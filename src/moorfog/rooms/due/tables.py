"""The table of calendars that follow who is due."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ForeignKey, String
from sqlalchemy.orm import Mapped, mapped_column

from moorfog.platform.db.base import Base, Id, UtcDateTime


class CalendarFeed(Base):
    """The secret address of a site's calendar for one account. Only its digest is stored; a new one takes its place."""

    __tablename__ = "calendar_feed"
    account_id: Mapped[str] = mapped_column(Id, ForeignKey("account.id"), primary_key=True)
    site_id: Mapped[str] = mapped_column(Id, ForeignKey("site.id"), primary_key=True)
    digest: Mapped[str] = mapped_column(String(64), unique=True)
    made_at: Mapped[datetime] = mapped_column(UtcDateTime)
