"""The outbox: letters by e-mail that are to be sent, were sent, or could not be."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from sqlalchemy import ForeignKey, Index, Integer, LargeBinary, String
from sqlalchemy.dialects.mysql import LONGBLOB, MEDIUMTEXT
from sqlalchemy.orm import Mapped, mapped_column

from moorfog.platform.db.base import Base, Id, UtcDateTime


class Mail(Base):
    """An e-mail to a worker, or to a colleague (``person_id`` null). What it says is emptied once it is sent; the line
    stays. ``next_at``: not before it is it tried again."""

    __tablename__ = "mail"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    kind: Mapped[Literal["paper", "invitation", "notice"]] = mapped_column(String(12))
    employer_id: Mapped[str] = mapped_column(Id, ForeignKey("employer.id"))
    person_id: Mapped[str | None] = mapped_column(Id, ForeignKey("person.id"))
    visit_id: Mapped[str | None] = mapped_column(Id, default=None)
    """Of which visit it carries a paper."""
    account_id: Mapped[str] = mapped_column(Id)
    to_address: Mapped[str] = mapped_column(String(190))
    subject: Mapped[str] = mapped_column(String(190))
    body: Mapped[str] = mapped_column(MEDIUMTEXT)
    file_name: Mapped[str] = mapped_column(String(120))
    file: Mapped[bytes] = mapped_column(LargeBinary().with_variant(LONGBLOB(), "mariadb", "mysql"))
    state: Mapped[Literal["waiting", "sent", "failed"]] = mapped_column(String(8))
    attempts: Mapped[int] = mapped_column(Integer)
    problem: Mapped[str] = mapped_column(String(400))
    made_at: Mapped[datetime] = mapped_column(UtcDateTime)
    next_at: Mapped[datetime] = mapped_column(UtcDateTime)
    sent_at: Mapped[datetime | None] = mapped_column(UtcDateTime, default=None)
    __table_args__ = (
        Index("ix_mail_next", "state", "next_at"),
        Index("ix_mail_employer", "employer_id", "made_at"),
        Index("ix_mail_person", "person_id", "kind", "made_at"),
        Index("ix_mail_made", "made_at"),
    )
