"""No part outlives the one that started it: the kernel ends it when its parent is gone, however that ended."""

from __future__ import annotations

import ctypes
import os
import shutil
import signal
from collections.abc import Sequence

PR_SET_PDEATHSIG = 1


def leashed(command: Sequence[str], end: str = "KILL", account: str = "") -> list[str]:
    """Return ``command`` with what has the kernel send it ``end`` when the process that starts it is gone.

    ``account``: the system account it is to run as. A process that changes its account later on its own would lose
    the leash. Where the machine has no setpriv, which belongs to Debian's base, the command stays as it is.
    """
    if shutil.which("setpriv") is None:
        return list(command)
    other = [f"--reuid={account}", f"--regid={account}", "--init-groups"] if account else []
    return ["setpriv", *other, "--pdeathsig", end, "--", *command]


def die_with_parent(parent: int) -> None:
    """Have the kernel end this process when ``parent`` is gone; end it now where it is gone already."""
    libc = ctypes.CDLL(None, use_errno=True)
    libc.prctl(PR_SET_PDEATHSIG, signal.SIGKILL, 0, 0, 0)
    if os.getppid() != parent:
        os._exit(1)
