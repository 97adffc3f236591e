"""What is tried by the hundred and the hundred thousand: kills of parts, and made-up calls."""

from __future__ import annotations

import secrets
import shutil
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

from moorfog.bootstrap import ensure_web
from moorfog.data import shipped_rules
from moorfog.demo.seed import enter_facepieces
from moorfog.platform.db.base import make_engine, run_in_transaction
from moorfog.serving.database import FAST_FLAGS
from moorfog.serving.ports import free_port
from moorfog.serving.whole import Door, Where
from tests.browser.stack import Stack
from tests.faults.fuzz import Fuzz, through
from tests.faults.kills import kill_at_random
from tests.faults.slow import Crowd, health_times, p95
from tests.faults.test_slow import cookie_of, signed_in
from tests.rooms.house import House
from tests.template import own_server, running_server

BENCHES = 40
"""Visits that go on meanwhile."""


def bench_kill(kills: int) -> int:
    """Kill parts at random while forty visits go on; print what went wrong. Returns the exit code."""
    stack = Stack(shipped_rules())
    try:
        wrong = kill_at_random(stack, kills, seed=int(time.time()), benches=BENCHES)
    finally:
        stack.stop()
    print(f"{kills} kills while {BENCHES} visits went on; {len(wrong)} things went wrong", *wrong, sep="\n  ")
    return bool(wrong)


def bench_fuzz(calls: int) -> int:
    """Make up calls of every operation, as everybody; print what they came to. Returns the exit code."""
    with own_server() as server:
        engine = make_engine(server.url)
        run_in_transaction(engine, enter_facepieces)
        fuzz, counted = Fuzz(House(engine, shipped_rules())), Counter[str]()
        operations, drawing = list(fuzz.operations()), secrets.randbits(32)
        print(f"drawn by seed {drawing}", flush=True)
        for at, one in enumerate(operations, start=1):
            came = fuzz.attack(one, -(-calls // len(operations)), drawing)
            counted += came
            for what in came:
                if what.startswith("bad"):
                    print(what, flush=True)
            print(f"\r{at} of {len(operations)} operations", end="", file=sys.stderr, flush=True)
        print(file=sys.stderr)
        for what, count in sorted(counted.items()):
            print(f"{count:8} {what}")
        made, well = through(counted)
        print(f"{well / made:.0%} of {made} went through")
        return any(one.startswith("bad") for one in counted)


SIGN_INS, SETTLE_S = 20, 15
"""Sign-ins that the streams are asked for by, and how long a crowd takes to be there."""


def bench_slow(slow: int, streams: int) -> int:
    """Have clients drip and others follow along; print how long health takes, with the door and without."""
    home = Path(tempfile.mkdtemp(prefix="mf"))
    home.chmod(0o755)
    server = running_server(home / "db", FAST_FLAGS)
    door: Door | None = None
    try:
        engine = make_engine(server.url)
        run_in_transaction(engine, enter_facepieces)
        env = {"MOORFOG_DATABASE_URL": server.url, "MOORFOG_WEB": str(ensure_web())}
        door = Door(home, Where(port=free_port(), always_door=True), 2, env)
        door.start()
        outside = f"http://127.0.0.1:{door.port}"
        door.parts.wait_for("door", f"{outside}/api/health")
        house = House(engine, shipped_rules())
        cookie, visit = signed_in(door, house)
        cookies = [cookie, *(cookie_of(door, house) for _ in range(SIGN_INS - 1))]
        inner = int((door.home / "door" / "nginx.conf").read_text().split("server 127.0.0.1:")[1].split(";")[0])
        alone = p95(health_times(outside, 100, 0.02))
        print(f"nobody else: health p95 {alone * 1000:.0f} ms")
        for words, port in (("with the door", door.port), ("without it", inner)):
            crowd = Crowd(port)
            crowd.gather(slow, streams, cookies, visit)
            for when, pause_s in (("as they come", 0), ("once they are there", SETTLE_S)):
                time.sleep(pause_s)
                try:
                    taken = p95(health_times(f"http://127.0.0.1:{port}", 100, 0.02))
                    said = f"health p95 {taken * 1000:.0f} ms, {taken / alone:.1f} times as long"
                except OSError as error:
                    said = f"health was not answered: {error}"
                print(f"{slow} slow clients, {streams} streams asked for, {words}, {when}: {said}")
            print(f"  {crowd.served()} streams served")
            crowd.leave()
        return 0
    finally:
        if door is not None:
            door.parts.stop()
        server.stop()
        shutil.rmtree(home, ignore_errors=True)
