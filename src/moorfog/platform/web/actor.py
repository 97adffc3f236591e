"""Who is acting: their roles, and whose rows they may see."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, replace
from datetime import datetime

from moorfog.platform.db.scope import Scope
from moorfog.platform.web.errors import Forbidden

ROLES = ("tester", "administrator", "supervisor")
READERS = ("tester", "administrator", "supervisor")
"""The roles that may read what lies within their grants."""
HEALTH_READERS = ("tester", "administrator")
"""Of these, who sees what touches somebody's health: limits of a clearance, answers, what was said of it."""


@dataclass(frozen=True)
class Actor:
    """Who is acting: the account, its name, its grants as (role, employer or None for all)."""

    id: str
    name: str
    login: str
    grants: tuple[tuple[str, str | None], ...]
    password_at: datetime | None = None
    address: str = ""

    def scope(self, *roles: str) -> Scope:
        """Return the employers at which this actor has one of ``roles``."""
        mine = [employer for role, employer in self.grants if role in roles]
        return Scope(None) if None in mine else Scope(frozenset(one for one in mine if one is not None))

    def sees_health(self, employer_id: str) -> bool:
        """Tell whether they see what touches the health of an employer's people."""
        return self.scope(*HEALTH_READERS).allows(employer_id)

    def only_as(self, *roles: str) -> Actor:
        """Return the same person with no more than these roles: what they are elsewhere does not count."""
        return replace(self, grants=tuple(one for one in self.grants if one[0] in roles))

    def roles(self) -> tuple[str, ...]:
        """Return the roles held anywhere, in a fixed order."""
        held = {role for role, _ in self.grants}
        return tuple(role for role in ROLES if role in held)

    def keeps_all(self) -> bool:
        """True for an administrator of the whole installation, not of some employers."""
        return self.scope("administrator").employers is None

    def require(self, *roles: str) -> Scope:
        """Return the scope of ``roles``. Raises :class:`Forbidden` if none of them is held anywhere."""
        scope = self.scope(*roles)
        if scope.employers is not None and not scope.employers:
            raise Forbidden("role_missing", f"This needs the role {' or '.join(roles)}. Ask your administrator.")
        return scope


def digest_of(secret: str) -> str:
    """Return the digest under which a random secret is stored."""
    return hashlib.sha256(secret.encode()).hexdigest()
