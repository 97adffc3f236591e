"""A machine that stands still in mid-test: presses come late and valves turn late, through no fault of the program."""

from __future__ import annotations

import functools
import threading
import time
import warnings
from collections.abc import Callable
from typing import Any

from playwright.sync_api import Error

BEAT_S = 0.05
LONGEST_MS = 120
"""Seconds of a protocol are hurried ten or twenty times here: what is longer than this is longer than its windows."""


class Stalls:
    """Measures, while it is entered, for how long this machine ran nothing of ours at a time."""

    def __init__(self) -> None:
        self.longest_ms = 0.0
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._watch, daemon=True)

    def _watch(self) -> None:
        before = time.monotonic()
        while not self._over.wait(BEAT_S):
            now = time.monotonic()
            self.longest_ms = max(self.longest_ms, (now - before - BEAT_S) * 1000)
            before = now

    def __enter__(self) -> Stalls:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._over.set()
        self._thread.join()


def on_a_running_machine(test: Callable[..., None]) -> Callable[..., None]:
    """Do a hurried test once more where it failed *and* the machine was measured to have stood still meanwhile.

    A failure on a machine that ran is a failure at once, and so is the second one.
    """

    @functools.wraps(test)
    def again(*args: Any, **given: Any) -> None:
        with Stalls() as stalls:
            try:
                return test(*args, **given)
            except (AssertionError, Error) as error:
                if stalls.longest_ms < LONGEST_MS:
                    raise
                warnings.warn(f"stood still for {stalls.longest_ms:.0f} ms: {error}; once more", stacklevel=2)
        return test(*args, **given)

    return again
