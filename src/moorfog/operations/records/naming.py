"""Where else somebody's name was written: names of crews, tablets at gates, jobs and mail of their employer."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterable, Sequence

from sqlalchemy import ColumnElement, delete, false, or_, select
from sqlalchemy.orm import InstrumentedAttribute, Session

from moorfog.core.events.words import ERASED_WORDS
from moorfog.store.ledger import erase_from_ledger
from moorfog.store.models import Job, Person, Site
from moorfog.store.models_ledger import SAID, LedgerEntry, LedgerValue
from moorfog.store.models_mail import Mail
from moorfog.store.models_programme import Crew, GateLink

SHORTEST = 3
"""Signs of a name that is looked for inside other words."""
_APART = re.compile(r"[\s,;]+")


def names_of(db: Session, people: Sequence[Person]) -> list[str]:
    """Return what these entries were ever called, the longest first: today, and in what the ledger says of them."""
    found = {one.name for one in people}
    asked = select(LedgerValue.content).join(LedgerEntry, SAID)
    asked = asked.where(LedgerEntry.kind == Person.__tablename__, LedgerEntry.action == "row")
    for content in db.scalars(asked.where(LedgerEntry.subject.in_([one.id for one in people]))):
        found.add(str((json.loads(content) or {}).get("name", "")))
    return sorted((one for one in found if len(one) >= SHORTEST), key=len, reverse=True)


def take_names_out(db: Session, employer: str, people: Sequence[Person]) -> None:
    """Take the names and numbers of people out of what their employer has written besides, before their own entries are
    emptied."""
    names, numbers = names_of(db, people), {one.number for one in people}
    without = _without(names)
    sites = select(Site.id).where(Site.employer_id == employer)
    told = select(LedgerEntry.subject).join(LedgerValue, SAID).where(LedgerEntry.ledger == employer)
    told = told.where(LedgerEntry.kind == Crew.__tablename__, _has(LedgerValue.content, names)).distinct()
    crews = list(db.scalars(told))  # those that were forgotten too
    erase_from_ledger(db, Crew.__tablename__, crews)
    erase_from_ledger(db, "deed", crews)
    for crew in db.scalars(select(Crew).where(Crew.id.in_(crews)).with_for_update()):
        crew.name = _free_name(db, crew, without(crew.name))
    for gate in db.scalars(select(GateLink).where(GateLink.site_id.in_(sites)).with_for_update()):
        asked = json.loads(gate.asked)
        kept = [one for one in _APART.split(asked.get("numbers", "")) if one not in numbers]
        if asked.get("numbers"):
            gate.asked = json.dumps({**asked, "numbers": without(" ".join(kept))})
    for job in db.scalars(select(Job).where(Job.employer_id == employer, _has(Job.message, names))):
        job.message = without(job.message)
    mine = Mail.employer_id == employer
    db.execute(delete(Mail).where(mine, Mail.state != "sent", or_(_has(Mail.subject, names), _has(Mail.body, names))))
    for mail in db.scalars(select(Mail).where(mine, or_(_has(Mail.subject, names), _has(Mail.problem, names)))):
        mail.subject, mail.problem = without(mail.subject), without(mail.problem)


def _without(names: Sequence[str]) -> Callable[[str], str]:
    said = re.compile("|".join(map(re.escape, names)) or r"(?!)", re.IGNORECASE)
    return lambda text: said.sub(ERASED_WORDS, text)


def _has(column: InstrumentedAttribute[str], names: Iterable[str]) -> ColumnElement[bool]:
    return or_(false(), *(column.contains(one, autoescape=True) for one in names))


def _free_name(db: Session, crew: Crew, wanted: str) -> str:
    """Return a name that no other crew of the site has."""
    taken = set(db.scalars(select(Crew.name).where(Crew.site_id == crew.site_id, Crew.id != crew.id)))
    found, no = wanted, 2
    while found.casefold() in {one.casefold() for one in taken}:
        found, no = f"{wanted} {no}", no + 1
    return found
