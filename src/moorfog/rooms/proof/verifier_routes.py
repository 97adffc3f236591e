"""What whoever checks from outside needs: the key's fingerprint, and the auditor's program."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Response

from moorfog.auditor.archive import fingerprint
from moorfog.platform.auditor_file import one_file
from moorfog.platform.keys import installation_key, public_hex
from moorfog.platform.web.routing import Context, plain, route


@dataclass(frozen=True)
class CardKey:
    """The public key that cards, archives and anchors are signed by, as 64 hexadecimal digits, and its fingerprint:
    what people compare."""

    key: str
    fingerprint: str


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
