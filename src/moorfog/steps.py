"""Steps that are done again and again beside one another: each fails alone, is said once, and is tried later."""

from __future__ import annotations

import logging
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from sqlalchemy.exc import DBAPIError

LATEST_S = 300.0
"""After how long a step that goes on failing is tried again at the latest, or by its own turn where that is longer."""


@dataclass
class Step:
    """Something done every ``every`` seconds, first after ``first``; one of ``once`` is over when it was done."""

    name: str
    every: float
    do: Callable[[], object]
    first: float = 0.0
    once: bool = False
    failures: int = 0
    due: float = field(default=-math.inf, repr=False)

    def pause(self) -> float:
        """Return in how many seconds it is tried again after it failed: twice as long each time."""
        return max(self.every, min(LATEST_S, self.every * 2.0 ** min(self.failures, 20)))


class Steps:
    """Does steps when they are due. ``clock`` counts seconds and never goes back."""

    def __init__(self, log: logging.Logger, clock: Callable[[], float], steps: Sequence[Step]) -> None:
        self.log, self.clock, self.steps = log, clock, list(steps)
        for one in self.steps:
            one.due = clock() + one.first

    def do_due(self, is_over: Callable[[], bool] = lambda: False) -> None:
        """Do every step that is due, in their order; what fails keeps none of the others from its turn."""
        for one in list(self.steps):
            if is_over():
                return
            if self.clock() < one.due:
                continue
            try:
                one.do()
            except Exception as error:
                self._failed(one, error)
            else:
                if one.failures:
                    self.log.info("%s: done again after %d failures", one.name, one.failures)
                one.failures, one.due = 0, self.clock() + one.every
                if one.once:
                    self.steps.remove(one)

    def _failed(self, one: Step, error: Exception) -> None:
        one.failures += 1
        one.due = self.clock() + one.pause()
        if isinstance(error, DBAPIError):
            said, trace = f"the database does not answer: {error.orig}", None
        else:
            said, trace = f"{type(error).__name__}: {error}", error
        if one.failures == 1:
            self.log.error("%s failed and is tried again: %s", one.name, said, exc_info=trace)


class Apart:
    """Does something to each of many things: one that fails is said once, left alone a while, and harms no other."""

    def __init__(self, log: logging.Logger, clock: Callable[[], float], what: str) -> None:
        self.log, self.clock, self.what = log, clock, what
        self.failing: dict[str, Step] = {}

    def is_resting(self, name: str) -> bool:
        """True while one that failed is left alone."""
        known = self.failing.get(name)
        return known is not None and self.clock() < known.due

    def do(self, name: str, work: Callable[[], object]) -> bool:
        """Do it to one and return whether it was done. Raises DBAPIError: the database is away for all of them."""
        if self.is_resting(name):
            return False
        try:
            work()
        except DBAPIError:
            raise
        except Exception as error:
            known = self.failing.setdefault(name, Step(name, 1.0, work))
            known.failures += 1
            known.due = self.clock() + known.pause()
            if known.failures == 1:
                self.log.error("%s of %s failed and is tried again later", self.what, name, exc_info=error)
            return False
        if self.failing.pop(name, None) is not None:
            self.log.info("%s of %s: done again", self.what, name)
        return True
