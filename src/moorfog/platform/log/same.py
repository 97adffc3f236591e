"""Which entries are one person: several may have turned out to be, and all of their histories are that person's."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol, TypeVar

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.rooms.people.tables import Person

KNOWN = "moorfog_same_person"


class OfPerson(Protocol):
    """A row about a person."""

    @property
    def person_id(self) -> str:
        """Whom it is about."""


R = TypeVar("R", bound=OfPerson)


@dataclass(frozen=True)
class Entries:
    """People that were asked for, by id, each with every entry that is of the same person, itself among them."""

    of: Mapping[str, tuple[str, ...]]

    @property
    def asked(self) -> tuple[str, ...]:
        """Those who were asked for."""
        return tuple(self.of)

    @property
    def entries(self) -> tuple[str, ...]:
        """Every entry of any of them."""
        return tuple(dict.fromkeys(entry for entries in self.of.values() for entry in entries))

    def sort(self, rows: Iterable[R]) -> dict[str, list[R]]:
        """Sort rows to those whom they are about, in the order in which they come; nobody is left out."""
        whose: dict[str, list[str]] = {}
        for one, entries in self.of.items():
            for entry in entries:
                whose.setdefault(entry, []).append(one)
        out: dict[str, list[R]] = {one: [] for one in self.of}
        for row in rows:
            for one in whose.get(row.person_id, ()):
                out[one].append(row)
        return out


def entries_of(db: Session, ids: Sequence[str]) -> Entries:
    """Return the entries of these people, asked by keys alone, and of each person once in a transaction."""
    known: dict[str, tuple[str, ...]] = db.info.setdefault(KNOWN, {})
    new = [one for one in dict.fromkeys(ids) if one not in known]
    if new:
        root = {one: one for one in new}
        for one, into in db.execute(select(Person.id, Person.merged_into).where(Person.id.in_(new))):
            root[one] = into or one
        others: dict[str, list[str]] = {}
        for one, into in db.execute(
            select(Person.id, Person.merged_into).where(Person.merged_into.in_(set(root.values())))
        ):
            others.setdefault(into or one, []).append(one)
        known |= {one: tuple(sorted({one, to, *others.get(to, ())})) for one, to in root.items()}
    return Entries({one: known[one] for one in ids})


def same_person(db: Session, person_id: str) -> tuple[str, ...]:
    """Return the ids of every entry of the person that ``person_id`` is an entry of, itself among them."""
    return entries_of(db, [person_id]).of[person_id]


def forget_same(db: Session) -> None:
    """Ask anew from now on: two entries were made one."""
    db.info.pop(KNOWN, None)
