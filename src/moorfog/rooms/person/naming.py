"""Where else somebody's name was written: names of crews, tablets at gates, jobs and mail of their employer."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Sequence

from sqlalchemy import ColumnElement, false, or_, select
from sqlalchemy.orm import InstrumentedAttribute, Session

from moorfog.core.events.words import ERASED_WORDS
from moorfog.platform.jobs.tables import Job
from moorfog.platform.log.ledger import erase_from_ledger
from moorfog.platform.log.tables import SAID, LedgerEntry, LedgerValue
from moorfog.rooms.crews.tables import Crew, GateLink
from moorfog.rooms.mail.tables import Mail
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.tables import Site

_APART = re.compile(r"[\s,;]+")


class Naming:
    """Some names, wherever they are written whole: never a part of another's."""

    def __init__(self, names: Iterable[str]) -> None:
        self.names = sorted(filter(None, names), key=len, reverse=True)
        known = "|".join(map(re.escape, self.names)) or r"(?!)"
        self.written = re.compile(rf"(?<!\w)(?:{known})(?!\w)", re.IGNORECASE)

    def is_in(self, *texts: str) -> bool:
        """Tell whether one of the names stands in one of these texts."""
        return any(self.written.search(text) for text in texts)

    def out_of(self, text: str) -> str:
        """Return a text without them."""
        return self.written.sub(ERASED_WORDS, text)

    def maybe_in(self, *columns: InstrumentedAttribute[str]) -> ColumnElement[bool]:
        """Return the question by which the database finds what may have one of them in it, and more."""
        asked = [column.contains(name, autoescape=True) for column in columns for name in self.names]
        return or_(false(), *asked)


def naming_of(db: Session, people: Sequence[Person]) -> Naming:
    """Return what these entries were ever called: today, and in what the ledger says of them."""
    found = {person.name for person in people}
    asked = select(LedgerValue.content).join(LedgerEntry, SAID)
    asked = asked.where(LedgerEntry.kind == Person.__tablename__, LedgerEntry.action == "row")
    for content in db.scalars(asked.where(LedgerEntry.subject.in_([person.id for person in people]))):
        found.add(str((json.loads(content) or {}).get("name", "")))
    return Naming(found)


def take_names_out(db: Session, employer: str, people: Sequence[Person]) -> None:
    """Take the names and numbers of people out of what their employer has written besides, before their own entries are
    emptied."""
    naming, numbers = naming_of(db, people), {person.number for person in people}
    _from_crews(db, employer, naming)
    sites = select(Site.id).where(Site.employer_id == employer)
    for gate in db.scalars(select(GateLink).where(GateLink.site_id.in_(sites)).with_for_update()):
        asked = json.loads(gate.asked)
        if asked.get("numbers"):
            kept = [number for number in _APART.split(asked["numbers"]) if number not in numbers]
            gate.asked = json.dumps({**asked, "numbers": naming.out_of(" ".join(kept))})
    for job in db.scalars(select(Job).where(Job.employer_id == employer, naming.maybe_in(Job.message))):
        job.message = naming.out_of(job.message)
    for mail in db.scalars(
        select(Mail).where(Mail.employer_id == employer, naming.maybe_in(Mail.subject, Mail.body, Mail.problem))
    ):
        if mail.state != "sent" and naming.is_in(mail.subject, mail.body):
            db.delete(mail)
        else:
            mail.subject, mail.problem = naming.out_of(mail.subject), naming.out_of(mail.problem)


def _from_crews(db: Session, employer: str, naming: Naming) -> None:
    """Take names out of what crews are and were called, those that were forgotten too."""
    told = select(LedgerEntry.subject, LedgerValue.content).join(LedgerValue, SAID)
    told = told.where(LedgerEntry.ledger == employer, LedgerEntry.kind == Crew.__tablename__)
    found = db.execute(told.where(naming.maybe_in(LedgerValue.content)))
    crews = sorted({crew for crew, content in found if naming.is_in((json.loads(content) or {}).get("name", ""))})
    erase_from_ledger(db, Crew.__tablename__, crews)
    erase_from_ledger(db, "deed", crews)
    for crew in db.scalars(select(Crew).where(Crew.id.in_(crews)).with_for_update()):
        crew.name = _free_name(db, crew, naming.out_of(crew.name))


def _free_name(db: Session, crew: Crew, wanted: str) -> str:
    """Return a name that no other crew of the site has."""
    others = db.scalars(select(Crew.name).where(Crew.site_id == crew.site_id, Crew.id != crew.id))
    taken, found, no = {name.casefold() for name in others}, wanted, 2
    while found.casefold() in taken:
        found, no = f"{wanted} {no}", no + 1
    return found
