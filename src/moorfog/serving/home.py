"""One home, one program: whoever starts first holds it until its end."""

from __future__ import annotations

import errno
import fcntl
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from moorfog.bootstrap import StepFailed

HELD = "running"
"""The file that whoever holds a home holds."""
UNWRITABLE = frozenset({errno.EROFS, errno.EACCES, errno.EPERM, errno.ENOSPC, errno.EDQUOT})
"""What an error says that is about where is to be written, not about the program."""


@contextmanager
def held(home: Path) -> Iterator[IO[str]]:
    """Hold a home for this process; the kernel lets go of it when the process ends, however it does.

    Gives a file whose text is shown to whoever comes second: write there where the program is. Raises
    :class:`StepFailed` where another process holds it, or where it cannot be written to.
    """
    try:
        home.mkdir(parents=True, exist_ok=True)
        opened = (home / HELD).open("a+")
    except OSError as error:
        raise StepFailed(unwritable(error)) from error
    with opened as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            file.seek(0)
            where = file.read().strip()
            raise StepFailed(
                f"Moorfog runs already in {home}: {where or 'it is just starting'}. Use that one, stop it first, "
                "or set MOORFOG_HOME to another folder."
            ) from error
        tell_where(file, f"process {os.getpid()}")
        try:
            yield file
        finally:
            tell_where(file, "")


def unwritable(error: OSError) -> str:
    """Say which file or folder cannot be used, why, and what to do."""
    why = (error.strerror or str(error)).lower()
    return (
        f"{error.filename} cannot be used: {why}. Give its folder to the account that runs Moorfog, or set "
        "MOORFOG_HOME to another one. ./moorfog doctor says more."
    )


def tell_where(file: IO[str], words: str) -> None:
    """Write down where the program is that holds a home."""
    file.seek(0)
    file.truncate()
    file.write(words)
    file.flush()
