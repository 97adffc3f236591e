"""Which rules are in force on a day: a shipped book by its dates, and what a site lays over it by the days it gave."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Protocol

from moorfog.core.kernel.cached import cached
from moorfog.core.rules.book import Book
from moorfog.core.rules.overlay import Overlay, apply
from moorfog.core.rules.shapes import Shapes


class Books(Protocol):
    """A rule book by the day: a book itself, or one with what a site lays over it."""

    @property
    def changes(self) -> tuple[str, ...]:
        """Return the days on which a rule becomes another one."""

    def on(self, day: str) -> Book:
        """Return the book in force on a day."""


def begun(overlays: Sequence[Overlay], day: str) -> tuple[Overlay, ...]:
    """Return what of a site's entries counts on a day: the one that begins last is last, then the one entered last."""
    return tuple(sorted((one for one in overlays if one.begins <= day), key=lambda one: one.begins))


@dataclass(frozen=True)
class SiteBooks:
    """A shipped book as a site uses it, by the day. ``protocols``: those the site added to it."""

    shipped: Book
    overlays: tuple[Overlay, ...]
    shapes: Shapes
    protocols: tuple[str, ...] = ()

    @property
    def changes(self) -> tuple[str, ...]:
        """Return the days on which a rule becomes another one."""
        return self._changes()

    @cached
    def _changes(self) -> tuple[str, ...]:
        return tuple(sorted({*self.shipped.changes, *(one.begins for one in self.overlays if one.begins)}))

    def on(self, day: str) -> Book:
        """Return the book in force on a day."""
        return self._since(max((one for one in self.changes if one <= day), default=""))

    @cached
    def _since(self, since: str) -> Book:
        book = apply(self.shipped.on(since), begun(self.overlays, since), self.shapes)
        return replace(book, protocols=(*book.protocols, *self.protocols)) if self.protocols else book
