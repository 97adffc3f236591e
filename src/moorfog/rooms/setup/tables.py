"""The table of the one-time code of an installation that is set up."""

from __future__ import annotations

from sqlalchemy import Integer, String
from sqlalchemy.orm import Mapped, mapped_column

from moorfog.platform.db.base import Base


class SetupCode(Base):
    """The one-time code that opens the set-up while nobody has an account. Only its digest is stored."""

    __tablename__ = "setup_code"
    id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    digest: Mapped[str] = mapped_column(String(64))
