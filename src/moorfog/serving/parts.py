"""Parts: the processes of the program under one home, each with a log of its own, watched and started anew."""

from __future__ import annotations

import os
import re
import signal
import socket
import subprocess
import time
import urllib.request
from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from moorfog.bootstrap import StepFailed
from moorfog.serving.leash import leashed
from moorfog.serving.state import PartState, write_state

DATABASE = "database"
LOOK_EVERY_S, ROUND_EVERY_S = 0.1, 3.0
PATIENCE_S = 8.0
FIRST_PAUSE_S, LONGEST_PAUSE_S = 0.2, 4.0
"""How long after its end a part is started again: twice as long after every end that follows soon."""
STEADY_S = 30.0
"""A part that has run for so long is steady again."""


class Stopped(Exception):
    """A signal asked us to stop."""


def _stop(*_: object) -> None:
    raise Stopped


SIGNALS = (signal.SIGTERM, signal.SIGINT, signal.SIGHUP)


def stop_on_signals() -> None:
    """Have these signals raise :class:`Stopped`; SIGINT is ignored from the start in a shell's background job."""
    for one in SIGNALS:
        signal.signal(one, _stop)


def ignore_signals() -> None:
    """Have no signal break off what is being stopped."""
    for one in SIGNALS:
        signal.signal(one, signal.SIG_IGN)


@dataclass
class Part:
    """One process: how it is made, and how it has fared. Times are monotonic seconds."""

    make: Callable[[], subprocess.Popen[bytes]]
    child: subprocess.Popen[bytes]
    since: float
    again_at: float | None = None
    """When it is started again; None while it runs."""
    pause: float = FIRST_PAUSE_S
    restarts: int = 0
    last_end: str = ""
    log: Path | None = None


def _plain(name: str) -> str:
    """Return a name as a file may have it."""
    return re.sub(r"[^\w-]+", "-", name)


def how_it_ended(code: int) -> str:
    """Say how a process ended, by its exit code."""
    if code < 0:
        with suppress(ValueError):
            return f"killed by {signal.Signals(-code).name}"
    return f"ended with {code}"


class Parts:
    """The processes that were started, in that order; ``logs`` is the folder of their logs.

    Every one is on a leash: when this process is gone the kernel ends them.
    """

    def __init__(self, logs: Path, tell: Callable[[str], None] = lambda _: None) -> None:
        self.logs, self.tell = logs, tell
        self.parts: dict[str, Part] = {}
        self.listening: set[socket.socket] = set()

    @property
    def children(self) -> dict[str, subprocess.Popen[bytes]]:
        """The process of each part."""
        return {name: one.child for name, one in self.parts.items()}

    def log_of(self, name: str) -> Path:
        """Where a part writes what it has to say."""
        known = self.parts.get(name)
        return known.log if known is not None and known.log is not None else self.logs / f"{_plain(name)}.log"

    def start(
        self,
        name: str,
        command: list[str],
        env: Mapping[str, str],
        cwd: Path | None = None,
        end: str = "KILL",
        listening: socket.socket | None = None,
    ) -> subprocess.Popen[bytes]:
        """Start a part with its own log; ``env`` is added to our own environment.

        ``end``: the signal that ends it when we are gone; one that has children of its own must hear of it.
        ``listening``: a socket that it is given; it stays ours, so whoever connects meanwhile waits for its next start.
        """

        if listening is not None:
            self.listening.add(listening)

        def make() -> subprocess.Popen[bytes]:
            self.logs.mkdir(parents=True, exist_ok=True)
            with self.log_of(name).open("ab") as log:
                return subprocess.Popen(
                    leashed(command, end),
                    stdout=log,
                    stderr=log,
                    stdin=subprocess.DEVNULL,
                    env={**os.environ, **env},
                    cwd=cwd,
                    start_new_session=True,
                    pass_fds=() if listening is None else (listening.fileno(),),
                )

        child = make()
        self.adopt(name, make, child)
        return child

    def adopt(
        self,
        name: str,
        make: Callable[[], subprocess.Popen[bytes]],
        child: subprocess.Popen[bytes],
        log: Path | None = None,
    ) -> None:
        """Take over a process that runs already; after each of its ends ``make`` makes the next one.

        ``log``: where it writes, if not where the others do.
        """
        self.parts[name] = Part(make, child, time.monotonic(), log=log)
        self._write()

    def wait_for(self, name: str, url: str, seconds: float = 30) -> None:
        """Wait until a part answers at ``url``. Raises :class:`StepFailed` naming its log."""
        child = self.parts[name].child
        deadline = time.monotonic() + seconds
        while time.monotonic() < deadline and child.poll() is None:
            try:
                with urllib.request.urlopen(url, timeout=1):
                    return
            except OSError:
                time.sleep(0.05)
        raise StepFailed(f"{name} did not answer; see {self.log_of(name)}")

    def watch(self, round: Callable[[], None] | None = None) -> None:
        """Start every part again that ends, until a signal comes; ``round`` is called every few seconds meanwhile."""
        due = time.monotonic()
        while True:
            self.look()
            if round is not None and time.monotonic() >= due:
                round()
                due = time.monotonic() + ROUND_EVERY_S
            time.sleep(LOOK_EVERY_S)

    def drop(self, name: str) -> None:
        """Stop a part for good: nobody starts it again."""
        _end([self.parts.pop(name).child], PATIENCE_S)
        self._write()

    def look(self) -> None:
        """Look once whether a part has ended; clear away what it left, and start it again when its pause is over."""
        for name, part in self.parts.items():
            now = time.monotonic()
            if part.again_at is None and part.child.poll() is not None:
                _clear(part.child.pid)
                part.pause = FIRST_PAUSE_S if now - part.since > STEADY_S else part.pause
                part.again_at = now + part.pause
                part.pause = min(LONGEST_PAUSE_S, part.pause * 2)
                part.last_end = how_it_ended(part.child.returncode)
                self.tell(f"{name} {part.last_end}; it is started again. Its log: {self.log_of(name)}")
                self._write()
            if part.again_at is not None and now >= part.again_at:
                try:
                    part.child = part.make()
                except OSError as error:  # no memory or no process to be had: it is tried again
                    self.tell(f"{name} could not be started: {error}")
                    part.again_at = now + part.pause
                    continue
                part.again_at, part.since = None, time.monotonic()
                part.restarts += 1
                self._write()

    def _write(self) -> None:
        """Write down how the parts fare, for the screens; where there is no room for it they show what was before."""
        with suppress(OSError):
            write_state(
                self.logs,
                [PartState(name, one.again_at is None, one.restarts, one.last_end) for name, one in self.parts.items()],
            )

    def kill(self, name: str) -> None:
        """End a part at once, as a power cut would; for tests of recovery."""
        self.parts[name].child.kill()
        self.parts[name].child.wait(5)

    def stop(self) -> None:
        """Stop everything we started, last first; the database when nobody needs it any more."""
        others = [one.child for name, one in reversed(self.parts.items()) if name != DATABASE]
        database = [one.child for name, one in self.parts.items() if name == DATABASE]
        for wave, patience_s in ((others, PATIENCE_S), (database, 20.0)):
            _end(wave, patience_s)
        for opened in self.listening:
            opened.close()


def _end(wave: list[subprocess.Popen[bytes]], patience_s: float) -> None:
    """End processes side by side: asked to, and killed where they do not in time."""
    for child in wave:
        if child.poll() is None:
            child.terminate()
    for child in wave:
        try:
            child.wait(patience_s)
        except subprocess.TimeoutExpired:
            child.kill()
            child.wait(3)
        _clear(child.pid)


def _clear(group: int) -> None:
    """End what a part started itself and left behind."""
    with suppress(ProcessLookupError, PermissionError):
        os.killpg(group, signal.SIGKILL)
