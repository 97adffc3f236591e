"""Which worker of a run takes which file of tests.

A test in the browser mostly waits, and what it waits for must not stand still; a test of the core only counts. So more
workers run than there are cores: the first ones take the files that wait, and the others, as polite as a process can
be, count meanwhile. Whoever has nothing of its own left takes what there is.
"""

from __future__ import annotations

import os

from xdist.scheduler import LoadFileScheduling
from xdist.workermanage import WorkerController

WAITING = 3
"""Workers for files that wait, the first ones."""
COUNTING = 2
"""Workers for files that count."""
POLITE = 19


def waits(path: str) -> bool:
    """Tell whether what is tested in a file goes on in a browser, and mostly waits."""
    return path.startswith(("tests/browser/", "tests/faults/test_kills"))


def is_first(worker: str) -> bool:
    """Tell whether a worker, by its name, is one of those for files that wait."""
    return int(worker.removeprefix("gw")) < WAITING


def be_polite() -> None:
    """Give way to those who wait, where this process is a worker that counts, with all it will start."""
    worker = os.environ.get("PYTEST_XDIST_WORKER", "")
    if worker and not is_first(worker):
        os.nice(POLITE)


class ByWaiting(LoadFileScheduling):
    """Hands every worker the next file of its own sort, or of the other sort when there is none left."""

    def _assign_work_unit(self, node: WorkerController) -> None:
        wanted = is_first(node.gateway.id)
        mine = next((one for one in self.workqueue if waits(one) == wanted), None)
        if mine is not None:
            self.workqueue.move_to_end(mine, last=False)
        super()._assign_work_unit(node)
