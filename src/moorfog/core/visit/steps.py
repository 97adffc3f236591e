"""Steps: where every item of the procedure stands, done, open, waiting or not fine, and what is signed."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from typing import Literal, NamedTuple

from moorfog.core.advice.methods import method_stands
from moorfog.core.advice.protection import protection
from moorfog.core.rules.book import Item
from moorfog.core.visit.circumstances import facts_digest, items_that_apply
from moorfog.core.visit.seals import seal_holds
from moorfog.core.visit.state import Visit

Status = Literal["done", "open", "waiting", "not_fine"]


class StepState(NamedTuple):
    """Where one item of the procedure stands. ``until`` is set while it only waits for time to pass."""

    item: Item
    status: Status
    until: datetime | None = None


def _waited_until(visit: Visit, item: Item) -> datetime | None:
    answer = visit.answers.get(item.id)
    if answer is None or not item.wait or answer.answer == "fine" or answer.minutes_ago is None:
        return None
    minutes = visit.rules.book.number(item.wait)
    return visit.after(answer.at, float(minutes - answer.minutes_ago) * 60)


def _ran_or(done: Callable[[Visit], bool]) -> Callable[[Visit], bool]:
    """Return a check of an act that counts as done once the run of the attempt has started."""
    return lambda visit: visit.current_try is not None or done(visit)


_ACT_DONE: dict[str, Callable[[Visit], bool]] = {
    "choose_task": lambda visit: visit.task is not None,
    "choose_facepiece": lambda visit: visit.facepiece is not None,
    "choose_method": _ran_or(lambda visit: visit.method != "" and not method_blocked_by(visit)),
    "screen": _ran_or(lambda visit: visit.screening is not None and visit.screening.is_passed),
    "fit_probe": _ran_or(lambda visit: visit.chosen > 0 and visit.probe_fitted_for == visit.chosen),
    "don": _ran_or(lambda visit: visit.worn_since is not None and visit.unaided),
    "seal_check": _ran_or(lambda visit: visit.worn_since is not None and seal_holds(visit)),
    "run": lambda visit: visit.current_try is not None and not visit.current_try.is_running,
    "proof": lambda visit: visit.current_try is not None and visit.current_try.proof is not None,
    "doff": lambda visit: visit.worn_since is None,
    "put_back": lambda visit: not visit.alterations,
    "sign_wearer": lambda visit: is_signed_by(visit, "wearer"),
    "sign_tester": lambda visit: is_signed_by(visit, "tester"),
    "release": lambda visit: bool(visit.closed),
    "mistaken": lambda visit: bool(visit.closed),
}


def method_blocked_by(visit: Visit) -> str:
    """Return why the method chosen does not suit facepiece, task, book or person any more, or nothing."""
    if visit.facepiece is None or not visit.method:
        return ""
    found: str | None = visit.memo.get("method_blocked_by")
    if found is None:
        task, book = visit.task, visit.rules.book
        required = protection(task, book).required if task is not None else None
        found = visit.memo["method_blocked_by"] = method_stands(
            visit.method, visit.facepiece, visit.rules, required, visit.out
        )
    return found


def is_signed_by(visit: Visit, role: str) -> bool:
    """True if ``role`` has signed the present revision."""
    return any(one.role == role and one.revision == visit.revision for one in visit.signatures)


def is_signed(visit: Visit) -> bool:
    """True if wearer and tester have both signed the present revision; only then is a result usable."""
    return is_signed_by(visit, "wearer") and is_signed_by(visit, "tester")


def is_under_question(visit: Visit) -> bool:
    """True once something was heard after the record was closed that made a try worse, until a tester has settled it
    in a correction that both have signed."""
    return bool(visit.questions) and not (visit.revision > visit.questioned_in and is_signed(visit))


def step_state(visit: Visit, item: Item, now: datetime) -> StepState:
    """Return where ``item`` stands at ``now``. A stale answer is an open question."""
    if item.act:
        done = _ACT_DONE[item.act](visit)
        clear = visit.clear_at() if item.act == "screen" and not done else None
        if clear is not None and now < clear:
            return StepState(item, "waiting", clear)
        return StepState(item, "done" if done else "open")
    answer = visit.answers.get(item.id)
    if answer is None or answer.facts != facts_digest(visit, item):
        return StepState(item, *_unanswered(visit, item, now))
    if answer.answer == "fine" or item.gravity == "note":
        return StepState(item, "done")
    waited = _waited_until(visit, item)
    if waited is not None:
        return StepState(item, "done") if now >= waited else StepState(item, "waiting", waited)
    return StepState(item, "not_fine")


def _unanswered(visit: Visit, item: Item, now: datetime) -> tuple[Status, datetime | None]:
    """Return whether an open question can be asked at ``now``, or waits for a clock and until when."""
    if visit.current_try is None:
        for waits, ready in ((item.after_wear, visit.wear_ready_at), (item.after_clear, visit.clear_at)):
            until = ready() if waits else None
            if waits and (until is None or now < until):
                return "waiting", until
    return "open", None


def step_states(visit: Visit, now: datetime) -> tuple[StepState, ...]:
    """Return every item that applies, in the procedure's order, with where it stands at ``now``."""
    kept: tuple[datetime, tuple[StepState, ...]] | None = visit.memo.get("standings")
    if kept is not None and kept[0] == now:
        return kept[1]
    found = tuple(step_state(visit, item, now) for item in items_that_apply(visit))
    visit.memo["standings"] = (now, found)  # of the last moment only: a state may be asked for hours
    return found
