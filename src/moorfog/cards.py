"""`./moorfog verify-card`: whether a scanned card was signed here, without a network."""

from __future__ import annotations

import sys
from pathlib import Path

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

from moorfog.rooms.papers.code import NotACard, readable, unpacked

SAME, UNREADABLE, DIFFERENT = 0, 2, 3


def run(text: str, key: str) -> int:
    """Print what a scanned text says and whether ``key`` (64 hexadecimal digits) signed it. ``text`` "-": read it.

    Returns 0 where it is signed, 2 where it cannot be read, 3 where another signed it or it was changed.
    """
    scanned = sys.stdin.read() if text == "-" else Path(text).read_text() if Path(text).is_file() else text
    try:
        said, content, signature = unpacked(scanned)
        public = Ed25519PublicKey.from_public_bytes(bytes.fromhex(key))
    except NotACard as error:
        print(f"Not a card: {error}.", file=sys.stderr)
        return UNREADABLE
    except ValueError:
        print("The key is 64 hexadecimal digits, as /api/card-key says it.", file=sys.stderr)
        return UNREADABLE
    try:
        public.verify(signature, content)
    except InvalidSignature:
        print("Not signed by this key, or changed since. Do not trust it.", file=sys.stderr)
        return DIFFERENT
    print(f"Signed here: {said.initials}, {said.facepiece}, until {said.until}, code {readable(said.code)}.")
    print("Whether it was withdrawn since, only the network tells: open the address on the card.")
    return SAME
