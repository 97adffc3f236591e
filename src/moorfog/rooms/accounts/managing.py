"""Accounts: who is invited, with which roles, switched off, reset; never deleted, as records name them."""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, ClassVar, Literal

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from moorfog.core.events.facts import STRICT
from moorfog.core.events.payloads import instant
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import Scope
from moorfog.platform.log.deeds import Note, changed, note
from moorfog.platform.web.actor import Actor, digest_of
from moorfog.platform.web.errors import Conflict, DomainError, Forbidden, NotFound
from moorfog.platform.web.fields import Line
from moorfog.platform.web.paging import cut_to_page
from moorfog.rooms.accounts.tables import Account, Grant, Invitation, SignInSession
from moorfog.rooms.sites.tables import Employer

INVITED_FOR = timedelta(days=7)
RESET_FOR = timedelta(hours=24)
Role = Literal["tester", "administrator", "supervisor"]


@dataclass(frozen=True)
class GrantEntry:
    """A role at an employer, or at all of them where ``employer_id`` is null."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    role: Role
    employer_id: str | None


@dataclass(frozen=True)
class AccountEntry:
    """A colleague to be invited: the name they sign in with, their own name, and their roles."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    login: Line
    name: Line
    grants: tuple[GrantEntry, ...]


@dataclass(frozen=True)
class GrantView:
    """A role, and where: the employer's name, empty for all of them."""

    role: str
    employer_id: str | None
    employer: str


@dataclass(frozen=True)
class AccountView:
    """An account. ``state``: active, invited (no password chosen yet), off. Moments are empty where there is none."""

    id: str
    login: str
    name: str
    grants: tuple[GrantView, ...]
    state: Literal["active", "invited", "off"]
    has_second: bool
    last_active: str
    invited_until: str
    is_own: bool
    may_change: bool


@dataclass(frozen=True)
class AccountsPage:
    """A page of accounts, by name."""

    rows: tuple[AccountView, ...]
    total: int
    page: int
    pages: int


@dataclass(frozen=True)
class Invited:
    """A one-time address at which a password is chosen, shown only now; and until when it opens."""

    account_id: str
    address: str
    until: str


def _grants(db: Session, account_ids: list[str]) -> dict[str, list[GrantView]]:
    rows = db.execute(
        select(Grant.account_id, Grant.role, Grant.employer_id, Employer.name)
        .outerjoin(Employer, Employer.id == Grant.employer_id)
        .where(Grant.account_id.in_(account_ids))
        .order_by(Grant.role, Employer.name)
    )
    found: dict[str, list[GrantView]] = {one: [] for one in account_ids}
    for account, role, employer_id, employer in rows:
        found[account].append(GrantView(role, employer_id, employer or ""))
    return found


def _may_change(scope: Scope, grants: list[GrantView]) -> bool:
    return scope.employers is None or (bool(grants) and all(scope.allows(one.employer_id) for one in grants))


def list_accounts(db: Session, clock: Clock, actor: Actor, page: int) -> AccountsPage:
    """Return the accounts that have a role within the administrator's employers, by name."""
    scope, now = actor.require("administrator"), clock.now(db)
    query = select(Account)
    if scope.employers is not None:
        mine = select(Grant.account_id).where(Grant.employer_id.in_(sorted(scope.employers)))
        query = query.where(Account.id.in_(mine))
    rows, *rest = cut_to_page(db, query, page, Account.name, Account.id)
    ids = [row[0].id for row in rows]
    grants = _grants(db, ids)
    seen: dict[str, datetime] = dict(
        db.execute(
            select(SignInSession.account_id, func.max(SignInSession.active_at))
            .where(SignInSession.account_id.in_(ids))
            .group_by(SignInSession.account_id)
        ).all()
    )
    invited: dict[str, datetime] = dict(
        db.execute(
            select(Invitation.account_id, func.max(Invitation.expires_at))
            .where(Invitation.account_id.in_(ids), Invitation.expires_at > now)
            .group_by(Invitation.account_id)
        ).all()
    )
    views = tuple(
        AccountView(
            id=one.id,
            login=one.login,
            name=one.name,
            grants=tuple(grants[one.id]),
            state="off" if one.off_at else "active" if one.password_hash else "invited",
            has_second=one.totp_on,
            last_active=instant(seen[one.id]) if one.id in seen else "",
            invited_until=instant(invited[one.id]) if one.id in invited else "",
            is_own=one.id == actor.id,
            may_change=_may_change(scope, grants[one.id]),
        )
        for (one,) in rows
    )
    return AccountsPage(views, *rest)


def find_account(db: Session, actor: Actor, account_id: str) -> tuple[Account, list[GrantView]]:
    """Return an account that this administrator may change. Raises :class:`NotFound`, :class:`Forbidden`."""
    scope = actor.require("administrator")
    account = db.get(Account, account_id, with_for_update=True)
    grants = _grants(db, [account_id])[account_id]
    if account is None or not (scope.employers is None or any(scope.allows(one.employer_id) for one in grants)):
        raise NotFound("account")
    if not _may_change(scope, grants):
        raise Forbidden("not_yours_alone", f"{account.name} works for others too; an administrator of all changes it.")
    return account, grants


def _check_grants(db: Session, actor: Actor, grants: tuple[GrantEntry, ...]) -> None:
    scope = actor.require("administrator")
    if not grants:
        raise DomainError("role_missing", "Give at least one role: tester, administrator or supervisor.")
    for one in grants:
        if one.employer_id is None and scope.employers is not None:
            raise Forbidden("all_employers", "A role at all employers is given by an administrator of all of them.")
        if one.employer_id is not None and (
            not scope.allows(one.employer_id) or db.get(Employer, one.employer_id) is None
        ):
            raise NotFound("employer")


def _write_grants(db: Session, account_id: str, grants: tuple[GrantEntry, ...]) -> None:
    db.execute(delete(Grant).where(Grant.account_id == account_id))
    for role, employer_id in dict.fromkeys((one.role, one.employer_id) for one in grants):
        db.add(Grant(id=new_id(), account_id=account_id, role=role, employer_id=employer_id))
    db.flush()


def _words(grants: list[GrantView]) -> list[str]:
    return [f"{one.role} at {one.employer or 'all employers'}" for one in grants]


def first_employer(grants: list[GrantView]) -> str:
    """Return the first employer that any of the grants is for, or nothing."""
    return next((one.employer_id for one in grants if one.employer_id), "")


def _address(db: Session, clock: Clock, account_id: str, lasts: timedelta) -> Invited:
    db.execute(delete(Invitation).where(Invitation.account_id == account_id))
    secret, until = secrets.token_urlsafe(24), clock.now(db) + lasts
    db.add(Invitation(digest=digest_of(secret), account_id=account_id, expires_at=until))
    db.flush()
    return Invited(account_id, f"/join/{secret}", instant(until))


def invite(db: Session, clock: Clock, actor: Actor, one: AccountEntry) -> Invited:
    """Make an account without a password, and the one-time address at which it is chosen."""
    _check_grants(db, actor, one.grants)
    login, name = one.login.strip().lower(), " ".join(one.name.split())
    if not login or not name or any(sign.isspace() for sign in login):
        raise DomainError("name_missing", "Give their name, and a name to sign in with that has no spaces.")
    if db.scalar(select(Account.id).where(Account.login == login)) is not None:
        raise Conflict("login_taken", f"Somebody signs in as {login} already. Choose another name to sign in with.")
    account = Account(id=new_id(), login=login, name=name, password_hash="")
    db.add(account)
    db.flush()
    _write_grants(db, account.id, one.grants)
    grants = _grants(db, [account.id])[account.id]
    note(db, Note("account", account.id, first_employer(grants), {"roles": [[], _words(grants)]}))
    return _address(db, clock, account.id, INVITED_FOR)


def change_account(db: Session, actor: Actor, account_id: str, one: AccountEntry) -> None:
    """Change a name or the roles of an account; they count from the next request on."""
    account, before = find_account(db, actor, account_id)
    _check_grants(db, actor, one.grants)
    login, name = one.login.strip().lower(), " ".join(one.name.split())
    if not login or not name:
        raise DomainError("name_missing", "Give their name, and a name to sign in with.")
    taken = db.scalar(select(Account.id).where(Account.login == login, Account.id != account_id))
    if taken is not None:
        raise Conflict("login_taken", f"Somebody signs in as {login} already. Choose another name to sign in with.")
    old = {"name": account.name, "login": account.login, "roles": _words(before)}
    chiefs = _administrators(db)
    account.name, account.login = name, login
    _write_grants(db, account_id, one.grants)
    _keep_one_administrator(db, chiefs)
    after = _grants(db, [account_id])[account_id]
    changes = changed(old, {"name": name, "login": login, "roles": _words(after)})
    note(db, Note("account", account_id, first_employer(after or before), changes))


def _administrators(db: Session) -> int:
    """Return how many can sign in as administrator of all employers."""
    db.flush()
    found = (
        select(func.count())
        .select_from(Grant)
        .join(Account, Account.id == Grant.account_id)
        .where(
            Grant.role == "administrator",
            Grant.employer_id.is_(None),
            Account.off_at.is_(None),
            Account.password_hash != "",
        )
    )
    return db.scalar(found) or 0


def _keep_one_administrator(db: Session, before: int) -> None:
    """Refuse a change that takes the last of so many away who could sign in as administrator of all employers."""
    if before and not _administrators(db):
        raise DomainError(
            "last_administrator",
            "Then nobody could look after this installation any more. Make somebody else administrator of all "
            "employers first, and have them choose their password.",
        )


def switch(db: Session, clock: Clock, actor: Actor, account_id: str, *, on: bool) -> None:
    """Switch an account off, which ends its sessions at once, or on again."""
    account, grants = find_account(db, actor, account_id)
    chiefs, was_off = _administrators(db), account.off_at is not None
    account.off_at = None if on else account.off_at or clock.now(db)
    if not on:
        end_sessions(db, account_id)
        db.execute(delete(Invitation).where(Invitation.account_id == account_id))
        _keep_one_administrator(db, chiefs)
    words = ["off" if was_off else "on", "on" if on else "off"]
    note(db, Note("account", account_id, first_employer(grants), {"account": words}))


def reset(db: Session, clock: Clock, actor: Actor, account_id: str) -> Invited:
    """Make a one-time address at which a new password is chosen; the old one counts until then, and every session
    ends at once.

    The second factor is switched off as well when the address is used: whoever lost both begins anew.
    """
    account, grants = find_account(db, actor, account_id)
    if account.off_at is not None:
        raise DomainError("account_off", "This account is switched off. Switch it on first.")
    end_sessions(db, account_id)
    note(db, Note("account", account_id, first_employer(grants), {"password": ["", "to be chosen anew"]}))
    return _address(db, clock, account_id, RESET_FOR if account.password_hash else INVITED_FOR)


def end_sessions(db: Session, account_id: str, but: str = "", only: str = "") -> int:
    """End sessions of an account: all, all but the one of a secret, or only that of an id. Returns how many."""
    query = delete(SignInSession).where(SignInSession.account_id == account_id)
    if but:
        query = query.where(SignInSession.digest != digest_of(but))
    if only:
        query = query.where(SignInSession.digest == only)
    return len(db.execute(query.returning(SignInSession.digest)).all())
