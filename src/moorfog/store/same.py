"""Which entries are one person: several may have turned out to be, and all of their histories are that person's."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.store.models import Person

KNOWN = "moorfog_same_person"


def same_person(db: Session, person_id: str) -> tuple[str, ...]:
    """Return the ids of every entry of the person that ``person_id`` is an entry of, itself among them.

    Asked by keys alone, and once in a transaction.
    """
    known: dict[str, tuple[str, ...]] = db.info.setdefault(KNOWN, {})
    if person_id not in known:
        root = db.scalar(select(Person.merged_into).where(Person.id == person_id)) or person_id
        others = db.scalars(select(Person.id).where(Person.merged_into == root))
        known[person_id] = tuple(sorted({person_id, root, *others}))
    return known[person_id]


def forget_same(db: Session) -> None:
    """Ask anew from now on: two entries were made one."""
    db.info.pop(KNOWN, None)
