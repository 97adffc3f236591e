"""Parts killed at random while somebody keeps posting: what was acknowledged is there, once, and all come back."""

from __future__ import annotations

import random
import time

from moorfog.rooms.proof.verify import verify
from moorfog.serving.parts import DATABASE
from tests.browser.stack import Stack
from tests.faults.at_work import AtWork

BACK_WITHIN_S = 5.0
STEADY_WITHIN_S = 30.0


def kill_at_random(stack: Stack, kills: int, seed: int, benches: int) -> list[str]:
    """Kill one part after the other under a supervisor, while so many visits go on. Returns what went wrong; nothing
    where nothing did."""
    parts, dice, wrong = stack.parts, random.Random(seed), list[str]()
    parts.adopt(DATABASE, stack.server.spawn, stack.server.spawned)
    with AtWork(stack, benches) as at_work:
        poster = at_work.poster
        for _ in range(kills):
            # the supervisor starts processes on this very thread: the leash is the thread's that started them
            name = dice.choice(list(parts.parts))
            child = parts.children[name]
            child.kill()
            child.wait(5)
            deadline = time.monotonic() + BACK_WITHIN_S
            while parts.children[name] is child or parts.children[name].poll() is not None:
                parts.look()
                if time.monotonic() > deadline:
                    wrong.append(f"{name} was not back within {BACK_WITHIN_S:.0f} s")
                    break
                time.sleep(0.02)
            until = time.monotonic() + dice.uniform(0, 1.5)
            while time.monotonic() < until:
                parts.look()
                time.sleep(0.02)
        count, deadline = len(poster.acknowledged), time.monotonic() + STEADY_WITHIN_S
        while len(poster.acknowledged) < count + 5 and time.monotonic() < deadline:
            parts.look()
            time.sleep(0.05)
        if len(poster.acknowledged) < count + 5:
            wrong.append("nothing is taken any more after the kills")
    if len(poster.acknowledged) < kills // 2:
        wrong.append(f"only {len(poster.acknowledged)} were taken in all that time")
    return wrong + at_work.lost() + [f"{one.where}: {one.problem}" for one in verify(stack.engine)]
