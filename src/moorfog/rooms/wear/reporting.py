"""Reports of change: somebody says that a face, health, a facepiece or the work has changed, or that it fits no more.

One line, dated, with who said it. It ends at once what was passed before; a test since settles it, and a change of
health a clearance filed since.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, time, timedelta
from typing import Annotated, Any, ClassVar
from zoneinfo import ZoneInfo

from pydantic import Field
from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.events.facts import STRICT
from moorfog.core.events.payloads import instant
from moorfog.core.permission.may_wear import REPORTED, ReportKind
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.log.same import same_person
from moorfog.platform.web.actor import READERS, Actor
from moorfog.platform.web.errors import DomainError, NotFound
from moorfog.platform.web.fields import Label, day_of
from moorfog.rooms.people.holding import hold_person
from moorfog.rooms.people.on_file import SAID_BY, SaidBy
from moorfog.rooms.people.tables import ChangeReport, Person
from moorfog.rooms.sites.tables import Site
from moorfog.rooms.wear.permissions import judge_permissions, usual_task


@dataclass(frozen=True)
class ReportEntry:
    """What has changed, on which day (YYYY-MM-DD), who said so, in a few words and never a diagnosis.

    ``configuration``: the set-up it is about, empty for all.
    """

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    kind: ReportKind
    on: Label
    said_by: SaidBy
    words: Annotated[str, Field(max_length=200)]
    configuration: Annotated[str, Field(max_length=64)] = ""


@dataclass(frozen=True)
class ReportLine:
    """A report of change on a screen. ``withdrawn``: by whom and why, empty while it stands."""

    id: str
    kind: str
    title: str
    on: str
    said_by: str
    words: str
    setup: str
    entered_at: str
    withdrawn: str


def report_change(db: Session, clock: Clock, actor: Actor, person_id: str, one: ReportEntry) -> str:
    """Put a report of change on file; what was passed before ends at once. Returns its id.

    Raises :class:`NotFound` outside the scope or for a set-up they never passed in, :class:`DomainError` for a day to
    come.
    """
    return enter_report(db, clock, hold_person(db, actor.require(*READERS), person_id), one, actor.id)


BY_CARD = "00000000-0000-0000-0000-000000000000"
"""Instead of an account: somebody who holds the wearer's card and knows their number."""


def enter_report(db: Session, clock: Clock, person: Person, one: ReportEntry, account_id: str) -> str:
    """Put a report of change on file, whoever made it; as :func:`report_change`."""
    site, now, on = db.get(Site, person.site_id), clock.now(db), day_of(one.on, "On")
    zone = ZoneInfo(site.zone if site is not None else "UTC")
    if on > now.astimezone(zone).date():
        raise DomainError("in_the_future", f"{on} has not come yet. Say since when it is so.")
    setup = _setup(db, person, one.configuration, on.isoformat())
    end_of_day = datetime.combine(on + timedelta(days=1), time(), zone)
    row = ChangeReport(
        id=new_id(),
        person_id=person.id,
        employer_id=person.employer_id,
        kind=one.kind,
        configuration=one.configuration,
        setup=setup,
        on_day=on,
        doubted_from=min(now, end_of_day),
        said_by=one.said_by,
        words=" ".join(one.words.split()),
        account_id=account_id,
        entered_at=now,
    )
    db.add(row)
    db.flush()
    changes = {"reported": ["", f"{REPORTED[one.kind][0]} on {on}"]}
    note(db, Note(kind="person", id=person.id, employer=person.employer_id, changes=changes, why=row.words))
    return row.id


def _setup(db: Session, person: Person, configuration: str, day: str) -> str:
    """Return a set-up somebody passed in, in words. Raises :class:`NotFound` for one they never did."""
    if not configuration:
        return ""
    rows = judge_permissions(db, person, day, usual_task(db, person)).rows
    row = next((one for one in rows if one.configuration == configuration), None)
    if row is None:
        raise NotFound("set-up")
    return f"{row.model} {row.size}"


def withdraw_report(db: Session, clock: Clock, actor: Actor, report_id: str, why: str) -> str:
    """Take a report back that was wrong, with the reason: what it ended counts again. Returns whose it was."""
    scope = actor.require("administrator")
    row = db.get(ChangeReport, report_id, with_for_update=True)
    if row is None or not scope.allows(row.employer_id):
        raise NotFound("report")
    if row.withdrawn_at is not None:
        raise DomainError("withdrawn", "It is withdrawn already.")
    if not why.strip():
        raise DomainError("reason_missing", "Say how you know that it was wrong; it stands beside the report.")
    row.withdrawn_at, row.withdrawn_by, row.withdrawn_why = clock.now(db), actor.name, why.strip()
    changes = {"reported": [REPORTED[row.kind][0], "withdrawn"]}
    note(db, Note(kind="person", id=row.person_id, employer=row.employer_id, changes=changes, why=why.strip()))
    return row.person_id


def reports_on(db: Session, person_id: str, sees_health: bool) -> tuple[ReportLine, ...]:
    """Return what was reported of a person, the latest first; of their health only that something was, unless whoever
    asks may see more."""
    rows = db.scalars(
        select(ChangeReport)
        .where(ChangeReport.person_id.in_(same_person(db, person_id)))
        .order_by(ChangeReport.entered_at.desc())
        .limit(50)
    )
    return tuple(
        ReportLine(
            id=row.id,
            kind=row.kind,
            title=REPORTED[row.kind][0],
            on=row.on_day.isoformat(),
            said_by=SAID_BY[row.said_by],
            words=row.words if sees_health or row.kind != "health" else "",
            setup=row.setup,
            entered_at=instant(row.entered_at),
            withdrawn=f"withdrawn by {row.withdrawn_by}: {row.withdrawn_why}" if row.withdrawn_at else "",
        )
        for row in rows
    )
