"""The board: people down, set-ups across, and in each cell whether it may be worn; and the tablet at the gate."""

from __future__ import annotations

import json
import secrets
from collections import Counter
from dataclasses import dataclass, replace
from datetime import timedelta
from typing import Literal

from sqlalchemy import delete
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import instant
from moorfog.core.kernel.codec import decode, encode
from moorfog.core.kernel.days import day_in
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.web.actor import READERS, Actor, digest_of
from moorfog.platform.web.errors import NotFound
from moorfog.platform.web.paging import page_of
from moorfog.rooms.accounts.sessions import load_actor
from moorfog.rooms.accounts.tables import Account
from moorfog.rooms.crews.crews import CrewAsked, SetUp, crew_on, people_meant
from moorfog.rooms.crews.tables import GateLink
from moorfog.rooms.sites.sites import find_site
from moorfog.rooms.sites.tables import Site
from moorfog.rooms.wear.permissions import PermissionRow, WhyView, at_work, judge_people, set_up_words

ACROSS = 8
"""Set-ups that stand across the board; of more, those that most people have passed in."""
GATE_LASTS = timedelta(hours=12)
Cell = Literal["may", "may_not", ""]


@dataclass(frozen=True)
class BoardColumn:
    """A set-up: what it is called, and how many people of the crew may wear it on the day."""

    configuration: str
    model: str
    size: str
    setup: str
    may: int


@dataclass(frozen=True)
class BoardCell:
    """How somebody stands in a set-up: never passed in it (empty), may until, or may not and why. ``is_before``: on a
    pass that was not judged here."""

    state: Cell
    until: str
    reasons: tuple[WhyView, ...]
    is_before: bool = False


@dataclass(frozen=True)
class BoardRow:
    """A person with a cell for each column, and the set-ups they may wear that are not across."""

    person_id: str
    name: str
    number: str
    task: str
    cells: tuple[BoardCell, ...]
    others: tuple[str, ...]


@dataclass(frozen=True)
class Board:
    """A page of a crew against the set-ups they have passed in."""

    site: str
    day: str
    task: str
    columns: tuple[BoardColumn, ...]
    rows: tuple[BoardRow, ...]
    total: int
    page: int
    pages: int


NEVER = BoardCell("", "", ())


def board_on(db: Session, clock: Clock, actor: Actor, asked: CrewAsked, page: int) -> Board:
    """Return a page of the board of a crew; as :func:`crew_on`, from the same one permission."""
    site, day, task, people = people_meant(db, clock, actor, asked)
    judged = judge_people(db, people, day, at_work(db, task))
    latest = {one.id: _latest(judged[one.id].rows) for one in people}
    columns = _columns(list(latest.values()))
    across = [one.configuration for one in columns]
    shown, total, page, pages = page_of(people, page)
    rows = []
    for one in shown:
        own = latest[one.id]
        others = tuple(set_up_words(row) for row in own.values() if row.may and row.configuration not in across)
        cells = tuple(_cell(own.get(configuration)) for configuration in across)
        rows.append(
            BoardRow(
                person_id=one.id,
                name=one.name,
                number=one.number,
                task=judged[one.id].task,
                cells=cells,
                others=others,
            )
        )
    return Board(
        site=site.name,
        day=day,
        task=task.name if task is not None else "",
        columns=columns,
        rows=tuple(rows),
        total=total,
        page=page,
        pages=pages,
    )


def _latest(rows: tuple[PermissionRow, ...]) -> dict[str, PermissionRow]:
    """Return of each set-up the pass that counts: one that may be worn, else the last one."""
    out: dict[str, PermissionRow] = {}
    for one in sorted(rows, key=lambda row: (row.may, row.tested_on)):
        out[one.configuration] = one
    return out


def _columns(people: list[dict[str, PermissionRow]]) -> tuple[BoardColumn, ...]:
    had, may = Counter[str](), Counter[str]()
    known: dict[str, PermissionRow] = {}
    for own in people:
        for configuration, row in own.items():
            had[configuration] += 1
            may[configuration] += row.may
            known[configuration] = row
    most = sorted(had, key=lambda one: (-may[one], -had[one], known[one].model, known[one].size))[:ACROSS]
    return tuple(
        BoardColumn(
            configuration=one, model=known[one].model, size=known[one].size, setup=known[one].setup, may=may[one]
        )
        for one in sorted(most, key=lambda one: (known[one].model, known[one].size, known[one].setup))
    )


def _cell(row: PermissionRow | None) -> BoardCell:
    if row is None:
        return NEVER
    return BoardCell("may" if row.may else "may_not", row.until, row.reasons, row.is_before)


@dataclass(frozen=True)
class GateAddress:
    """Where the tablet at the gate is, as a path of this site, and until when."""

    path: str
    expires_at: str


@dataclass(frozen=True)
class GateLine:
    """Somebody at the gate: whether they may wear something today, what, and until when; never why not."""

    name: str
    number: str
    may: bool
    set_ups: tuple[str, ...]


@dataclass(frozen=True)
class GateView:
    """Who may wear what today at a site, for whoever stands at its gate."""

    site: str
    day: str
    task: str
    may: int
    rows: tuple[GateLine, ...]


def open_gate(db: Session, clock: Clock, actor: Actor, asked: CrewAsked) -> GateAddress:
    """Make the short-lived address of a tablet at the gate, for a crew on the day that it is. Raises
    :class:`NotFound` outside the scope."""
    site, now = find_site(db, actor.require(*READERS), asked.site), clock.now(db)
    secret = secrets.token_urlsafe(16)
    db.execute(delete(GateLink).where(GateLink.expires_at < now))
    row = GateLink(
        digest=digest_of(secret),
        site_id=site.id,
        account_id=actor.id,
        asked=json.dumps(encode(replace(asked, day=""))),
        expires_at=now + GATE_LASTS,
    )
    db.add(row)
    db.flush()
    note(db, Note("site", site.id, site.employer_id, {"gate": ["", "an address for a tablet"]}))
    return GateAddress(f"/gate/{secret}", instant(row.expires_at))


def _at_the_gate(one: SetUp) -> str:
    """Return a set-up as it is read at a gate: until when, and up to where its test lets it be worn."""
    return "; ".join((f"{one.words}, until {one.until}", *one.limits))


def gate_of(db: Session, clock: Clock, secret: str) -> GateView:
    """Return who may wear what today, for an address at the gate. Raises :class:`NotFound` for one that has ended, or
    whose maker may no longer read."""
    row, now = db.get(GateLink, digest_of(secret)), clock.now(db)
    account = db.get(Account, row.account_id) if row is not None else None
    site = db.get(Site, row.site_id) if row is not None else None
    if row is None or row.expires_at <= now or account is None or account.off_at is not None or site is None:
        raise NotFound("gate")
    actor = load_actor(db, account)
    if not actor.scope(*READERS).allows(site.employer_id):
        raise NotFound("gate")
    today = day_in(site.zone, now).isoformat()
    asked = replace(decode(CrewAsked, json.loads(row.asked), "asked"), day=today)
    view = crew_on(db, clock, actor, asked)
    lines = [
        GateLine(one.name, one.number, one.may, tuple(map(_at_the_gate, one.set_ups)))
        for one in sorted(view.rows, key=lambda one: one.name)
    ]
    return GateView(site=view.site, day=view.day, task=view.task, may=view.may, rows=tuple(lines))
