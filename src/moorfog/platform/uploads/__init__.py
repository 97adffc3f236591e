"""Files that somebody sends are parsed in a process of their own, with so much memory and time and no more.

What a parser makes of a file made in bad faith stays in that process: it ends, and the one who sent the file is told.
"""

from __future__ import annotations

import json
import subprocess
import sys
from typing import Any, Literal

from moorfog.platform.uploads.limits import WALL_S

Kind = Literal["csv", "xlsx", "sheet", "toml"]


class Unreadable(Exception):
    """A file that cannot be read: a stable code, and what is wrong with what to do."""

    def __init__(self, code: str, message: str) -> None:
        super().__init__(message)
        self.code, self.message = code, message


def parse_apart(kind: Kind, content: bytes, **given: Any) -> Any:
    """Return what a file holds as plain data: a table as its rows of text, with their true numbers, its encoding and
    its sheets; TOML as its tree. ``given``: the ``sheet`` (from 0) or the ``encoding`` that was chosen.

    Raises :class:`Unreadable` for one that is no such file, or that takes more memory or time than any real one.
    """
    command = [sys.executable, "-m", "moorfog.platform.uploads.child", kind, json.dumps(given)]
    try:
        done = subprocess.run(command, input=content, capture_output=True, check=False, timeout=WALL_S)
    except subprocess.TimeoutExpired:
        raise _too_much() from None
    if done.returncode:
        raise _too_much()
    answer = json.loads(done.stdout)
    if "problem" in answer:
        raise Unreadable(*answer["problem"])
    return answer["found"]


def _too_much() -> Unreadable:
    return Unreadable(
        "too_much", "Reading this file takes more memory or time than such a file should. Save it anew and try again."
    )
