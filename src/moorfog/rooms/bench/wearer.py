"""The wearer's own screen: a short-lived address for one visit, no sign-in, and one thing it can say."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from moorfog.core.events import payloads as ev
from moorfog.core.events.payloads import instant
from moorfog.core.kernel.canonical import digest
from moorfog.core.kernel.codec import encode
from moorfog.core.transitions.admit import admit
from moorfog.core.views.visit_view import visit_view
from moorfog.core.views.wearer import WearerView, wearer_view
from moorfog.core.visit.state import Visit
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.log import load_visit, lock_head
from moorfog.platform.log.tables import EventRow, VisitHead
from moorfog.platform.web.actor import Actor, digest_of
from moorfog.platform.web.errors import Conflict, DomainError, NotFound
from moorfog.rooms.bench.screens import forget_wearers
from moorfog.rooms.bench.tables import WearerLink
from moorfog.rooms.bench.visits import Appended, append, find_head, flag_clock, refused
from moorfog.same import is_same

LASTS = timedelta(hours=2)
LETTERS = "abcdefghkmnpqrstuvwxyz23456789"
"""What an address is made of: nothing that looks like something else on a tablet. Ten of them: 49 bits."""
ACTOR = "wearer"


@dataclass(frozen=True)
class WearerAddress:
    """Where the wearer's screen is, as a path of this site, and until when."""

    path: str
    expires_at: str


def make_address(db: Session, clock: Clock, actor: Actor, visit_id: str) -> WearerAddress:
    """Return a new address for a visit's wearer; earlier ones end. Raises :class:`NotFound`, or for a closed visit."""
    head = find_head(db, actor.require("tester"), visit_id)
    if load_visit(db, head).closed:
        raise DomainError("closed", "This visit is closed; there is nothing left to show.")
    now, token = clock.now(db), "".join(secrets.choice(LETTERS) for _ in range(10))
    db.execute(delete(WearerLink).where((WearerLink.visit_id == visit_id) | (WearerLink.expires_at < now)))
    forget_wearers(db, visit_id)
    db.add(WearerLink(digest=digest_of(token), visit_id=visit_id, expires_at=now + LASTS))
    db.flush()
    return WearerAddress(f"/w/{token}", instant(now + LASTS))


def visit_of_address(
    db: Session, clock: Clock, token: str, screen: str, is_desk: Callable[[str], bool]
) -> tuple[str, str]:
    """Return the visit of an address, and the secret of the screen that opened it first, which is all it opens for.

    ``screen``: the secret that the screen sent, empty where it has none yet. ``is_desk`` tells of a visit whether its
    tester is signed in at this browser: a window at the desk leaves the address to the wearer's own screen. Raises
    :class:`DomainError` (404) for an address that has ended, never was, or is another screen's.
    """
    row = db.get(WearerLink, digest_of(token))
    if row is not None and row.screen is None:
        db.refresh(row, with_for_update=True)
    if row is not None and row.screen is None and row.expires_at > clock.now(db) and is_desk(row.visit_id):
        return row.visit_id, ""
    if row is None or row.expires_at <= clock.now(db):
        raise DomainError("address_over", "This address has ended. Ask your tester for a new one.", status=404)
    if row.screen is None:
        screen = screen or secrets.token_urlsafe(24)
        row.screen = digest_of(screen)
    elif not is_same(digest_of(screen), row.screen):
        raise DomainError(
            "address_taken", "This address is open on another screen. Ask your tester for a new one.", status=404
        )
    return row.visit_id, screen


def _of_this_visit(visit: Visit) -> set[str]:
    """Return what the wearer's presses may be about: the screening that goes on, and the runs of this visit.

    A run may be over: a screen that was away hands in what was pressed on it while the verdict waits for it.
    """
    runs = [one.started.run_id for one in (*visit.tries, *([visit.running] if visit.running else []))]
    screening = visit.screening_running
    return {*runs, *([screening.started.screening_id] if screening is not None else [])}


def view(db: Session, clock: Clock, visit_id: str) -> WearerView:
    """Return what the wearer sees now. Raises :class:`NotFound`."""
    head = db.get(VisitHead, visit_id)
    if head is None:
        raise NotFound("visit")
    return wearer_view(visit_view(load_visit(db, head), clock.now(db)))


def sense(db: Session, clock: Clock, visit_id: str, event_id: str, about: str, occurred_at: datetime) -> Appended:
    """Note that the wearer senses it; the same press again is stored once.

    Raises :class:`Conflict` for an id used for something else, :class:`DomainError` where the core refuses.
    """
    head = lock_head(db, visit_id)
    if head is None:
        raise NotFound("visit")
    payload = ev.Detected(about, "wearer")
    content = digest(encode(payload) | {"occurred_at": instant(occurred_at)})
    visit = load_visit(db, head)
    known = db.scalar(select(EventRow).where(EventRow.id == event_id))
    if known is None and (visit.closed or about not in _of_this_visit(visit)):
        raise DomainError("test_over", "This test is over. Tell your tester what you sensed.", status=409)
    if known is not None:
        if known.visit_id != visit_id or known.proposal_digest != content:
            raise Conflict("id_reused", "This press was used for something else. Press again.")
        return Appended(visit_id, visit, was_known=True)
    now = clock.now(db)
    ahead, at = occurred_at - now, min(occurred_at, now)
    refusal = admit(visit, payload, at, now)
    if refusal is not None:
        raise refused(refusal)
    after = append(db, clock, ACTOR, head, visit, event_id, payload, at, content)
    return Appended(visit_id, flag_clock(db, clock, ACTOR, head, after, ahead), was_known=False)
