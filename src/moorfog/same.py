"""Comparing what somebody says with a secret."""

from __future__ import annotations

import hmac


def is_same(said: str, right: str) -> bool:
    """Return whether what was said is the secret, whatever signs it has.

    How long it takes does not depend on where the two differ.
    """
    return hmac.compare_digest(said.encode("utf-8", "surrogatepass"), right.encode("utf-8", "surrogatepass"))
