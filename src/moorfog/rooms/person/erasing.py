"""Erasing a person: names, contact, papers and signatures go; the log's ids and digests stay, and it is written down.

A record is needed until the next test, so nobody is erased who still works here.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

from sqlalchemy import Engine, Select, delete, func, select, update
from sqlalchemy.orm import Session

from moorfog.core.events.facts import STRICT
from moorfog.core.events.words import WORDS, has_plain_words
from moorfog.core.kernel.days import day_in
from moorfog.core.rules.validity import valid_until
from moorfog.platform.db.base import run_in_transaction
from moorfog.platform.db.clock import Clock, DatabaseClock
from moorfog.platform.jobs.jobs import new_job
from moorfog.platform.jobs.tables import Job, JobFile
from moorfog.platform.log.deeds import Note, note, notes_of, write
from moorfog.platform.log.ledger import erase_from_ledger
from moorfog.platform.log.log import load_visit, lock_head
from moorfog.platform.log.readmodels import refresh
from moorfog.platform.log.same import same_person
from moorfog.platform.log.summaries import VisitSummary
from moorfog.platform.log.tables import EventRow, EventWords
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.errors import DomainError, NotFound
from moorfog.platform.web.fields import Why
from moorfog.platform.web.paging import cut_to_page
from moorfog.rooms.accounts.sessions import load_actor
from moorfog.rooms.accounts.tables import Account
from moorfog.rooms.bench.tables import SignatureRow
from moorfog.rooms.mail.tables import Mail
from moorfog.rooms.papers.tables import CardCode, DocumentRow
from moorfog.rooms.people.holding import hold_whole
from moorfog.rooms.people.people import find_person
from moorfog.rooms.people.roster import Progress
from moorfog.rooms.people.tables import (
    ChangeReport,
    ClearanceRow,
    Erased,
    MeasurementRow,
    Person,
    PersonWord,
    TrainingRow,
)
from moorfog.rooms.person.naming import take_names_out
from moorfog.rooms.sites.sites import find_site
from moorfog.rooms.sites.tables import Site
from moorfog.rooms.wear.tables import HistoryRow

ERASED_NAME = "Erased person"
PERIOD_OVER = "The site keeps personal data no longer."
NAMING = ("roster", "cards", "crew_list")
"""Jobs that have people in what they were given."""
MANY = 500
"""Ids in one statement."""


@dataclass(frozen=True)
class Erasure:
    """That a person is to be erased, and why."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT
    why: Why


@dataclass(frozen=True)
class ErasureView:
    """What erasing a person takes away, counted, and why it cannot be done yet, empty where it can."""

    entries: int
    visits: int
    signatures: int
    papers: int
    on_file: int
    words: int
    """Entries of their logs with words in them that somebody typed: those words go."""
    words_kept: int
    """Entries from before such words could be taken out: the log cannot hold without them."""
    not_yet: str


@dataclass(frozen=True)
class DueErasure:
    """Somebody who left longer ago than their site keeps personal data."""

    id: str
    name: str
    number: str
    left_on: str
    kept_until: str


@dataclass(frozen=True)
class DueErasures:
    """A page of those whom a site no longer keeps."""

    rows: tuple[DueErasure, ...]
    total: int
    page: int
    pages: int


def _not_yet(db: Session, person: Person, ids: Sequence[str]) -> str:
    if person.erased_at is not None:
        return "They are erased already."
    if person.merged_into is not None:
        return "This entry was made part of another. Erase that one."
    if person.left_on is None:
        return "They still work here: a record is kept until the next test. Say first that they have left."
    reading = select(Job.id).where(Job.employer_id == person.employer_id, Job.kind.in_(NAMING))
    if db.scalar(reading.where(Job.state.in_(("waiting", "running"))).limit(1)) is not None:
        return "A roster is being read in or papers are drawn, and they may be in it. Wait for that, or stop it."
    here = select(VisitSummary.visit_id).where(VisitSummary.person_id.in_(ids), VisitSummary.closed == "")
    if db.scalar(here.limit(1)) is not None:
        return "They are at a bench. Close the visit first."
    return ""


def _visits(db: Session, ids: Sequence[str]) -> list[str]:
    return list(db.scalars(select(VisitSummary.visit_id).where(VisitSummary.person_id.in_(ids))))


def preview_erasure(db: Session, actor: Actor, person_id: str) -> ErasureView:
    """Return what erasing a person takes away. Raises :class:`NotFound` outside the administrator's scope."""
    person = find_person(db, actor.require("administrator"), person_id)
    ids = same_person(db, person.id)
    visits = _visits(db, ids)

    def count(table: Any, column: Any, among: Sequence[str]) -> int:
        return db.scalar(select(func.count()).select_from(table).where(column.in_(among))) or 0

    return ErasureView(
        entries=len(ids),
        visits=len(visits),
        signatures=count(SignatureRow, SignatureRow.visit_id, visits),
        papers=count(DocumentRow, DocumentRow.visit_id, visits),
        on_file=sum(
            count(one, one.person_id, ids) for one in (ClearanceRow, TrainingRow, MeasurementRow, ChangeReport)
        ),
        words=count(EventWords, EventWords.visit_id, visits),
        words_kept=_words_kept(db, visits),
        not_yet=_not_yet(db, person, ids),
    )


def _words_kept(db: Session, visits: Sequence[str]) -> int:
    """Return how many entries of logs say in themselves what somebody typed."""
    asked = select(EventRow.payload).where(EventRow.visit_id.in_(visits), EventRow.kind.in_(WORDS))
    return sum(has_plain_words(json.loads(one)) for one in db.scalars(asked))


def _take_words_out(db: Session, visits: Sequence[str], common: Mapping[str, Any]) -> None:
    """Take what was typed into logs out, and have their read models say what the logs then say."""
    done = select(Erased.row_id).where(Erased.kind == "words")
    beside = select(EventWords.visit_id).where(EventWords.visit_id.in_(visits), EventWords.visit_id.not_in(done))
    for visit in sorted(set(db.scalars(beside))):
        db.add(Erased(row_id=visit, kind="words", **common))
        db.flush()
        db.execute(delete(EventWords).where(EventWords.visit_id == visit))
        head = lock_head(db, visit)
        if head is not None:
            refresh(db, head, load_visit(db, head))


def erase(db: Session, clock: Clock, actor: Actor, person_id: str, why: str) -> None:
    """Erase a person, in all their entries. Raises :class:`DomainError` where it cannot be, saying what to do."""
    (person,) = hold_whole(db, actor.require("administrator"), person_id)
    ids = same_person(db, person.id)
    if not why.strip():
        raise DomainError("reason_missing", "Say who asked for it, or which period has run out; no name.")
    if hindrance := _not_yet(db, person, ids):
        raise DomainError("not_yet", hindrance)
    now, visits = clock.now(db), _visits(db, ids)
    common = {"person_id": person.id, "account_id": actor.id, "erased_at": now}
    entries = list(db.scalars(select(Person).where(Person.id.in_(ids))))
    take_names_out(db, person.employer_id, entries)
    _take_words_out(db, visits, common)
    emptied: tuple[tuple[type[Any], dict[str, Any]], ...] = (
        (SignatureRow, {"typed_name": "", "canonical": ""}),
        (DocumentRow, {"content": b""}),
    )
    for table, empty in emptied:
        done = select(Erased.row_id).where(Erased.person_id.in_(ids))
        rows = list(db.scalars(select(table.id).where(table.visit_id.in_(visits), table.id.not_in(done))))
        db.add_all(Erased(row_id=one, kind=table.__tablename__, **common) for one in rows)
        db.flush()
        for first in range(0, len(rows), MANY):
            some = update(table).where(table.id.in_(rows[first : first + MANY]))
            db.execute(some.values(**empty).execution_options(synchronize_session=False))
    for filed in (ClearanceRow, TrainingRow, MeasurementRow, ChangeReport, HistoryRow):
        rows = list(db.scalars(select(filed.id).where(filed.person_id.in_(ids))))
        erase_from_ledger(db, filed.__tablename__, rows)
        db.execute(delete(filed).where(filed.id.in_(rows)))
    erase_from_ledger(db, Person.__tablename__, ids)
    db.execute(delete(Mail).where(Mail.person_id.in_(ids)))
    unsent = (Mail.employer_id == person.employer_id, Mail.kind == "notice", Mail.state != "sent")
    db.execute(delete(Mail).where(*unsent))  # it may name them
    theirs = select(Job.id).where(Job.employer_id == person.employer_id)
    db.execute(delete(JobFile).where(JobFile.job_id.in_(theirs)).execution_options(synchronize_session=False))
    db.execute(delete(PersonWord).where(PersonWord.person_id.in_(ids)))
    db.execute(delete(CardCode).where(CardCode.visit_id.in_(visits)))
    erase_from_ledger(db, "deed", [*ids, *visits])
    for one in entries:
        one.name, one.number = ERASED_NAME, f"erased-{one.id[-12:]}"
        one.job = one.task = one.contact = ""
        one.face_length = one.face_width = None
        one.erased_at = now
    note(db, Note(kind="person", id=person.id, employer=person.employer_id, changes={}, why=why.strip()))


def _no_longer_kept(db: Session, clock: Clock, site: Site, months: int) -> Select[Any]:
    """Return who left a site longer ago than so many months, by the site's day."""
    today = day_in(site.zone, clock.now(db))
    return select(Person).where(
        Person.site_id == site.id,
        Person.erased_at.is_(None),
        Person.merged_into.is_(None),
        Person.left_on < valid_until(today, -months),
    )


def due_erasures(db: Session, clock: Clock, actor: Actor, site_id: str, page: int) -> DueErasures:
    """Return those who left a site longer ago than it keeps personal data; nobody where it states no period."""
    site = find_site(db, actor.require("administrator"), site_id)
    if site.keep_months is None:
        return DueErasures((), 0, 1, 1)
    cut = cut_to_page(db, _no_longer_kept(db, clock, site, site.keep_months), page, Person.left_on, Person.id)
    rows = tuple(
        DueErasure(
            id=one.id,
            name=one.name,
            number=one.number,
            left_on=one.left_on.isoformat(),
            kept_until=valid_until(one.left_on, site.keep_months).isoformat(),
        )
        for (one,) in cut.rows
    )
    return DueErasures(rows=rows, total=cut.total, page=cut.page, pages=cut.pages)


def start_erasures(db: Session, clock: Clock, actor: Actor, site_id: str) -> Job:
    """Make the job that erases everybody whom a site no longer keeps."""
    site = find_site(db, actor.require("administrator"), site_id)
    if due_erasures(db, clock, actor, site.id, 1).total == 0:
        raise DomainError("nobody", f"Nobody at {site.name} is past the time it keeps personal data.")
    return new_job(db, clock, actor, "erase", site.employer_id, site.id)


def run_erasures(engine: Engine, job: Job, progress: Progress) -> str:
    """Erase, one by one, everybody whom a site no longer keeps; each is done for good. Returns what was done."""
    clock, site_id, done, total = DatabaseClock(), json.loads(job.content), 0, 0

    def work(db: Session) -> int:
        account = db.get(Account, job.account_id)
        if account is None:
            raise NotFound("account")
        actor = load_actor(db, account)
        due = due_erasures(db, clock, actor, site_id, 1)
        if due.rows:
            erase(db, clock, actor, due.rows[0].id, PERIOD_OVER)
            for one in notes_of(db):
                write(db, clock, actor.id, "erase_person", one)
        return due.total

    while left := run_in_transaction(engine, work):
        done, total = done + 1, max(total, done + left)
        progress(done, total)
    return f"{done} erased: name, contact, papers and signatures. Their logs keep ids and digests."
