"""One home, one program: whoever starts first holds it until its end."""

from __future__ import annotations

import fcntl
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from moorfog.bootstrap import StepFailed

HELD = "running"
"""The file that whoever holds a home holds."""


@contextmanager
def held(home: Path) -> Iterator[IO[str]]:
    """Hold a home for this process; the kernel lets go of it when the process ends, however it does.

    Gives a file whose text is shown to whoever comes second: write there where the program is. Raises
    :class:`StepFailed` where another process holds it.
    """
    home.mkdir(parents=True, exist_ok=True)
    with (home / HELD).open("a+") as file:
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


def tell_where(file: IO[str], words: str) -> None:
    """Write down where the program is that holds a home."""
    file.seek(0)
    file.truncate()
    file.write(words)
    file.flush()
