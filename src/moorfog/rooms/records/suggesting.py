"""What somebody may mean by a word in the search of records: people, models, kit, testers, cards, days."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.kernel.days import day_or_none
from moorfog.platform.db.clock import Clock
from moorfog.platform.db.scope import within
from moorfog.platform.log.tables import VisitHead
from moorfog.platform.web.actor import READERS, Actor
from moorfog.rooms.accounts.tables import Account, Grant
from moorfog.rooms.facepieces.facepieces import list_facepieces
from moorfog.rooms.kit.tables import InstrumentRow, LotRow, NebuliserRow, SamplingPart
from moorfog.rooms.papers.code import as_typed, is_code, readable
from moorfog.rooms.papers.tables import CardCode
from moorfog.rooms.people.finding import find_people

Meant = Literal["person", "model", "kit", "tester", "card", "day"]
EACH = 6
"""Of each kind at the most: whoever means another says more of it."""


@dataclass(frozen=True)
class Suggestion:
    """Something that a word may mean: what it is, by which id it is asked for, and in words."""

    meant: Meant
    id: str
    words: str


def suggest(db: Session, clock: Clock, actor: Actor, q: str) -> tuple[Suggestion, ...]:
    """Return what may be meant, within the actor's scope; nothing for less than two letters."""
    words = " ".join(q.split())
    return tuple(_meant(db, clock, actor, words)) if len(words) > 1 else ()


def _meant(db: Session, clock: Clock, actor: Actor, words: str) -> Iterator[Suggestion]:
    scope = actor.require(*READERS)
    if day_or_none(words) is not None:
        yield Suggestion("day", words, f"tests of {words}")
    if is_code(as_typed(words)):
        code = as_typed(words)
        found = db.execute(
            select(CardCode.visit_id, VisitHead.employer_id)
            .join(VisitHead, VisitHead.id == CardCode.visit_id)
            .where(CardCode.code == code)
        ).first()
        if found is not None and scope.allows(found.employer_id):
            yield Suggestion("card", found.visit_id, f"card {readable(code)}")
    for model in list_facepieces(db, actor, words, 1).rows[:EACH]:
        yield Suggestion("model", model.model_id, f"{model.maker} {model.model}, {model.kind_words}")
    begins = f"{words.replace('%', '').replace('_', '')}%"
    for table, name, kind in (
        (InstrumentRow, InstrumentRow.name, "counter"),
        (NebuliserRow, NebuliserRow.name, "nebuliser"),
        (LotRow, LotRow.number, "lot"),
        (SamplingPart, SamplingPart.name, "sampling part"),
    ):
        query = within(select(table.id, name), scope, table.employer_id, table.id).where(name.like(f"%{begins}"))
        for key, called in db.execute(query.order_by(name).limit(EACH)):
            yield Suggestion("kit", key, f"{kind} {called}")
    yield from _testers(db, actor, begins)
    for person in find_people(db, clock, actor, words, 1).rows[:EACH]:
        yield Suggestion("person", person.id, f"{person.name} {person.number}, {person.employer}")


def _testers(db: Session, actor: Actor, begins: str) -> Iterator[Suggestion]:
    """Yield testers of the actor's employers, and of all."""
    scope = actor.require(*READERS)
    query = select(Account.id, Account.name).join(Grant, Grant.account_id == Account.id).where(Grant.role == "tester")
    if scope.employers is not None:
        query = query.where(Grant.employer_id.is_(None) | Grant.employer_id.in_(sorted(scope.employers)))
    named = query.where(Account.name.like(f"%{begins}")).distinct().order_by(Account.name).limit(EACH)
    for key, name in db.execute(named):
        yield Suggestion("tester", key, f"tested by {name}")
