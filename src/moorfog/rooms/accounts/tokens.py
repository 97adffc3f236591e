"""Tokens by which another program reads what an employer has here, or enters some of it too: named, expiring, ended at
any time."""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import timedelta
from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field
from sqlalchemy import select, update
from sqlalchemy.orm import Session

from moorfog.core.events.facts import STRICT
from moorfog.core.events.payloads import instant
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import within
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.web.actor import Actor, digest_of
from moorfog.platform.web.errors import DomainError, Forbidden, NotFound
from moorfog.platform.web.fields import Id, Label
from moorfog.rooms.accounts.sessions import NOTED_EVERY
from moorfog.rooms.accounts.tables import ApiToken
from moorfog.rooms.sites.tables import Employer

MOST = 200
MARK = "mft_"
"""What every token begins with, so that it is known for one where it turns up."""
May = Literal["read", "write"]
"""What a program may do by a token: read as a supervisor does; or enter people and papers, and results of before, too.
Neither shows it anything of health."""


@dataclass(frozen=True)
class TokenEntry:
    """A token to be made: what it is for, at which employer, for how many days, and whether it writes, too."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    name: Label
    employer_id: Id
    days: Annotated[int, Field(ge=1, le=400)]
    may: May = "read"


@dataclass(frozen=True)
class TokenMade:
    """A token, shown only now."""

    id: str
    token: str
    expires_at: str


@dataclass(frozen=True)
class TokenView:
    """A token that was made. ``state``: counts, ended, or ran out."""

    id: str
    name: str
    employer: str
    may: May
    made_at: str
    expires_at: str
    used_at: str
    state: str


def make_token(db: Session, clock: Clock, actor: Actor, one: TokenEntry) -> TokenMade:
    """Make a token. Raises :class:`NotFound` for a foreign employer."""
    scope, name = actor.require("administrator"), one.name.strip()
    if not scope.allows(one.employer_id) or db.get(Employer, one.employer_id) is None:
        raise NotFound("employer")
    if not name:
        raise DomainError("name_missing", "Say what the token is for.")
    now, secret = clock.now(db), MARK + secrets.token_urlsafe(30)
    row = ApiToken(
        id=new_id(),
        digest=digest_of(secret),
        name=name,
        employer_id=one.employer_id,
        may=one.may,
        made_by=actor.id,
        made_at=now,
        expires_at=now + timedelta(days=one.days),
        ended_at=None,
        used_at=None,
    )
    db.add(row)
    db.flush()
    note(db, Note("token", row.id, row.employer_id, {"token": ["", f"{name}, may {one.may}"]}))
    return TokenMade(row.id, secret, instant(row.expires_at))


def list_tokens(db: Session, clock: Clock, actor: Actor) -> tuple[TokenView, ...]:
    """Return the tokens of the administrator's employers, the newest first."""
    query = select(ApiToken, Employer.name).join(Employer, Employer.id == ApiToken.employer_id)
    mine = within(query, actor.require("administrator"), ApiToken.employer_id)
    now = clock.now(db)
    return tuple(
        TokenView(
            id=one.id,
            name=one.name,
            employer=employer,
            may="write" if one.may == "write" else "read",
            made_at=instant(one.made_at),
            expires_at=instant(one.expires_at),
            used_at=instant(one.used_at) if one.used_at else "",
            state="ended" if one.ended_at else "ran out" if one.expires_at <= now else "counts",
        )
        for one, employer in db.execute(mine.order_by(ApiToken.made_at.desc(), ApiToken.id).limit(MOST))
    )


def end_token(db: Session, clock: Clock, actor: Actor, token_id: str) -> None:
    """End a token at once. Raises :class:`NotFound`."""
    row = db.get(ApiToken, token_id)
    if row is None or not actor.require("administrator").allows(row.employer_id):
        raise NotFound("token")
    row.ended_at = row.ended_at or clock.now(db)
    note(db, Note("token", row.id, row.employer_id, {"token": [row.name, "ended"]}))


def actor_for_token(db: Session, clock: Clock, token: str, to_write: bool = False) -> Actor | None:
    """Return who works by a token: somebody with a supervisor's sight of its employer, or an administrator of it where
    it is ``to_write`` and may; None for one that does not count. Raises :class:`Forbidden` for one that only reads."""
    if not token.startswith(MARK):
        return None
    now = clock.now(db)
    row = db.scalar(select(ApiToken).where(ApiToken.digest == digest_of(token)))
    if row is None or row.ended_at is not None or row.expires_at <= now:
        return None
    if row.used_at is None or now - row.used_at > NOTED_EVERY:
        db.execute(update(ApiToken).where(ApiToken.id == row.id).values(used_at=now))
    if to_write and row.may != "write":
        raise Forbidden("only_reads", "This token only reads. Ask your administrator for one that writes.")
    role = "administrator" if to_write else "supervisor"
    return Actor(id=row.id, name=row.name, login="", grants=((role, row.employer_id),))
