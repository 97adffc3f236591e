"""Tables of those who sign in: accounts and their grants, sessions, tries, invitations, tokens and competence."""

from __future__ import annotations

from datetime import date, datetime
from typing import Literal

from sqlalchemy import BigInteger, Date, ForeignKey, Index, String
from sqlalchemy.orm import Mapped, mapped_column

from moorfog.platform.db.base import Base, Id, UtcDateTime


class Account(Base):
    """Someone who signs in."""

    __tablename__ = "account"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    login: Mapped[str] = mapped_column(String(190), unique=True)
    name: Mapped[str] = mapped_column(String(190))
    password_hash: Mapped[str] = mapped_column(String(255))
    """Empty where they have not chosen one yet."""
    off_at: Mapped[datetime | None] = mapped_column(UtcDateTime, default=None)
    """Since when it is switched off: nobody signs in with it."""
    totp_secret: Mapped[str | None] = mapped_column(String(64), default=None)
    totp_on: Mapped[bool] = mapped_column(default=False)
    """Whether a code of the second factor is asked for; its secret may be there before it was tried."""
    totp_step: Mapped[int] = mapped_column(BigInteger, default=0)
    """The last step of time a code was used of: no code is used twice."""
    address: Mapped[str] = mapped_column(String(190), default="")
    """Where they are written to by e-mail; empty: nowhere."""
    due_notice: Mapped[Literal["", "daily", "weekly"]] = mapped_column(String(8), default="")
    """How often they are told who is due: daily, weekly; empty: never."""
    noticed_on: Mapped[date | None] = mapped_column(Date, default=None)
    """When they were told last."""


class Grant(Base):
    """A role at one employer, or at all where ``employer_id`` is null."""

    __tablename__ = "account_grant"
    id: Mapped[str] = mapped_column(Id, primary_key=True)
    account_id: Mapped[str] = mapped_column(Id, ForeignKey("account.id"), index=True)
    role: Mapped[str] = mapped_column(String(20))
    employer_id: Mapped[str | None] = mapped_column(Id, ForeignKey("employer.id"))


class SignInSession(Base):
    """A signed-in browser. Only the digest of its secret is stored."""

    __tablename__ = "sign_in_session"
    digest: Mapped[str] = mapped_column(String(64), primary_key=True)
    account_id: Mapped[str] = mapped_column(Id, ForeignKey("account.id"), index=True)
    csrf: Mapped[str] = mapped_column(String(64))
    created_at: Mapped[datetime] = mapped_column(UtcDateTime)
    expires_at: Mapped[datetime] = mapped_column(UtcDateTime, index=True)
    password_at: Mapped[datetime] = mapped_column(UtcDateTime)
    active_at: Mapped[datetime] = mapped_column(UtcDateTime)
    """When somebody last pressed or touched something; what a page asks on its own does not count."""
    address: Mapped[str] = mapped_column(String(64), default="")
    agent: Mapped[str] = mapped_column(String(160), default="")
    """Where from and with which browser, for whoever looks whether all of these are theirs."""


class KnownAddress(Base):
    """A place from which an account has signed in, an address or a browser: a stranger's tries elsewhere do not lock
    its owner out here."""

    __tablename__ = "known_address"
    account_id: Mapped[str] = mapped_column(Id, ForeignKey("account.id"), primary_key=True)
    address: Mapped[str] = mapped_column(String(64), primary_key=True, index=True)
    at: Mapped[datetime] = mapped_column(UtcDateTime)


class SignInAttempt(Base):
    """A try of a password, written before it is looked at and taken out when it was right."""

    __tablename__ = "sign_in_attempt"
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=True)
    login: Mapped[str] = mapped_column(String(190))
    address: Mapped[str] = mapped_column(String(64))
    at: Mapped[datetime] = mapped_column(UtcDateTime)
    __table_args__ = (Index("ix_attempt_login", "login", "at"), Index("ix_attempt_address", "address", "at"))


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
