"""The wearer's own screen, by its short-lived address."""

from __future__ import annotations

from dataclasses import dataclass

from pydantic import ConfigDict

from moorfog.core.views.wearer import WearerView
from moorfog.platform.log.log import keep_state
from moorfog.platform.web.fields import Id, Label, Line, Moment
from moorfog.platform.web.routing import Context, Follow, route
from moorfog.rooms.bench import signing, wearer
from moorfog.rooms.bench.screen_routes import Heard, ScreenHeard, heard


@dataclass(frozen=True)
class Sensed:
    """The wearer senses it: an id made by their screen, what was on it, and when it was pressed."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    id: Id
    about: Label
    occurred_at: Moment


@route("POST", "/api/visits/{visit_id}/wearer", "test", returns=wearer.WearerAddress)
def make_wearer_address(context: Context, visit_id: str) -> wearer.WearerAddress:
    """A new short-lived address for the wearer's screen; earlier ones end."""
    return wearer.make_address(context.db, context.clock, context.actor, visit_id)


@route("GET", "/api/wearer/{token}", "wearer", returns=WearerView)
def get_wearer(context: Context, token: str) -> WearerView:
    """What the wearer sees now."""
    return wearer.view(context.db, context.clock, context.visit_id)


@route("POST", "/api/wearer/{token}/sensed", "wearer", body=Sensed, returns=WearerView)
def sensed(context: Context, token: str, body: Sensed) -> WearerView:
    """The wearer tastes it, smells it, or it stings."""
    done = wearer.sense(context.db, context.clock, context.visit_id, body.id, body.about, body.occurred_at)
    context.after_commit.append(lambda: keep_state(done.visit_id, done.visit))
    return wearer.view(context.db, context.clock, context.visit_id)


@dataclass(frozen=True)
class WearerSigns:
    """The wearer's typed name: an id made by their screen, and up to which entry they have seen what they sign."""

    __pydantic_config__ = ConfigDict(strict=True, extra="forbid")
    id: Id
    expects: int
    typed_name: Line


@route("POST", "/api/wearer/{token}/signature", "wearer", body=WearerSigns, returns=WearerView)
def sign_as_wearer(context: Context, token: str, body: WearerSigns) -> WearerView:
    """The wearer signs what stands on their own screen."""
    done = signing.sign_as_wearer(
        context.db,
        context.clock,
        context.visit_id,
        event_id=body.id,
        expects=body.expects,
        typed_name=body.typed_name,
    )
    context.after_commit.append(lambda: keep_state(done.visit_id, done.visit))
    return wearer.view(context.db, context.clock, context.visit_id)


@route("POST", "/api/wearer/{token}/screen", "wearer", body=ScreenHeard, returns=Heard)
def hear_wearer_screen(context: Context, token: str, body: ScreenHeard) -> Heard:
    """The wearer's screen says that it is there, whether it holds a press unsent, and up to which entry it knows."""
    return heard(context, context.visit_id, "wearer", body)


@route("GET", "/api/wearer/{token}/live", "wearer", media="text/event-stream")
def wearer_live(context: Context, token: str) -> Follow:
    """Follow the wearer's screen: `state` as server-sent events."""
    return Follow(context.visit_id, for_wearer=True)
