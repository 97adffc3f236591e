"""Says what is wrong once, not each time it is met: a link tries again twice a second, for a night if it must."""

from __future__ import annotations

import logging
from collections.abc import Callable
from dataclasses import dataclass

AGAIN_S = 60.0
"""After how many seconds a fault that goes on is said again."""


@dataclass
class Complaint:
    """One thing that may fail again and again. ``clock`` counts seconds and never goes back."""

    log: logging.Logger
    over: str
    clock: Callable[[], float]
    said: str = ""
    said_at: float = 0.0

    def fault(self, text: str, with_trace: bool = False) -> None:
        """Say what is wrong, unless the same was said in the last :data:`AGAIN_S` seconds."""
        now = self.clock()
        if text != self.said or now - self.said_at >= AGAIN_S:
            self.log.warning("%s", text, exc_info=with_trace)
            self.said, self.said_at = text, now

    def well(self) -> None:
        """Say that it is over, where something had been wrong."""
        if self.said:
            self.log.info("%s", self.over)
            self.said = ""
