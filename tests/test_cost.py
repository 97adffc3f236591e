"""What a run of the tests costs is counted with all that a file started."""

from __future__ import annotations

import os
from collections import Counter
from pathlib import Path

from tests.cost import spent_ms, table


def test_whatever_was_started_counts_with_who_started_it(tmp_path: Path) -> None:
    """Columns by proc(5): the parent is the fourth, times of its own and of who has ended the fourteenth and on."""
    tick_ms = 1000 / os.sysconf("SC_CLK_TCK")
    for pid, parent, ticks in ((10, 1, 5), (11, 10, 7), (12, 11, 100), (20, 1, 1000)):
        folder = tmp_path / str(pid)
        folder.mkdir()
        columns = [str(pid), "(a (b) c)", "S", str(parent), *"0" * 9, str(ticks), "1", "2", "3", "0"]
        (folder / "stat").write_text(" ".join(columns))
    assert spent_ms(10, tmp_path) == (5 + 7 + 100 + 3 * 6) * tick_ms


def test_the_dearest_come_first() -> None:
    lines = [*table(Counter({"tests/core/a.py": 1500, "tests/web/b.py": 2500}))]
    assert lines[0] == "processor: 4 s" and lines[2].endswith("tests/web/b.py")
    assert [*table(Counter({"tests/core/a.py": 1500}))] == []
