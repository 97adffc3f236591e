"""Parts: the processes of the program under one home, each with a log of its own, started and stopped together."""

from __future__ import annotations

import os
import signal
import subprocess
import time
import urllib.request
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path

from moorfog.bootstrap import StepFailed


class Stopped(Exception):
    """A signal asked us to stop."""


def _stop(*_: object) -> None:
    raise Stopped


def stop_on_signals() -> None:
    """Have SIGTERM and SIGINT raise :class:`Stopped`; SIGINT is ignored from the start in a shell's background job."""
    for one in (signal.SIGTERM, signal.SIGINT):
        signal.signal(one, _stop)


def ignore_signals() -> None:
    """Have neither signal break off what is being stopped."""
    for one in (signal.SIGTERM, signal.SIGINT):
        signal.signal(one, signal.SIG_IGN)


class Parts:
    """The processes that were started, in that order; ``logs`` is the folder of their logs."""

    def __init__(self, logs: Path) -> None:
        self.logs = logs
        self.children: dict[str, subprocess.Popen[bytes]] = {}

    def log_of(self, name: str) -> Path:
        """Where a part writes what it has to say."""
        return self.logs / f"{name}.log"

    def start(
        self, name: str, command: list[str], env: Mapping[str, str], cwd: Path | None = None
    ) -> subprocess.Popen[bytes]:
        """Start a part with its own log; ``env`` is added to our own environment."""
        self.logs.mkdir(parents=True, exist_ok=True)
        with self.log_of(name).open("ab") as log:
            child = subprocess.Popen(
                command,
                stdout=log,
                stderr=log,
                stdin=subprocess.DEVNULL,
                env={**os.environ, **env},
                cwd=cwd,
                start_new_session=True,
            )
        self.children[name] = child
        return child

    def wait_for(self, name: str, url: str, seconds: float = 30) -> None:
        """Wait until a part answers at ``url``. Raises :class:`StepFailed` naming its log."""
        child = self.children[name]
        deadline = time.monotonic() + seconds
        while time.monotonic() < deadline and child.poll() is None:
            try:
                with urllib.request.urlopen(url, timeout=1):
                    return
            except OSError:
                time.sleep(0.05)
        raise StepFailed(f"{name} did not answer; see {self.log_of(name)}")

    def watch(self) -> None:
        """Wait until a signal comes or a part ends. Raises :class:`StepFailed` naming the part and its log."""
        while True:
            for name, child in self.children.items():
                if child.poll() is not None:
                    raise StepFailed(f"{name} ended unexpectedly; see {self.log_of(name)}, then start again")
            time.sleep(0.3)

    def kill(self, name: str) -> None:
        """End a part at once, as a power cut would; for tests of recovery."""
        self.children[name].kill()
        self.children[name].wait(5)

    def stop(self) -> None:
        """Stop everything we started, last first."""
        started = list(reversed(self.children.values()))
        for child in started:
            if child.poll() is None:
                child.terminate()
        for child in started:
            try:
                child.wait(8)
            except subprocess.TimeoutExpired:
                child.kill()
                child.wait(3)
            with suppress(ProcessLookupError):  # what a part started itself and left behind
                os.killpg(child.pid, signal.SIGKILL)
