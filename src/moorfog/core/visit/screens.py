"""The verdict waits for the screens that took part in a run: what was pressed on one may not have come yet."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from moorfog.core.events import payloads as ev
from moorfog.core.kernel.replacing import replace
from moorfog.core.rules.reason import Reason
from moorfog.core.visit.state import ScreenPart, Try, Visit
from moorfog.core.visit.tries import find_try, put_try

WAIT = "screens.wait"
"""The book's seconds for which a screen is waited for; a book without them waits for none."""
AWAITED = "screen_awaited"
WORDS = {"bench": "the bench's screen", "wearer": "the wearer's screen"}


def took_part(visit: Visit, event: ev.Event, payload: ev.ScreenTookPart) -> Visit:
    """Fold: a screen can hold presses of a run."""
    one = find_try(visit, payload.run_id)
    if one is None or any(each.screen == payload.screen for each in one.screens):
        return visit
    part = ScreenPart(payload.screen, payload.role, "awaited")
    return put_try(visit, replace(one, screens=(*one.screens, part)))


def cleared(visit: Visit, event: ev.Event, payload: ev.ScreenCleared) -> Visit:
    """Fold: a screen knows that the run is over, and all that was pressed on it has come."""
    one = find_try(visit, payload.run_id)
    return visit if one is None or one.is_running else _settle(visit, one, payload.screen, "clear")


def lost(visit: Visit, event: ev.Event, payload: ev.ScreenLost) -> Visit:
    """Fold: a screen never came back."""
    one = find_try(visit, payload.run_id)
    return visit if one is None or one.is_running else _settle(visit, one, payload.screen, "lost")


def _settle(visit: Visit, one: Try, screen: str, state: Literal["clear", "lost"]) -> Visit:
    parts = tuple(
        replace(each, state=state) if each.screen == screen and each.state == "awaited" else each
        for each in one.screens
    )
    return put_try(visit, replace(one, screens=parts))


def screen_reasons(visit: Visit, one: Try) -> tuple[Reason, ...]:
    """Return why a try has no verdict yet, or none for good: a screen that holds presses, or never came back."""
    minutes = visit.rules.book.minutes(WAIT)
    gone = tuple(
        Reason(
            code="screen_lost",
            sentence=f"Not heard of within {minutes} minutes: {WORDS[each.role]}. What was pressed on it is not known.",
            rule=WAIT,
            gravity="stop",
            remedy="Run again.",
            keys=(WAIT,),
        )
        for each in one.screens
        if each.state == "lost"
    )
    awaited = tuple(
        Reason(
            code=AWAITED,
            sentence=f"Not heard of since the run: {WORDS[each.role]}. It may hold what was pressed on it.",
            rule=WAIT,
            gravity="put_right",
            remedy=f"Wake it, bring it back to the network; after {minutes} minutes the run does not count.",
            keys=(WAIT,),
        )
        for each in one.screens
        if each.state == "awaited"
    )
    return gone + awaited


def waited_until(visit: Visit, one: Try) -> datetime | None:
    """Return until when the screens of a try are waited for; None without a bound."""
    wait = visit.rules.book.ratio(WAIT)
    return visit.after(one.ended_at, float(wait)) if wait is not None and one.ended_at is not None else None
