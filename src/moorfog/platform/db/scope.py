"""What an account may see, enforced in the queries themselves."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, TypeVar

from sqlalchemy import ColumnElement, Select, exists, false, or_, true
from sqlalchemy.orm import InstrumentedAttribute

from moorfog.platform.db.tables import KitLent

Q = TypeVar("Q", bound=Select[*tuple[Any, ...]])


@dataclass(frozen=True)
class Scope:
    """The employers whose rows may be read or written: all of them where ``employers`` is None."""

    employers: frozenset[str] | None

    def allows(self, employer_id: str | None) -> bool:
        """Tell whether rows of this employer are within the scope."""
        return self.employers is None or (employer_id is not None and employer_id in self.employers)

    def condition(
        self, column: InstrumentedAttribute[Any], kit: InstrumentedAttribute[str] | None = None
    ) -> ColumnElement[bool]:
        """Return the condition on an employer column. ``kit``, a column with the ids of kit, lets what is lent to an
        employer of the scope through besides what is theirs."""
        if self.employers is None:
            return true()
        inside = column.in_(sorted(self.employers)) if self.employers else false()
        if kit is None:
            return inside
        lent = exists().where(KitLent.kit_id == kit, KitLent.employer_id.in_(sorted(self.employers)))
        return or_(inside, lent)


def within(
    query: Q, scope: Scope, column: InstrumentedAttribute[Any], kit: InstrumentedAttribute[str] | None = None
) -> Q:
    """Limit ``query`` to the rows of the scope; ``kit``: and to the kit lent to it."""
    return query.where(scope.condition(column, kit))
