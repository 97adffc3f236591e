"""The code on a card: how it stands now, for anybody who holds it."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Response

from moorfog.api.routing import Context, plain, route
from moorfog.auditor.archive import fingerprint
from moorfog.documents.auditor_file import one_file
from moorfog.operations.errors import DomainError, NotFound
from moorfog.operations.records import papers
from moorfog.operations.records.anchors import installation_key, public_hex


@dataclass(frozen=True)
class CardKey:
    """The public key that cards, archives and anchors are signed by, as 64 hexadecimal digits, and its fingerprint:
    what people compare."""

    key: str
    fingerprint: str


@route("GET", "/api/codes/{code}", "public", returns=papers.CodeView)
def look_up_code(context: Context, code: str) -> papers.CodeView | DomainError:
    """How the card with this code stands now: initials, facepiece, size, until when, and nothing more."""
    try:
        return papers.look_up(context.db, context.clock, context.address, code)
    except NotFound as missing:
        papers.note_wrong_code(context.db, context.clock, context.address)
        return missing


@route("POST", "/api/codes/{code}/report", "public", body=papers.CardReport)
def report_by_card(context: Context, code: str, body: papers.CardReport) -> DomainError | None:
    """Something has changed, says whoever holds the card: what they passed ends at once."""
    try:
        papers.report_by_card(context.db, context.clock, context.address, code, body)
    except NotFound as missing:
        papers.note_wrong_code(context.db, context.clock, context.address)
        return missing
    return None


@route("GET", "/api/card-key", "public", returns=CardKey)
def get_card_key(context: Context) -> CardKey:
    """The public key of this installation, by which a card is checked without a network."""
    key = public_hex(installation_key().public_key())
    return CardKey(key, fingerprint(key))


@route("GET", "/api/verify.py", "public", media="text/x-python")
def get_verifier(context: Context) -> Response:
    """The auditor's own program in one file: it checks an archive, and judges every record in it again."""
    attached = {"Content-Disposition": 'attachment; filename="verify.py"'}
    return plain(one_file(), "text/x-python; charset=utf-8", **attached)
