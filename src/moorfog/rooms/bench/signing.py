"""Signatures of wearer and tester over one canonical JSON; the log keeps its digest, an erasable table the rest."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from typing import Literal

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog import __version__
from moorfog.core.events.payloads import Signed, instant
from moorfog.core.kernel.canonical import canonical_bytes, digest
from moorfog.core.kernel.codec import encode
from moorfog.core.transitions.admit import admit
from moorfog.core.views.statement import statement_of
from moorfog.core.visit.blocks import file_blocks
from moorfog.platform.db.base import new_id
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.log import load_visit, lock_head
from moorfog.platform.log.tables import EventRow, VisitHead
from moorfog.platform.text import resembles
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.errors import Conflict, DomainError, NotFound
from moorfog.rooms.accounts.sessions import confirm_password
from moorfog.rooms.bench.tables import SignatureRow
from moorfog.rooms.bench.visits import Appended, append, enter_file, refused
from moorfog.rooms.bench.wearer import ACTOR as WEARER
from moorfog.rooms.people.tables import Person


def sign(
    db: Session,
    clock: Clock,
    actor: Actor,
    visit_id: str,
    *,
    event_id: str,
    expects: int,
    role: Literal["wearer", "tester"],
    typed_name: str,
    password: str | None,
    occurred_at: datetime | None = None,
) -> Appended:
    """Sign the present revision as wearer (typed name) or as the signed-in tester (password if older than 15 min).

    Raises :class:`DomainError` (401) where the password is needed or wrong, with the refusal of the core where it
    is too early, :class:`Conflict` where the visit moved on.
    """
    scope = actor.require("tester")
    head = lock_head(db, visit_id)
    if head is None or not scope.allows(head.employer_id):
        raise NotFound("visit")
    given = Signature(
        event_id=event_id,
        expects=expects,
        role=role,
        typed_name=typed_name,
        account=actor.id,
        occurred_at=occurred_at,
    )

    def confirm() -> None:
        if role == "tester":
            _check_name(typed_name, actor.name)
            confirm_password(db, clock, actor, password)

    return _sign(db, clock, head, given, confirm)


def sign_as_wearer(
    db: Session, clock: Clock, visit_id: str, *, event_id: str, expects: int, typed_name: str
) -> Appended:
    """Sign the present revision on the wearer's own screen. Raises as :func:`sign`."""
    head = lock_head(db, visit_id)
    if head is None:
        raise NotFound("visit")
    given = Signature(event_id=event_id, expects=expects, role="wearer", typed_name=typed_name, account=WEARER)
    return _sign(db, clock, head, given, lambda: None)


@dataclass(frozen=True)
class Signature:
    """A signature as it was pressed: up to which entry it was seen, by whom, through which account."""

    event_id: str
    expects: int
    role: Literal["wearer", "tester"]
    typed_name: str
    account: str
    occurred_at: datetime | None = None


def _sign(db: Session, clock: Clock, head: VisitHead, one: Signature, confirm: Callable[[], None]) -> Appended:
    visit_id, event_id, role = head.id, one.event_id, one.role
    visit = load_visit(db, head)
    known = db.scalar(select(EventRow).where(EventRow.id == event_id))
    if known is not None:
        if known.visit_id != visit_id or known.kind != "signed":
            raise Conflict("id_reused", "This id was used for another entry. Reload the page and press again.")
        return Appended(visit_id, visit, was_known=True)
    if one.expects != visit.seq:
        raise Conflict("moved_on", "This visit has moved on meanwhile. Read it again, then sign.", {"seq": visit.seq})
    name = one.typed_name.strip()
    if not name:
        raise DomainError("name_missing", "A signature needs a typed name. Type it and sign again.")
    if role == "wearer":
        _check_name(name, db.get_one(Person, visit.person_id).name)
    confirm()
    filed = enter_file(db, clock, one.account, head)
    if filed is not None:
        visit = filed.visit
        if file_blocks(visit):
            return filed  # nothing was signed: what was filed meanwhile changes what would be signed, and is shown
    at = one.occurred_at or clock.now(db)
    body = {
        **statement_of(visit, head.id),
        "signer": {"role": role, "name": name, "account": one.account},
        "signed_at": instant(at),
        "program": __version__,
    }
    salt = secrets.token_hex(16)
    content = canonical_bytes({**body, "salt": salt})
    payload = Signed(role, hashlib.sha256(content).hexdigest(), head.seq)
    refusal = admit(visit, payload, at, clock.now(db))
    if refusal is not None:
        raise refused(refusal)
    db.add(
        SignatureRow(
            id=new_id(),
            visit_id=visit_id,
            revision=visit.revision,
            role=role,
            typed_name=name,
            canonical=content.decode(),
            signed_at=at,
        )
    )
    after = append(db, clock, one.account, head, visit, event_id, payload, at, digest(encode(payload)))
    return Appended(visit_id, after, was_known=False)


def _check_name(typed: str, name: str) -> None:
    """Refuse a signature typed in a name that is not the signer's: the person tested, or the tester signed in."""
    if not resembles(typed, name):
        raise DomainError(
            "other_name", f"“{typed.strip()}” is not {name}. Whoever signs types their own name, as it is on file."
        )
