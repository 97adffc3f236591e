"""Secrets in files of their own: made whole or not at all, read only where nobody else could read or write them."""

from __future__ import annotations

import os
import secrets
import stat
from collections.abc import Callable
from pathlib import Path

from moorfog.bootstrap import root


def key_folder() -> Path:
    """Return where this installation keeps its keys: MOORFOG_KEYS, else beside its data."""
    home = os.environ.get("MOORFOG_HOME")
    return Path(os.environ.get("MOORFOG_KEYS") or (Path(home) if home else root() / "var") / "keys")


LEAST = 20
"""Characters that a secret has at least: 120 bits as this program writes them. Common practice."""


class SecretFault(OSError):
    """A secret file is not one: which, why, and what to do."""


def made_word() -> bytes:
    """Return a new secret word."""
    return secrets.token_urlsafe(32).encode()


def secret_of(path: Path, make: Callable[[], bytes] = made_word) -> bytes:
    """Return the secret in a file, without blanks around it, made at its first use. Raises :class:`SecretFault`."""
    if not path.exists():
        write_secret(path, make())
    return read_secret(path)


def write_secret(path: Path, content: bytes) -> None:
    """Write a secret file, whole and for its owner only; one that is there already stays."""
    path.parent.mkdir(parents=True, exist_ok=True)
    fresh = path.with_name(f".{path.name}.{os.getpid()}")
    fresh.unlink(missing_ok=True)
    with os.fdopen(os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:
        file.write(content)
        file.flush()
        os.fsync(file.fileno())
    try:
        os.link(fresh, path)  # whoever was first made it
    except FileExistsError:
        pass
    finally:
        fresh.unlink()


def read_secret(path: Path) -> bytes:
    """Return the secret in a file that is there. Raises :class:`SecretFault` in words for one that is none."""
    found = path.lstat()
    if not stat.S_ISREG(found.st_mode):
        raise SecretFault(f"{path} is no plain file; put the secret's own file there, or a backup's")
    if found.st_uid != os.geteuid():
        raise SecretFault(f"{path} belongs to another account; whoever owns it can read it: make it one's own (chown)")
    if found.st_mode & (stat.S_IRWXG | stat.S_IRWXO):
        raise SecretFault(f"{path} can be read or written by others; who has read it knows the secret: chmod 600 it")
    content = path.read_bytes().strip()
    if len(content) < LEAST:
        raise SecretFault(
            f"{path} holds {len(content)} characters, and a secret has {LEAST} or more; lay the file of a backup there"
        )
    return content
