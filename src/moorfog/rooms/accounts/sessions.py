"""Signing in and out, grants, and the limits on trying passwords."""

from __future__ import annotations

import logging
import secrets
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import NamedTuple

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerifyMismatchError
from sqlalchemy import Engine, delete, func, insert, select
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session
from zxcvbn import zxcvbn

from moorfog.platform.db.base import new_id, quick_engine, run_in_transaction
from moorfog.platform.db.clock import Clock
from moorfog.platform.web.actor import ROLES, Actor, digest_of
from moorfog.platform.web.errors import DomainError
from moorfog.rooms.accounts.tables import Account, Grant, KnownAddress, SignInAttempt, SignInSession

SESSION_HOURS = 12
IDLE = timedelta(minutes=45)
"""A session ends when nobody has pressed or touched anything for so long."""
NOTED_EVERY = timedelta(minutes=1)
"""How exactly it is noted when somebody last did: not at every request."""
ATTEMPT_WINDOW = timedelta(minutes=15)
ATTEMPTS_PER_PAIR, ATTEMPTS_PER_ADDRESS, ATTEMPTS_ELSEWHERE = 8, 40, 30
"""Tries in the window: of an account from one address, from an address, and of an account from where it never was."""
KNOWN_FOR = timedelta(days=60)
SHORTEST, STRONG_ENOUGH = 10, 3
"""Signs of a password, and its score from 0 to 4 by zxcvbn."""
PASSWORD_FRESH = timedelta(minutes=15)
security = logging.getLogger("moorfog.security")
_hasher = PasswordHasher(time_cost=2, memory_cost=19456, parallelism=1)
_DUMMY = _hasher.hash("nobody has this password")


@dataclass(frozen=True)
class SignedIn:
    """A new session: the secret for its cookie, the token against forged requests, until when."""

    secret: str
    csrf: str
    expires_at: datetime
    actor: Actor
    browser: str
    """By which the browser is known at the next sign-in."""


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


def load_actor(db: Session, account: Account, password_at: datetime | None = None, address: str = "") -> Actor:
    """Return the actor for an account."""
    grants = db.scalars(select(Grant).where(Grant.account_id == account.id).order_by(Grant.id))
    return Actor(
        id=account.id,
        name=account.name,
        login=account.login,
        grants=tuple((one.role, one.employer_id) for one in grants),
        password_at=password_at,
        address=address,
    )


def weak_password(password: str, *words: str) -> str:
    """Return what is wrong with a new password, empty where nothing is; ``words`` are what everybody knows of them."""
    if len(password.strip()) < SHORTEST:
        return f"It is shorter than {SHORTEST} signs; choose a longer one."
    found = zxcvbn(password[:72], user_inputs=[one for one in words if one])
    if found["score"] >= STRONG_ENOUGH:
        return ""
    why = found["feedback"]["warning"] or "It is easily guessed."
    return f"{why.rstrip('.')}. Choose another one: four words that have nothing to do with each other are good."


def _verify(password_hash: str, password: str) -> bool:
    try:
        return _hasher.verify(password_hash, password)
    except (VerifyMismatchError, InvalidHashError):
        return False


class Tries(NamedTuple):
    """Tries in the window: of an account from one place, of everybody from there, of the account from anywhere."""

    of_pair: int
    of_place: int
    of_login: int


def _counted(db: Session, login: str, place: str, now: datetime) -> Tries:
    """Write a try down, at once and for everybody, and return how many there are: counted before it is looked at, so
    that tries side by side cannot each believe to be the first."""
    count = select(func.count()).select_from(SignInAttempt).where(SignInAttempt.at > now - ATTEMPT_WINDOW)
    of_login, of_place = SignInAttempt.login == login, SignInAttempt.address == place
    with quick_engine(db.get_bind().engine).connect() as at_once:
        at_once.execute(insert(SignInAttempt).values(login=login, address=place, at=now))
        asked = (count.where(of_login, of_place), count.where(of_place), count.where(of_login))
        return Tries(*(at_once.scalar(one) or 0 for one in asked))


def _of_browser(secret: str) -> str:
    """Return the place that a browser is which was given this secret when somebody signed in with it."""
    return f"browser {digest_of(secret)[:56]}"


def _is_known(db: Session, login: str, place: str, now: datetime) -> bool:
    """Tell whether an account has signed in from a place before."""
    known = select(KnownAddress.at).join(Account, Account.id == KnownAddress.account_id)
    known = known.where(Account.login == login, KnownAddress.address == place, KnownAddress.at > now - KNOWN_FOR)
    return db.scalar(known) is not None


def place_of(db: Session, login: str, tried: Attempt, now: datetime) -> str:
    """Return where tries are counted: at the browser where the account has signed in with it before, else at its
    address. A whole site has one address, and nobody there keeps somebody out who is at their own browser."""
    browser = _of_browser(tried.browser)
    return browser if tried.browser and _is_known(db, login, browser, now) else tried.address[:64]


def one_too_many(db: Session, login: str, place: str, now: datetime) -> bool:
    """Count a try, and tell whether it is one too many.

    Whoever has signed in from a place before is not kept out by what others try there or elsewhere. Their own tries
    there are counted always.
    """
    tries = _counted(db, login, place, now)
    by_others = tries.of_place > ATTEMPTS_PER_ADDRESS or tries.of_login > ATTEMPTS_ELSEWHERE
    return tries.of_pair > ATTEMPTS_PER_PAIR or (by_others and not _is_known(db, login, place, now))


def forget_all_tries(db: Session, login: str = "") -> int:
    """Let everybody try again, or one account; for who has the machine. Returns how many tries were forgotten."""
    gone = delete(SignInAttempt)
    if login:
        gone = gone.where(SignInAttempt.login == login.strip().lower())
    done = db.execute(gone)
    return int(getattr(done, "rowcount", 0))


def _forget_tries(db: Session, login: str, place: str) -> None:
    db.execute(delete(SignInAttempt).where(SignInAttempt.login == login, SignInAttempt.address == place))


Second = Callable[[Session, Clock, Account, str], bool]
"""Tells whether a code lets an account in."""
TOO_MANY = "Too many tries of a password. Wait a quarter of an hour, then try again."


@dataclass(frozen=True)
class Attempt:
    """Somebody at the door: name, password, the code of a second factor (empty where none is given), from where, with
    which kind of browser, and what that browser was given at an earlier sign-in (empty: nothing)."""

    login: str
    password: str
    code: str = ""
    address: str = ""
    agent: str = ""
    browser: str = ""


def sign_in(db: Session, clock: Clock, tried: Attempt, second: Second) -> SignedIn | DomainError:
    """Sign in, or return why not. ``second`` judges the code of an account that has a second factor."""
    login, password, address = tried.login, tried.password, tried.address
    now, login = clock.now(db), login.strip().lower()[:190]
    place = place_of(db, login, tried, now)
    if one_too_many(db, login, place, now):
        security.warning("too many tries of a password from %s", address)
        return DomainError("too_many_attempts", TOO_MANY, status=429)
    account = db.scalar(select(Account).where(Account.login == login))
    good = _verify((account.password_hash if account else "") or _DUMMY, password)
    if account is None or not good or not account.password_hash or account.off_at is not None:
        security.warning("a wrong name or password from %s", address)
        return DomainError("wrong_sign_in", "Name or password is wrong. Check both and try again.", status=401)
    if account.totp_on:
        if not tried.code.strip():
            return DomainError("code_needed", "Now the code of your second factor, or a recovery code.", status=401)
        if not second(db, clock, account, tried.code):
            security.warning("account %s: a wrong code of its second factor from %s", account.id, address)
            return DomainError("wrong_code", "This code is not right, or was used. Wait for the next one.", status=401)
    _forget_tries(db, login, place)
    return open_session(db, clock, account, tried)


def open_session(db: Session, clock: Clock, account: Account, tried: Attempt) -> SignedIn:
    """Let somebody in who has shown who they are."""
    now, address = clock.now(db), tried.address[:64]
    is_old = select(KnownAddress.at).where(KnownAddress.address == _of_browser(tried.browser)).limit(1)
    browser = tried.browser if tried.browser and db.scalar(is_old) is not None else secrets.token_urlsafe(32)
    for place in (address, _of_browser(browser)):
        db.merge(KnownAddress(account_id=account.id, address=place, at=now))
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
            active_at=now,
            address=address,
            agent=tried.agent[:160],
        )
    )
    security.info("account %s signed in from %s", account.id, address)
    actor = load_actor(db, account, now, address)
    return SignedIn(secret=secret, csrf=csrf, expires_at=expires, actor=actor, browser=browser)


class FoundSession(NamedTuple):
    """A live session: who acts, the token against forged requests, and since when somebody is there where that is news
    (None: it is not)."""

    actor: Actor
    csrf: str
    active_at: datetime | None


def find_session(
    db: Session, clock: Clock, secret: str, address: str = "", idle_s: float | None = None
) -> FoundSession | None:
    """Return a live session, or None. Nothing is written: a request may take long, and others of the session wait for
    what it has written; :func:`note_active` keeps the news.

    ``idle_s``: for how long nobody has pressed or touched anything there, as the page says; None where it does not say.
    """
    now = clock.now(db)
    row = db.get(SignInSession, digest_of(secret))
    if row is None or row.expires_at <= now or row.active_at + IDLE <= now:
        return None
    active_at = now - timedelta(seconds=idle_s) if idle_s is not None else row.active_at
    account = db.get(Account, row.account_id)
    if account is None or account.off_at is not None:
        return None
    news = active_at if active_at > row.active_at + NOTED_EVERY else None
    return FoundSession(load_actor(db, account, row.password_at, address), row.csrf, news)


def note_active(engine: Engine, secret: str, at: datetime) -> None:
    """Note that somebody is there, in a transaction of its own: where the row is held by another it is left to that
    one's next request, and so it is where the database is away."""

    def work(db: Session) -> None:
        known = select(SignInSession).where(SignInSession.digest == digest_of(secret))
        row = db.scalar(known.with_for_update(skip_locked=True))
        if row is not None and row.active_at < at:
            row.active_at = at

    with suppress(DBAPIError):
        run_in_transaction(engine, work)


def sign_out(db: Session, secret: str) -> None:
    """End a session."""
    db.execute(delete(SignInSession).where(SignInSession.digest == digest_of(secret)))


def confirm_password(db: Session, clock: Clock, actor: Actor, password: str | None) -> None:
    """Require a password given within the last quarter of an hour, else ``password`` now. Raises DomainError.

    Tries are counted by themselves: who is not signed in keeps nobody from signing a record.
    """
    now, place = clock.now(db), f"asked again {actor.address}"[:64]
    if actor.password_at is not None and now - actor.password_at < PASSWORD_FRESH and password is None:
        return
    if password is None:
        raise DomainError("password_needed", "Your password is asked again before signing.", status=401)
    if _counted(db, actor.login, place, now).of_pair > ATTEMPTS_PER_PAIR:
        security.warning("account %s: too many tries of its password from %s", actor.id, actor.address)
        raise DomainError("too_many_attempts", TOO_MANY, status=429)
    account = db.get(Account, actor.id)
    if account is None or not _verify(account.password_hash, password):
        security.warning("account %s: a wrong password where it was asked again", actor.id)
        raise DomainError("wrong_password", "This is not your password. Try again.", status=401)
    _forget_tries(db, actor.login, place)


def forget_expired(db: Session, clock: Clock) -> None:
    """Delete sessions that are over and attempts that no longer count."""
    now = clock.now(db)
    is_over = (SignInSession.expires_at < now) | (SignInSession.active_at < now - IDLE)
    db.execute(delete(SignInSession).where(is_over))
    db.execute(delete(KnownAddress).where(KnownAddress.at < now - KNOWN_FOR))
    db.execute(delete(SignInAttempt).where(SignInAttempt.at < now - timedelta(days=1)))
