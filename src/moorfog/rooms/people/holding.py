"""Holding people while something is done to them: two deeds to one person come one after the other.

Every operation that writes about a person holds their row first, through here and before it asks anything of it; who
needs several people holds them in the order of their ids. So nobody waits for whom they keep waiting.
"""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.platform.db.scope import Scope
from moorfog.platform.log.same import entries_of, forget_same
from moorfog.platform.web.errors import DomainError, NotFound
from moorfog.rooms.people.tables import Person


def hold_person(db: Session, scope: Scope, person_id: str, *, kept: bool = True) -> Person:
    """Return a person's entry, as it is now and until the end of this transaction; others who write about them wait.

    Raises :class:`NotFound` outside the scope and, where their data must be ``kept``, :class:`DomainError` for somebody
    who was erased.
    """
    person = _held(db, [person_id]).get(person_id)
    if person is None or not scope.allows(person.employer_id):
        raise NotFound("person")
    if kept:
        must_be_kept(person)
    return person


def hold_whole(db: Session, scope: Scope, *ids: str) -> tuple[Person, ...]:
    """Return these people, held as in :func:`hold_person` with every other entry of each of them.

    Entries that were made one while this waited are held as well; where that is not in order, the database says so and
    the whole transaction is begun anew. Raises :class:`NotFound` outside the scope.
    """
    held, asked = dict[str, Person](), set[str]()
    while not asked.issuperset(entries := _entries(db, ids)):
        held, asked = _held(db, entries), set(entries)
    found = [held.get(one) for one in ids]
    if any(one is None or not scope.allows(one.employer_id) for one in found):
        raise NotFound("person")
    return tuple(one for one in found if one is not None)


def must_be_kept(person: Person) -> None:
    """Refuse to write about somebody whose data were erased."""
    if person.erased_at is not None:
        raise DomainError("erased", "Their personal data were erased. Enter them as somebody new.")


def _entries(db: Session, ids: Sequence[str]) -> tuple[str, ...]:
    forget_same(db)
    return entries_of(db, ids).entries


def _held(db: Session, ids: Sequence[str]) -> dict[str, Person]:
    rows = select(Person).where(Person.id.in_(ids)).order_by(Person.id).with_for_update()
    return {one.id: one for one in db.scalars(rows.execution_options(populate_existing=True))}
