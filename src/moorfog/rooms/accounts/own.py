"""One's own account: joining, the password, one's sessions, the second factor."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import instant
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.web.actor import Actor, digest_of
from moorfog.platform.web.errors import DomainError, NotFound
from moorfog.rooms.accounts.managing import end_sessions, find_account, first_employer
from moorfog.rooms.accounts.notice import Often
from moorfog.rooms.accounts.second import recovery_left, switch_off
from moorfog.rooms.accounts.sessions import IDLE, confirm_password, hash_password, weak_password
from moorfog.rooms.accounts.tables import Account, Invitation, SignInSession


@dataclass(frozen=True)
class SessionLine:
    """A signed-in browser: where, with what, since when, last active; whether it is the one that asks."""

    id: str
    address: str
    agent: str
    since: str
    last_active: str
    is_this: bool


@dataclass(frozen=True)
class Own:
    """One's own account: where one is written to and how often one is told who is due (empty: never), sessions, and how
    the second factor stands."""

    login: str
    name: str
    address: str
    due_notice: Often
    has_second: bool
    recovery_left: int
    sessions: tuple[SessionLine, ...]


@dataclass(frozen=True)
class Joining:
    """Whom a one-time address is for."""

    login: str
    name: str


def _joining(db: Session, clock: Clock, secret: str) -> tuple[Invitation, Account]:
    row = db.get(Invitation, digest_of(secret))
    account = db.get(Account, row.account_id) if row is not None else None
    if row is None or account is None or row.expires_at <= clock.now(db) or account.off_at is not None:
        raise DomainError(
            "address_over", "This address has been used or has ended. Ask your administrator for a new one.", status=404
        )
    return row, account


def who_joins(db: Session, clock: Clock, secret: str) -> Joining:
    """Return whom a one-time address is for. Raises :class:`DomainError` (404)."""
    account = _joining(db, clock, secret)[1]
    return Joining(account.login, account.name)


def join(db: Session, clock: Clock, secret: str, password: str) -> Account:
    """Choose the password at a one-time address; the address ends, and so does every session of before."""
    row, account = _joining(db, clock, secret)
    wrong = weak_password(password, account.login, *account.name.split())
    if wrong:
        raise DomainError("weak_password", wrong)
    db.delete(row)
    account.password_hash = hash_password(password)
    if account.totp_secret:
        switch_off(db, account)
    end_sessions(db, account.id)
    note(db, Note("account", account.id, changes={"password": ["", "chosen"]}))
    return account


def change_password(db: Session, clock: Clock, actor: Actor, old: str, new: str, keep: str) -> None:
    """Change one's own password; every other session ends. ``keep``: the secret of the session that asks."""
    confirm_password(db, clock, actor, old)
    account = db.get_one(Account, actor.id)
    wrong = weak_password(new, account.login, *account.name.split())
    if wrong:
        raise DomainError("weak_password", wrong)
    account.password_hash = hash_password(new)
    end_sessions(db, account.id, but=keep)
    note(db, Note("account", account.id, changes={"password": ["", "changed by its owner"]}))


def _sessions(db: Session, clock: Clock, account_id: str, secret: str) -> tuple[SessionLine, ...]:
    now, mine = clock.now(db), digest_of(secret) if secret else ""
    rows = db.scalars(
        select(SignInSession)
        .where(SignInSession.account_id == account_id, SignInSession.expires_at > now)
        .where(SignInSession.active_at > now - IDLE)
        .order_by(SignInSession.active_at.desc())
        .limit(50)
    )
    return tuple(
        SessionLine(
            id=one.digest,
            address=one.address,
            agent=one.agent,
            since=instant(one.created_at),
            last_active=instant(one.active_at),
            is_this=one.digest == mine,
        )
        for one in rows
    )


def own(db: Session, clock: Clock, actor: Actor, secret: str) -> Own:
    """Return one's own account."""
    account = db.get_one(Account, actor.id)
    return Own(
        login=account.login,
        name=account.name,
        address=account.address,
        due_notice=account.due_notice,
        has_second=account.totp_on,
        recovery_left=recovery_left(db, account.id) if account.totp_on else 0,
        sessions=_sessions(db, clock, actor.id, secret),
    )


def end_own_session(db: Session, actor: Actor, session_id: str) -> None:
    """End one of one's own sessions. Raises :class:`NotFound`."""
    if not end_sessions(db, actor.id, only=session_id):
        raise NotFound("session")
    note(db, Note("account", actor.id, changes={"session": ["open", "ended"]}))


def sessions_of(db: Session, clock: Clock, actor: Actor, account_id: str) -> tuple[SessionLine, ...]:
    """Return the sessions of an account one may change."""
    find_account(db, actor, account_id)
    return _sessions(db, clock, account_id, "")


def end_all(db: Session, actor: Actor, account_id: str) -> None:
    """End every session of an account one may change."""
    _, grants = find_account(db, actor, account_id)
    ended = end_sessions(db, account_id)
    note(db, Note("account", account_id, first_employer(grants), {"sessions": [ended, 0]}))


def lose_second(db: Session, actor: Actor, account_id: str) -> None:
    """Switch off the second factor of an account one may change: their telephone is lost."""
    account, _ = find_account(db, actor, account_id)
    switch_off(db, account)
