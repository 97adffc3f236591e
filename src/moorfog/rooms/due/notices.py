"""Telling testers and supervisors by e-mail who is due, as often as each of them has chosen."""

from __future__ import annotations

from collections.abc import Iterator
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import within
from moorfog.platform.web.actor import READERS
from moorfog.rooms.accounts.notice import is_told_on
from moorfog.rooms.accounts.sessions import load_actor
from moorfog.rooms.accounts.tables import Account
from moorfog.rooms.due.due import DueLine, due_at, due_lines
from moorfog.rooms.mail.outbox import Letter, put_out
from moorfog.rooms.sites.tables import Employer, Site

HOUR = 5
"""From this hour of the day at the site: it is there when they begin."""
NAMED = 40
"""So many people are named of each site; the rest is counted."""
NOTICE = """Good morning {name},

{sites}

The list as it stands now is under Due. How often this comes is set under your own name.
"""


def who_is_told(db: Session) -> tuple[str, ...]:
    """Return the accounts that want to be told who is due."""
    wanted = select(Account.id).where(Account.due_notice != "", Account.address != "", Account.off_at.is_(None))
    return tuple(db.scalars(wanted.order_by(Account.id)))


def tell_due(db: Session, clock: Clock, account_id: str) -> int:
    """Put letters into the outbox for a colleague whose turn it is, one for each employer; return how many.

    The account is locked meanwhile: of two workers one tells them.
    """
    account = db.get(Account, account_id, with_for_update=True)
    if account is None:
        return 0
    actor = load_actor(db, account)
    scope = actor.scope(*READERS)
    sites = within(select(Site).where(Site.archived_at.is_(None)), scope, Site.employer_id)
    places = db.scalars(sites.order_by(Site.employer_id, Site.name)).all()
    if not places:
        return 0
    local = clock.now(db).astimezone(ZoneInfo(places[0].zone))
    if local.hour < HOUR or not is_told_on(account, local.date()):
        return 0
    account.noticed_on = local.date()
    told = 0
    for employer_id in dict.fromkeys(one.employer_id for one in places):
        counted, words = 0, list[str]()
        for site in (one for one in places if one.employer_id == employer_id):
            due = due_at(db, clock, actor, site.id)
            lines = list(due_lines(db, due))
            counted += len(lines)
            words += [*_about(site, due.within, lines), ""] if lines else []
        if counted:
            _put(db, clock, account, employer_id, counted, words)
            told += 1
    return told


def _put(db: Session, clock: Clock, account: Account, employer_id: str, counted: int, words: list[str]) -> None:
    people = "1 person is" if counted == 1 else f"{counted} people are"
    employer = db.get_one(Employer, employer_id).name
    letter = Letter(
        kind="notice",
        employer_id=employer_id,
        person_id=None,
        to_address=account.address,
        subject=f"{people} due, {employer}"[:190],
        body=NOTICE.format(name=account.name, sites="\n".join(words).strip()),
    )
    put_out(db, clock, account.id, letter)


def _about(site: Site, days: int, lines: list[DueLine]) -> Iterator[str]:
    unable = sum(not one.until for one in lines)
    yield f"{site.name}: {unable} may wear nothing now, {len(lines) - unable} run out within {days} days."
    for one in lines[:NAMED]:
        what = f"until {one.until}, then {one.ends_by} runs out" if one.until else "may wear nothing now"
        yield f"- {one.name} {one.number}: {what}"
    if len(lines) > NAMED:
        yield f"and {len(lines) - NAMED} more"
