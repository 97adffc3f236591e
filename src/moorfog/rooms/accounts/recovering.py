"""The recovery key of the backups, made by whoever keeps the whole installation, and shown once."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from sqlalchemy.orm import Session

from moorfog.platform.db.clock import Clock
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.errors import Forbidden
from moorfog.recovery import RECIPIENT, make_recovery_key
from moorfog.rooms.accounts.sessions import confirm_password


@dataclass(frozen=True)
class RecoveryKey:
    """A recovery key, shown only now: it opens every backup from here on."""

    key: str


def new_recovery_key(db: Session, clock: Clock, actor: Actor, keys: Path, password: str) -> RecoveryKey:
    """Make a recovery key in the place of one that there may be. Raises :class:`DomainError`."""
    if not actor.keeps_all():
        raise Forbidden("not_yours", "Backups hold everybody's data: an administrator of the whole installation.")
    confirm_password(db, clock, actor, password)
    had_one = (keys / RECIPIENT).exists()
    made = make_recovery_key(keys)
    note(db, Note("organisation", "1", changes={"recovery_key": ["another one" if had_one else "", "made"]}))
    return RecoveryKey(made)
