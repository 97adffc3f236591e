"""Signing in and out, grants, and the limits on trying passwords."""

from __future__ import annotations

import hashlib
import secrets
from dataclasses import dataclass
from datetime import datetime, timedelta

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerifyMismatchError
from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from moorfog.operations.errors import DomainError, Forbidden
from moorfog.store.base import Clock, new_id
from moorfog.store.models import Account, Grant, SignInAttempt, SignInSession
from moorfog.store.scope import Scope

ROLES = ("tester", "administrator", "supervisor")
READERS = ("tester", "administrator", "supervisor")
"""The roles that may read what lies within their grants."""
SESSION_HOURS = 12
ATTEMPT_WINDOW = timedelta(minutes=15)
ATTEMPTS_PER_ACCOUNT = 8
ATTEMPTS_PER_ADDRESS = 40
PASSWORD_FRESH = timedelta(minutes=15)
_hasher = PasswordHasher(time_cost=2, memory_cost=19456, parallelism=1)
_DUMMY = _hasher.hash("nobody has this password")


@dataclass(frozen=True)
class Actor:
    """Who is acting: the account, its name, its grants as (role, employer or None for all)."""

    id: str
    name: str
    login: str
    grants: tuple[tuple[str, str | None], ...]
    password_at: datetime | None = None

    def scope(self, *roles: str) -> Scope:
        """Return the employers at which this actor has one of ``roles``."""
        mine = [employer for role, employer in self.grants if role in roles]
        return Scope(None) if None in mine else Scope(frozenset(one for one in mine if one is not None))

    def roles(self) -> tuple[str, ...]:
        """Return the roles held anywhere, in a fixed order."""
        held = {role for role, _ in self.grants}
        return tuple(role for role in ROLES if role in held)

    def require(self, *roles: str) -> Scope:
        """Return the scope of ``roles``. Raises :class:`Forbidden` if none of them is held anywhere."""
        scope = self.scope(*roles)
        if scope.employers is not None and not scope.employers:
            raise Forbidden("role_missing", f"This needs the role {' or '.join(roles)}. Ask your administrator.")
        return scope


@dataclass(frozen=True)
class SignedIn:
    """A new session: the secret for the cookie, the token against forged requests, until when."""

    secret: str
    csrf: str
    expires_at: datetime
    actor: Actor


def digest_of(secret: str) -> str:
    """Return the digest under which a random secret is stored."""
    return hashlib.sha256(secret.encode()).hexdigest()


def hash_password(password: str) -> str:
    """Return the argon2 hash of a password."""
    return _hasher.hash(password)


def create_account(db: Session, login: str, name: str, password: str, grants: list[tuple[str, str | None]]) -> str:
    """Create an account with its grants; returns its id. Raises :class:`DomainError` for an unknown role."""
    account = Account(id=new_id(), login=login.strip().lower(), name=name, password_hash=hash_password(password))
    db.add(account)
    db.flush()
    for role, employer_id in grants:
        if role not in ROLES:
            raise DomainError("unknown_role", f"{role!r} is no role; {', '.join(ROLES)} are.")
        db.add(Grant(id=new_id(), account_id=account.id, role=role, employer_id=employer_id))
    db.flush()
    return account.id


def load_actor(db: Session, account: Account, password_at: datetime | None = None) -> Actor:
    """Return the actor for an account."""
    grants = db.scalars(select(Grant).where(Grant.account_id == account.id).order_by(Grant.id))
    return Actor(
        id=account.id,
        name=account.name,
        login=account.login,
        grants=tuple((one.role, one.employer_id) for one in grants),
        password_at=password_at,
    )


def _verify(password_hash: str, password: str) -> bool:
    try:
        return _hasher.verify(password_hash, password)
    except (VerifyMismatchError, InvalidHashError):
        return False


def _too_many(db: Session, login: str, address: str, now: datetime) -> bool:
    since = now - ATTEMPT_WINDOW
    count = select(func.count()).select_from(SignInAttempt).where(SignInAttempt.at > since)
    by_login = db.scalar(count.where(SignInAttempt.login == login)) or 0
    by_address = db.scalar(count.where(SignInAttempt.address == address)) or 0
    return by_login >= ATTEMPTS_PER_ACCOUNT or by_address >= ATTEMPTS_PER_ADDRESS


def sign_in(db: Session, clock: Clock, login: str, password: str, address: str) -> SignedIn | DomainError:
    """Sign in. Returns the error instead of raising it, so that the failed attempt is committed and counted."""
    now, login = clock.now(db), login.strip().lower()[:190]
    if _too_many(db, login, address, now):
        return DomainError(
            "too_many_attempts", "Too many failed sign-ins. Wait a quarter of an hour, then try again.", status=429
        )
    account = db.scalar(select(Account).where(Account.login == login))
    good = _verify(account.password_hash if account else _DUMMY, password)
    if account is None or not good:
        db.add(SignInAttempt(login=login, address=address[:64], at=now))
        return DomainError("wrong_sign_in", "Name or password is wrong. Check both and try again.", status=401)
    db.execute(delete(SignInAttempt).where(SignInAttempt.login == login))
    secret, csrf = secrets.token_urlsafe(32), secrets.token_urlsafe(24)
    expires = now + timedelta(hours=SESSION_HOURS)
    db.add(
        SignInSession(
            digest=digest_of(secret),
            account_id=account.id,
            csrf=csrf,
            created_at=now,
            expires_at=expires,
            password_at=now,
        )
    )
    return SignedIn(secret, csrf, expires, load_actor(db, account, now))


def find_session(db: Session, clock: Clock, secret: str) -> tuple[Actor, str] | None:
    """Return actor and forgery token of a live session, or None."""
    row = db.get(SignInSession, digest_of(secret))
    if row is None or row.expires_at <= clock.now(db):
        return None
    account = db.get(Account, row.account_id)
    return (load_actor(db, account, row.password_at), row.csrf) if account else None


def sign_out(db: Session, secret: str) -> None:
    """End a session."""
    db.execute(delete(SignInSession).where(SignInSession.digest == digest_of(secret)))


def confirm_password(db: Session, clock: Clock, actor: Actor, password: str | None) -> None:
    """Require a password given within the last quarter of an hour, else ``password`` now. Raises DomainError."""
    now = clock.now(db)
    if actor.password_at is not None and now - actor.password_at < PASSWORD_FRESH and password is None:
        return
    if password is None:
        raise DomainError("password_needed", "Your password is asked again before signing.", status=401)
    account = db.get(Account, actor.id)
    if account is None or not _verify(account.password_hash, password):
        raise DomainError("wrong_password", "This is not your password. Try again.", status=401)


def forget_expired(db: Session, clock: Clock) -> None:
    """Delete sessions that are over and attempts that no longer count."""
    now = clock.now(db)
    db.execute(delete(SignInSession).where(SignInSession.expires_at < now))
    db.execute(delete(SignInAttempt).where(SignInAttempt.at < now - timedelta(days=1)))
