"""What a run of the tests costs: seconds of the processor by file, with all that a file started.

A file's browser, database and web processes are counted with it, so that a run can be held against the one before on
a machine that is as fast today as it likes. Printed at the end of a run, dearest first.
"""

from __future__ import annotations

import os
from collections import Counter, defaultdict
from collections.abc import Generator, Iterable
from pathlib import Path
from typing import Any

import pytest

KEY = "processor_ms"
DEAREST = 25
_TICK_MS = 1000 / os.sysconf("SC_CLK_TCK")


def spent_ms(root: int, proc: Path = Path("/proc")) -> float:
    """Return the milliseconds of the processor that a process, all it started, and what of these has ended took."""
    took, children = dict[int, float](), defaultdict[int, list[int]](list)
    for one in proc.glob("[0-9]*/stat"):
        try:
            after = one.read_text().rpartition(")")[2].split()  # a name may hold spaces and brackets
        except OSError:
            continue  # it ended meanwhile: whoever waits for it counts it
        pid = int(one.parent.name)
        children[int(after[1])].append(pid)
        took[pid] = sum(map(int, after[11:15])) * _TICK_MS
    total, waiting = 0.0, [root]
    while waiting:
        pid = waiting.pop()
        total += took.get(pid, 0.0)
        waiting += children[pid]
    return total


class Cost:
    """Counts the files of one worker, and sums up what all workers say."""

    def __init__(self) -> None:
        self.before = spent_ms(os.getpid())
        self.files = Counter[str]()

    @pytest.hookimpl(wrapper=True)
    def pytest_runtest_makereport(self, item: pytest.Item) -> Generator[None, Any, Any]:
        """Let the last report of a file say what the file took."""
        report = yield
        following = getattr(item, "following", None)
        if report.when == "teardown" and (following is None or following.path != item.path):
            now = spent_ms(os.getpid())
            report.user_properties.append((KEY, now - self.before))
            self.before = now
        return report

    @pytest.hookimpl(tryfirst=True)
    def pytest_runtest_protocol(self, item: pytest.Item, nextitem: pytest.Item | None) -> None:
        """Remember what comes after a test."""
        item.following = nextitem  # type: ignore[attr-defined]

    def pytest_runtest_logreport(self, report: pytest.TestReport) -> None:
        """Sum up what was said."""
        for name, value in report.user_properties:
            if name == KEY and isinstance(value, float):
                self.files[report.nodeid.partition("::")[0]] += value  # type: ignore[assignment]

    def pytest_terminal_summary(self, terminalreporter: Any) -> None:
        """Print it."""
        for line in table(self.files):
            terminalreporter.write_line(line)


def table(files: Counter[str]) -> Iterable[str]:
    """Yield the lines of what files cost: all of them, by folder, and the dearest."""
    folders = Counter[str]()
    for name, value in files.items():
        folders["/".join(name.split("/")[:2])] += value
    if len(files) > 1:
        yield f"processor: {sum(files.values()) / 1000:.0f} s"
        yield "  ".join(f"{name} {value / 1000:.0f}" for name, value in folders.most_common())
        yield from (f"{value / 1000:7.1f} s  {name}" for name, value in files.most_common(DEAREST))
