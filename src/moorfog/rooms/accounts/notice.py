"""Where a colleague is written to, and how often they are told who is due."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date
from typing import Any, ClassVar, Literal

from sqlalchemy.orm import Session

from moorfog.core.events.facts import STRICT
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.errors import DomainError
from moorfog.platform.web.fields import Line, is_address
from moorfog.rooms.accounts.tables import Account

Often = Literal["", "daily", "weekly"]


@dataclass(frozen=True)
class NoticeEntry:
    """Where somebody is written to (empty: nowhere), and how often they are told who is due (empty: never)."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    address: Line
    often: Often


def set_notice(db: Session, actor: Actor, entry: NoticeEntry) -> None:
    """Set one's own address and how often one is told. Raises :class:`DomainError` for what cannot be written to."""
    address = entry.address.strip()
    if address and not is_address(address):
        raise DomainError("no_address", f"{address!r} cannot be written to. Type it as name@host, one address only.")
    if entry.often and not address:
        raise DomainError("no_address", "To be told by e-mail, an address is needed. Type yours.")
    account = db.get_one(Account, actor.id)
    changes: dict[str, list[str]] = {
        "address": [account.address, address],
        "told who is due": [account.due_notice, entry.often],
    }
    account.address, account.due_notice, account.noticed_on = address, entry.often, None
    note(db, Note("account", account.id, changes={key: two for key, two in changes.items() if two[0] != two[1]}))


def is_told_on(account: Account, day: date) -> bool:
    """Tell whether somebody is to be told who is due on a day: daily, or on the first day of a week that comes."""
    last = account.noticed_on
    if not account.due_notice or not account.address or account.off_at is not None:
        return False
    if last is None:
        return True
    return last < day and (account.due_notice == "daily" or last.isocalendar()[:2] != day.isocalendar()[:2])
