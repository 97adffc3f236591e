"""Tables of the installation itself: whose it is, how people come to their accounts, and what was done by whom."""

from __future__ import annotations

from datetime import date, datetime

from sqlalchemy import JSON, Date, ForeignKey, Index, Integer, String
from sqlalchemy.dialects.mysql import MEDIUMTEXT
from sqlalchemy.orm import Mapped, mapped_column

from moorfog.store.base import Base, UtcDateTime
from moorfog.store.models import Id


class Organisation(Base):
    """Who runs this installation. One row; none before it is set up."""

    __tablename__ = "organisation"
    id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    name: Mapped[str] = mapped_column(String(190))
    by_senses_only: Mapped[bool] = mapped_column(default=False)
    """Whether it was said that there is no instrument here."""
    made_at: Mapped[datetime] = mapped_column(UtcDateTime)


class SetupCode(Base):
    """The one-time code that opens the set-up while nobody has an account. Only its digest is stored."""

    __tablename__ = "setup_code"
    id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    digest: Mapped[str] = mapped_column(String(64))


class Invitation(Base):
    """A one-time address at which somebody chooses their password. Only the digest of its secret is stored."""

    __tablename__ = "invitation"
    digest: Mapped[str] = mapped_column(String(64), primary_key=True)
    account_id: Mapped[str] = mapped_column(Id, ForeignKey("account.id"), index=True)
    expires_at: Mapped[datetime] = mapped_column(UtcDateTime, index=True)


class RecoveryCode(Base):
    """A code that stands in once for the second factor. Only its digest is stored."""

    __tablename__ = "recovery_code"
    digest: Mapped[str] = mapped_column(String(64), primary_key=True)
    account_id: Mapped[str] = mapped_column(Id, ForeignKey("account.id"), index=True)


class Competence(Base):
    """A method a tester may use, from and until when; append-only, the latest of a method counts. ``ends`` null: until
    it is taken back; ``is_withdrawn``: it is taken back."""

    __tablename__ = "competence"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    account_id: Mapped[str] = mapped_column(Id, ForeignKey("account.id"))
    method: Mapped[str] = mapped_column(String(20))
    begins: Mapped[date] = mapped_column(Date)
    ends: Mapped[date | None] = mapped_column(Date)
    shown_by: Mapped[str] = mapped_column(String(190))
    is_withdrawn: Mapped[bool]
    entered_at: Mapped[datetime] = mapped_column(UtcDateTime)
    __table_args__ = (Index("ix_competence", "account_id", "method", "entered_at"),)


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


class ApiToken(Base):
    """A token by which another program reads what an employer has here, or enters some of it too (``may``: read or
    write). Only its digest is stored."""

    __tablename__ = "api_token"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    digest: Mapped[str] = mapped_column(String(64), unique=True)
    name: Mapped[str] = mapped_column(String(80))
    employer_id: Mapped[str] = mapped_column(Id, ForeignKey("employer.id"), index=True)
    may: Mapped[str] = mapped_column(String(8), default="read", server_default="read")
    made_by: Mapped[str] = mapped_column(Id)
    made_at: Mapped[datetime] = mapped_column(UtcDateTime)
    expires_at: Mapped[datetime] = mapped_column(UtcDateTime)
    ended_at: Mapped[datetime | None] = mapped_column(UtcDateTime)
    used_at: Mapped[datetime | None] = mapped_column(UtcDateTime)


class SiteTerms(Base):
    """A site's own terms, which wearer and tester sign under; append-only, the highest number counts. Empty text: the
    procedure's own again."""

    __tablename__ = "site_terms"
    site_id: Mapped[str] = mapped_column(Id, ForeignKey("site.id"), primary_key=True)
    no: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    text: Mapped[str] = mapped_column(MEDIUMTEXT)
    by_name: Mapped[str] = mapped_column(String(190))
    entered_at: Mapped[datetime] = mapped_column(UtcDateTime)


class Erased(Base):
    """A signature or a paper that was emptied, or a visit whose words were taken out (kind ``words``, by the visit's
    id), and whose erasure that belonged to; never changed."""

    __tablename__ = "erased"
    row_id: Mapped[str] = mapped_column(Id, primary_key=True)
    kind: Mapped[str] = mapped_column(String(20))
    person_id: Mapped[str] = mapped_column(Id, index=True)
    account_id: Mapped[str] = mapped_column(Id)
    erased_at: Mapped[datetime] = mapped_column(UtcDateTime)


class EventWords(Base):
    """Words somebody typed into the log of a visit, for which a sign stands there; taken out with the person."""

    __tablename__ = "event_words"
    visit_id: Mapped[str] = mapped_column(Id, ForeignKey("visit.id"), primary_key=True)
    sign: Mapped[str] = mapped_column(String(70), primary_key=True)
    salt: Mapped[str] = mapped_column(String(32))
    text: Mapped[str] = mapped_column(MEDIUMTEXT)


class VisitSeen(Base):
    """A visit that was looked at in full and held. ``runs``: those whose readings were held to their seals; ``seal``:
    over the digests of all its rows, made with a key that is not in the database. Worth nothing but time."""

    __tablename__ = "visit_seen"
    visit_id: Mapped[str] = mapped_column(Id, primary_key=True)
    runs: Mapped[list[str]] = mapped_column(JSON)
    seal: Mapped[str] = mapped_column(String(64))
