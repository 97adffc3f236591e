"""What an account may see, enforced in the queries themselves."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, TypeVar

from sqlalchemy import ColumnElement, Select, false, or_, true
from sqlalchemy.orm import InstrumentedAttribute

Q = TypeVar("Q", bound=Select[*tuple[Any, ...]])


@dataclass(frozen=True)
class Scope:
    """The employers whose rows may be read or written: all of them where ``employers`` is None."""

    employers: frozenset[str] | None

    def allows(self, employer_id: str | None) -> bool:
        """Tell whether rows of this employer are within the scope."""
        return self.employers is None or (employer_id is not None and employer_id in self.employers)

    def condition(self, column: InstrumentedAttribute[Any], shared: bool = False) -> ColumnElement[bool]:
        """Return the condition on an employer column; ``shared`` lets rows of nobody in particular through."""
        if self.employers is None:
            return true()
        inside = column.in_(sorted(self.employers)) if self.employers else false()
        return or_(inside, column.is_(None)) if shared else inside


def within(query: Q, scope: Scope, column: InstrumentedAttribute[Any], shared: bool = False) -> Q:
    """Limit ``query`` to the rows of the scope."""
    return query.where(scope.condition(column, shared))
