"""Parts that end are started again, what they left is cleared away, and nothing outlives the one that watches them."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from moorfog.bootstrap import StepFailed
from moorfog.serving.home import held, tell_where
from moorfog.serving.parts import LONGEST_PAUSE_S, Parts, how_it_ended
from moorfog.serving.state import read_state

SLEEPER = "import time; time.sleep(300)"
PARENT = f"import subprocess, sys, time; subprocess.Popen([sys.executable, '-c', {SLEEPER!r}]); time.sleep(300)"
WATCHER = """
import sys
from pathlib import Path
from moorfog.serving.parts import Parts
parts = Parts(Path(sys.argv[1]))
for name, code in (("one", sys.argv[2]), ("two", sys.argv[3])):
    parts.start(name, [sys.executable, "-c", code], {})
print(*(child.pid for child in parts.children.values()), flush=True)
parts.watch()
"""


def is_alive(pid: int) -> bool:
    """Tell whether a process runs; one that has ended and is not yet asked for does not."""
    try:
        return Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[0] != "Z"
    except FileNotFoundError:
        return False


def group_of(pid: int) -> list[int]:
    """The processes that run in the group of ``pid``."""
    found = []
    for one in Path("/proc").glob("[0-9]*"):
        try:
            state, _, group = (one / "stat").read_text().rsplit(")", 1)[1].split()[:3]
        except (OSError, ValueError):
            continue
        if int(group) == pid and state != "Z":
            found.append(int(one.name))
    return found


def within(seconds: float, true: Callable[[], bool]) -> bool:
    """Tell whether something comes true in time."""
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        if true():
            return True
        time.sleep(0.02)
    return true()


@pytest.fixture
def parts(tmp_path: Path) -> Iterator[tuple[Parts, list[str]]]:
    said: list[str] = []
    one = Parts(tmp_path, said.append)
    yield one, said
    one.stop()


def test_a_part_that_ends_is_back_and_that_is_said(parts: tuple[Parts, list[str]], tmp_path: Path) -> None:
    watched, said = parts
    first = watched.start("sleeper", [sys.executable, "-c", PARENT], {}).pid
    assert within(5, lambda: len(group_of(first)) == 2), "it has started a process of its own"
    os.kill(first, signal.SIGKILL)

    def is_back() -> bool:
        watched.look()
        child = watched.children["sleeper"]
        return child.pid != first and child.poll() is None

    assert within(5, is_back)
    assert group_of(first) == [], "what it had started is gone"
    assert len(said) == 1 and "sleeper killed by SIGKILL" in said[0] and "sleeper.log" in said[0]
    changed, (state,) = read_state(tmp_path)
    assert changed and state.is_running and state.restarts == 1 and state.last_end == "killed by SIGKILL"


def test_one_that_cannot_stay_is_tried_less_and_less_often_and_the_others_are_looked_after(
    parts: tuple[Parts, list[str]],
) -> None:
    watched, said = parts
    watched.start("hopeless", [sys.executable, "-c", "raise SystemExit(3)"], {})
    steady = watched.start("steady", [sys.executable, "-c", SLEEPER], {})
    pauses = []
    for _ in range(3):
        before = len(said)

        def has_ended(before: int = before) -> bool:
            watched.look()
            return len(said) > before

        assert within(8, has_ended)
        pauses.append(watched.parts["hopeless"].pause)
    assert pauses == sorted(set(pauses)) and max(pauses) <= LONGEST_PAUSE_S
    assert "hopeless ended with 3" in said[0] and steady.poll() is None
    os.kill(steady.pid, signal.SIGKILL)

    def steady_is_back() -> bool:
        watched.look()
        return watched.children["steady"].pid != steady.pid

    assert within(5, steady_is_back)


@pytest.mark.parametrize("end", [signal.SIGKILL, signal.SIGSEGV])
def test_nothing_outlives_the_one_that_watches(tmp_path: Path, end: signal.Signals) -> None:
    command = [sys.executable, "-c", WATCHER, str(tmp_path), SLEEPER, SLEEPER]
    watcher = subprocess.Popen(command, stdout=subprocess.PIPE, text=True, start_new_session=True)
    assert watcher.stdout is not None
    pids = [int(one) for one in watcher.stdout.readline().split()]
    assert len(pids) == 2 and within(5, lambda: all(map(is_alive, pids)))
    time.sleep(0.3)  # the leash is put on by what starts them, before they begin
    os.kill(watcher.pid, end)
    watcher.wait(5)
    assert within(3, lambda: not any(map(is_alive, pids)))


def test_a_second_start_on_one_home_says_where_the_first_is(tmp_path: Path) -> None:
    home = tmp_path / "home"
    with held(home) as place:
        tell_where(place, "at http://127.0.0.1:8400, process 12")
        with pytest.raises(StepFailed, match=r"runs already in .*at http://127\.0\.0\.1:8400, process 12"), held(home):
            pass
    with held(home):
        pass  # it is free again


def test_a_holder_that_was_killed_holds_nothing(tmp_path: Path) -> None:
    code = "import sys, time\nfrom pathlib import Path\nfrom moorfog.serving.home import held\n"
    code += "with held(Path(sys.argv[1])):\n    print('held', flush=True)\n    time.sleep(300)"
    holder = subprocess.Popen([sys.executable, "-c", code, str(tmp_path)], stdout=subprocess.PIPE, text=True)
    assert holder.stdout is not None and holder.stdout.readline() == "held\n"
    with pytest.raises(StepFailed, match="runs already"), held(tmp_path):
        pass
    holder.kill()
    holder.wait(5)
    with held(tmp_path):
        pass


def test_how_a_process_ended_is_said_in_words() -> None:
    assert how_it_ended(-15) == "killed by SIGTERM" and how_it_ended(1) == "ended with 1"


@pytest.mark.parametrize(
    "content", ["", "{", "[]", json.dumps({"at": "x"}), json.dumps({"at": "x", "parts": [{"a": 1}]})]
)
def test_a_spoilt_state_says_nothing(tmp_path: Path, content: str) -> None:
    (tmp_path / "parts.json").write_text(content)
    assert read_state(tmp_path) == ("", ())
