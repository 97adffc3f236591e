"""What is tried by the hundred and the hundred thousand: kills of parts, and made-up calls."""

from __future__ import annotations

import shutil
import tempfile
import time
from collections import Counter
from pathlib import Path

from moorfog.data import shipped_rules
from moorfog.demo.seed import enter_facepieces
from moorfog.serving.database import FAST_FLAGS
from moorfog.store.base import make_engine, run_in_transaction
from tests.api.house import House
from tests.browser.stack import Stack
from tests.faults.fuzz import ACTORS, Fuzz
from tests.faults.kills import kill_at_random
from tests.template import running_server


def bench_kill(kills: int) -> int:
    """Kill parts at random while somebody posts; print what went wrong. Returns the exit code."""
    stack = Stack(shipped_rules())
    try:
        wrong = kill_at_random(stack, kills, seed=int(time.time()))
    finally:
        stack.stop()
    print(f"{kills} kills; {len(wrong)} things went wrong", *wrong, sep="\n  ")
    return bool(wrong)


def bench_fuzz(calls: int) -> int:
    """Make up calls of every operation, as everybody; print what they came to. Returns the exit code."""
    home = Path(tempfile.mkdtemp(prefix="mf"))
    home.chmod(0o755)
    server = running_server(home / "db", FAST_FLAGS)
    try:
        engine = make_engine(server.url)
        run_in_transaction(engine, enter_facepieces)
        fuzz, counted = Fuzz(House(engine, shipped_rules())), Counter[str]()
        operations = list(fuzz.operations())
        for one in operations:
            counted += fuzz.attack(one, ACTORS, -(-calls // len(operations)))
        for what, count in sorted(counted.items()):
            print(f"{count:8} {what}")
        return any(one.startswith("bad") for one in counted)
    finally:
        server.stop()
        shutil.rmtree(home, ignore_errors=True)
