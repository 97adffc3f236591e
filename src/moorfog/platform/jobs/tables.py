"""Tables of long jobs, of the files they make, and of the workers' rounds."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ForeignKey, Index, Integer, LargeBinary, String
from sqlalchemy.dialects.mysql import LONGBLOB, LONGTEXT
from sqlalchemy.orm import Mapped, mapped_column

from moorfog.platform.db.base import Base, Id, UtcDateTime


class Job(Base):
    """A long job: waiting, running, done, failed or cancelled, with its progress."""

    __tablename__ = "job"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    kind: Mapped[str] = mapped_column(String(30))
    state: Mapped[str] = mapped_column(String(12))
    done: Mapped[int] = mapped_column(Integer)
    total: Mapped[int] = mapped_column(Integer)
    wants_cancel: Mapped[bool]
    message: Mapped[str] = mapped_column(String(400))
    employer_id: Mapped[str | None] = mapped_column(Id)
    account_id: Mapped[str] = mapped_column(Id)
    content: Mapped[str] = mapped_column(LONGTEXT)
    made_at: Mapped[datetime] = mapped_column(UtcDateTime)
    heartbeat_at: Mapped[datetime | None] = mapped_column(UtcDateTime)
    attempts: Mapped[int] = mapped_column(Integer, default=0)
    """How often a worker has taken it up."""
    __table_args__ = (Index("ix_job_state", "state", "made_at"),)


class WorkerRound(Base):
    """When a worker went its last round; one row."""

    __tablename__ = "worker_round"
    id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    at: Mapped[datetime] = mapped_column(UtcDateTime)


class JobFile(Base):
    """What a job made to be taken away by whoever asked for it; kept for a day."""

    __tablename__ = "job_file"
    job_id: Mapped[str] = mapped_column(Id, ForeignKey("job.id"), primary_key=True)
    name: Mapped[str] = mapped_column(String(120))
    media: Mapped[str] = mapped_column(String(80))
    content: Mapped[bytes] = mapped_column(LargeBinary().with_variant(LONGBLOB(), "mariadb", "mysql"))
    made_at: Mapped[datetime] = mapped_column(UtcDateTime, index=True)
