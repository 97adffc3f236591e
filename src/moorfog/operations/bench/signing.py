"""Signatures of wearer and tester over one canonical JSON; the log keeps its digest, an erasable table the rest."""

from __future__ import annotations

import hashlib
import secrets
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
from moorfog.core.visit.state import Visit
from moorfog.operations.accounts.sessions import Actor, confirm_password
from moorfog.operations.bench.visits import Appended, append, enter_file, refused
from moorfog.operations.errors import Conflict, DomainError, NotFound
from moorfog.operations.words import resembles
from moorfog.store.base import new_id
from moorfog.store.clock import Clock
from moorfog.store.log import load_visit, lock_head
from moorfog.store.models import EventRow, Person, SignatureRow


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
    visit = load_visit(db, head)
    known = db.scalar(select(EventRow).where(EventRow.id == event_id))
    if known is not None:
        if known.visit_id != visit_id or known.kind != "signed":
            raise Conflict("id_reused", "This id was used for another entry. Reload the page and press again.")
        return Appended(visit_id, visit, was_known=True)
    if expects != visit.seq:
        raise Conflict("moved_on", "This visit has moved on meanwhile. Read it again, then sign.", {"seq": visit.seq})
    if not typed_name.strip():
        raise DomainError("name_missing", "A signature needs a typed name. Type it and sign again.")
    _check_name(db, visit, actor, role, typed_name)
    if role == "tester":
        confirm_password(db, clock, actor, password)
    filed = enter_file(db, clock, actor.id, head)
    if filed is not None:
        visit = filed.visit
        if file_blocks(visit):
            return filed  # nothing was signed: what was filed meanwhile changes what would be signed, and is shown
    at = occurred_at or clock.now(db)
    body = {
        **statement_of(visit, head.id),
        "signer": {"role": role, "name": typed_name.strip(), "account": actor.id},
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
            typed_name=typed_name.strip(),
            canonical=content.decode(),
            signed_at=at,
        )
    )
    after = append(db, clock, actor.id, head, visit, event_id, payload, at, digest(encode(payload)))
    return Appended(visit_id, after, was_known=False)


def _check_name(db: Session, visit: Visit, actor: Actor, role: str, typed_name: str) -> None:
    """Refuse a signature typed in a name that is not the signer's: the person tested, or the tester signed in."""
    person = db.get(Person, visit.person_id) if role == "wearer" else None
    name = person.name if person is not None else actor.name
    if not resembles(typed_name, name):
        raise DomainError(
            "other_name", f"“{typed_name.strip()}” is not {name}. Whoever signs types their own name, as it is on file."
        )
