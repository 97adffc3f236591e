"""What a screen says of itself, the bench's and the wearer's alike."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from pydantic import ConfigDict, Field

from moorfog.platform.log.log import keep_state
from moorfog.platform.web.fields import Id
from moorfog.platform.web.routing import Context
from moorfog.rooms.bench import screens


@dataclass(frozen=True)
class ScreenHeard:
    """A screen, by an id of its own; how many presses it holds that have not been stored; the last entry it knows.

    ``leaving``: it is being closed, or goes to another page.
    """

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    screen: Id
    unsent: Annotated[int, Field(ge=0)]
    seq: Annotated[int, Field(ge=0)]
    leaving: bool = False


@dataclass(frozen=True)
class Heard:
    """Heard. ``seq``: the last entry of the log now."""

    seq: int


def heard(context: Context, visit_id: str, role: screens.Role, body: ScreenHeard) -> Heard:
    """Note what a screen says. Raises :class:`NotFound`."""
    if body.leaving and not body.unsent:
        screens.leave(context.db, visit_id, body.screen)
        return Heard(body.seq)
    done = screens.hear(context.db, context.clock, visit_id, body.screen, role, unsent=body.unsent, seq=body.seq)
    if done is None:
        return Heard(body.seq)
    context.after_commit.append(lambda: keep_state(done.visit_id, done.visit))
    return Heard(done.visit.seq)
