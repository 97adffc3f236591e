"""The recovery key: what backups are sealed with is here, what opens them is with whoever runs the installation.

Whoever has neither can make no backup that is taken for ours: what seals is kept like a secret, too.
"""

from __future__ import annotations

from pathlib import Path

import pyrage

from moorfog.secret_files import SecretFault, read_secret, write_secret

RECIPIENT = "recovery"
"""The file among the keys that holds what seals."""


def make_recovery_key(keys: Path) -> str:
    """Make a new recovery key and return it: it is stored nowhere. Backups from now on are sealed for it."""
    made = pyrage.x25519.Identity.generate()
    (keys / RECIPIENT).unlink(missing_ok=True)
    write_secret(keys / RECIPIENT, str(made.to_public()).encode())
    return str(made)


def recipient_of(keys: Path) -> pyrage.x25519.Recipient | None:
    """Return what seals, or None where no recovery key was made yet. Raises :class:`SecretFault`."""
    if not (keys / RECIPIENT).exists():
        return None
    try:
        return pyrage.x25519.Recipient.from_str(read_secret(keys / RECIPIENT).decode())
    except (pyrage.RecipientError, UnicodeDecodeError) as error:
        raise SecretFault(f"{keys / RECIPIENT} holds no key that seals; make a new recovery key") from error


def identity_of(text: str) -> pyrage.x25519.Identity:
    """Return what opens, from a recovery key as it was written down. Raises ValueError in words."""
    try:
        return pyrage.x25519.Identity.from_str("".join(text.split()).upper())
    except pyrage.IdentityError as error:
        raise ValueError("this is no recovery key; it begins with AGE-SECRET-KEY-1 and has 74 characters") from error
