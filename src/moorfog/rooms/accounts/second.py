"""The second factor: a code that changes every half minute, and recovery codes for a lost telephone."""

from __future__ import annotations

import secrets
from dataclasses import dataclass

import pyotp
import segno
from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from moorfog.platform.db.clock import Clock
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.web.actor import Actor, digest_of
from moorfog.platform.web.errors import DomainError
from moorfog.rooms.accounts.sessions import confirm_password
from moorfog.rooms.accounts.tables import Account, RecoveryCode
from moorfog.same import is_same

RECOVERY_CODES = 10
STEP_S = 30
"""RFC 6238: a code counts for half a minute; one before and one after are taken too, as clocks differ."""


@dataclass(frozen=True)
class SecondStart:
    """The secret to put into an authenticator: as text, as the address that a QR code holds, and the rows of that
    code, a sign for each square, 1 for a dark one."""

    secret: str
    address: str
    squares: tuple[str, ...]


def _normal(code: str) -> str:
    return "".join(code.split()).replace("-", "").lower()


def start(db: Session, clock: Clock, actor: Actor, password: str | None) -> SecondStart:
    """Make a secret; it counts from when a code of it was given. Raises :class:`DomainError`."""
    confirm_password(db, clock, actor, password)
    account = db.get_one(Account, actor.id)
    if account.totp_on:
        raise DomainError("second_on", "A second factor is on already. Switch it off first to set up another one.")
    account.totp_secret = pyotp.random_base32()
    address = pyotp.TOTP(account.totp_secret).provisioning_uri(name=account.login, issuer_name="Moorfog")
    rows = segno.make(address, error="m").matrix_iter(border=3)
    return SecondStart(account.totp_secret, address, tuple("".join(map(str, row)) for row in rows))


def confirm(db: Session, clock: Clock, actor: Actor, code: str) -> tuple[str, ...]:
    """Switch the second factor on with a code of it; return the recovery codes, shown only now."""
    account = db.get_one(Account, actor.id)
    if not account.totp_secret or account.totp_on:
        raise DomainError("second_not_started", "Begin with a new secret, then give a code of it.")
    if not _is_right(account, clock.now(db).timestamp(), code):
        raise DomainError("wrong_code", "This is not the code of now. Wait for the next one and type that.")
    account.totp_on = True
    codes = tuple(f"{secrets.token_hex(3)}-{secrets.token_hex(3)}" for _ in range(RECOVERY_CODES))
    db.execute(delete(RecoveryCode).where(RecoveryCode.account_id == account.id))
    db.add_all(RecoveryCode(digest=digest_of(_normal(one)), account_id=account.id) for one in codes)
    note(db, Note("account", account.id, changes={"second factor": ["off", "on"]}))
    return codes


def switch_off(db: Session, account: Account) -> None:
    """Switch the second factor off."""
    note(db, Note("account", account.id, changes={"second factor": ["on" if account.totp_on else "off", "off"]}))
    account.totp_on, account.totp_secret = False, None
    db.execute(delete(RecoveryCode).where(RecoveryCode.account_id == account.id))


def recovery_left(db: Session, account_id: str) -> int:
    """Return how many recovery codes are left."""
    count = select(func.count()).select_from(RecoveryCode).where(RecoveryCode.account_id == account_id)
    return db.scalar(count) or 0


def _is_right(account: Account, now: float, code: str) -> bool:
    """Tell whether a code is right and was not used before; from then on it is used."""
    totp, given = pyotp.TOTP(account.totp_secret or ""), _normal(code)
    step = int(now) // STEP_S
    for one in (step - 1, step, step + 1):
        if one > account.totp_step and is_same(given, totp.at(one * STEP_S)):
            account.totp_step = one
            return True
    return False


def passes(db: Session, clock: Clock, account: Account, code: str) -> bool:
    """Tell whether a code of the second factor, or a recovery code, lets this account in; either counts once."""
    if _is_right(account, clock.now(db).timestamp(), code):
        return True
    spent = delete(RecoveryCode).where(
        RecoveryCode.account_id == account.id, RecoveryCode.digest == digest_of(_normal(code))
    )
    return bool(db.execute(spent.returning(RecoveryCode.digest)).all())
