"""Errors that keep their parts: a stable code, what is wrong and what to do, and where it helps, details."""

from __future__ import annotations

from typing import Any


class DomainError(Exception):
    """Something a person asked for that cannot be done. ``status`` is what HTTP calls it."""

    status = 422

    def __init__(
        self, code: str, message: str, detail: dict[str, Any] | None = None, status: int | None = None
    ) -> None:
        super().__init__(message)
        self.code = code
        self.message = message
        self.detail = detail or {}
        if status is not None:
            self.status = status


class NotFound(DomainError):
    """No such thing, or not within what this account may see; the two look alike on purpose."""

    status = 404

    def __init__(self, what: str) -> None:
        super().__init__("not_found", f"There is no such {what} here. Go back to the list and choose again.")


class Conflict(DomainError):
    """The world moved on, or an id was used for something else."""

    status = 409


class Forbidden(DomainError):
    """Signed in, but this role may not do it."""

    status = 403
