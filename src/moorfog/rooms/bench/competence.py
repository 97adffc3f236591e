"""Whether a tester may test by a method here: what they have shown they can do, and what the rule book makes of it."""

from __future__ import annotations

from sqlalchemy.orm import Session

from moorfog.core.visit.state import Visit
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.errors import DomainError
from moorfog.rooms.accounts.competence import outside


def steps_outside(db: Session, account_id: str, visit: Visit) -> dict[str, str]:
    """Return the methods a tester has not shown competence in on the day of a visit, each with why."""
    day = visit.opened.opened_on if visit.opened is not None else ""
    return outside(db, account_id, day, is_required=competence_required(visit))


def competence_required(visit: Visit) -> bool:
    """Tell whether the visit's rule book stops a method its tester has not shown competence in; practice never is."""
    return visit.rules.book.yes("tester.competence_required") is True and not visit.is_practice


def require_competence(db: Session, actor: Actor, visit: Visit, method: str) -> None:
    """Raise :class:`DomainError` where the rule book stops a tester who steps outside their competence."""
    if not competence_required(visit):
        return
    why = steps_outside(db, actor.id, visit).get(method)
    if why is not None:
        raise DomainError(
            "competence", f"{why[0].upper()}{why[1:]}. Choose another method, or have your administrator file it."
        )
