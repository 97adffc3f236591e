"""What somebody may wear, and reports of change."""

from __future__ import annotations

from dataclasses import dataclass

from moorfog.platform.web.routing import Context, route
from moorfog.rooms.wear import permissions


@dataclass(frozen=True)
class PermissionsQuery:
    """On which day (YYYY-MM-DD, empty: today) and at which task of the site (empty: the usual one)."""

    day: str = ""
    task: str = ""


@route("GET", "/api/people/{person_id}/permissions", "read", query=PermissionsQuery, returns=permissions.Permissions)
def get_permissions(context: Context, person_id: str, query: PermissionsQuery) -> permissions.Permissions:
    """What a person may wear on a day at a task, and every reason why not."""
    return permissions.permissions_of(context.db, context.clock, context.actor, person_id, query.day, query.task)
