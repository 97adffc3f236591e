"""Clocks of the database that can be set: its server runs with a clock of its own, as far off as a file says."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

LIBRARY = next(Path("/usr/lib").glob("*/faketime/libfaketimeMT.so.1"), None)


class SetClock:
    """A database server's clock, so many seconds off the machine's; the time it sees pass is the machine's."""

    def __init__(self, file: Path) -> None:
        assert LIBRARY, "libfaketime is missing; ./moorfog test installs it"
        self.file = file
        self.file.parent.mkdir(parents=True, exist_ok=True)
        self.put(0)
        # only the server itself gets it: what is begun as root could not be gone on with as the server's account
        server = shutil.which("mariadbd")
        folder = file.parent / "bin"
        folder.mkdir(exist_ok=True)
        (folder / "mariadbd").write_text(
            "#!/bin/sh\n"
            f"export LD_PRELOAD={LIBRARY} FAKETIME_TIMESTAMP_FILE={file} FAKETIME_NO_CACHE=1 DONT_FAKE_MONOTONIC=1\n"
            f'exec {server} "$@"\n'
        )
        (folder / "mariadbd").chmod(0o755)
        self.env = {"PATH": f"{folder}:{os.environ['PATH']}"}

    def put(self, seconds: int) -> None:
        """Set the clock so far ahead of the machine's; below zero: back."""
        fresh = self.file.with_suffix(".new")
        fresh.write_text(f"{seconds:+d}s")
        fresh.chmod(0o644)
        fresh.replace(self.file)
