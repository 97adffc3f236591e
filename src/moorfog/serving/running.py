"""One command that runs until it is told to stop: holds its home, starts, watches, and stops all of it again."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from moorfog.bootstrap import say
from moorfog.serving.home import held, tell_where
from moorfog.serving.parts import Parts, Stopped, ignore_signals, stop_on_signals


@dataclass(frozen=True)
class Running:
    """What a command runs: its name, the folder it holds, its parts, and how it is started, greeted and stopped.

    ``begin`` brings everything up and returns the address; ``greet`` prints what its user needs to know of it;
    ``round`` is called now and then while the parts are watched.
    """

    command: str
    hold: Path
    parts: Parts
    begin: Callable[[], str]
    greet: Callable[[str], str]
    end: Callable[[], None]
    round: Callable[[], None] | None = None
    hint: str = ""


def run_until_stopped(one: Running) -> int:
    """Run until Ctrl-C or SIGTERM. Returns the exit code."""
    stop_on_signals()
    try:
        with held(one.hold) as place:
            try:
                address = one.begin()
                tell_where(place, f"at {address}, process {os.getpid()}")
                sys.stdout.write(one.greet(address))
                sys.stdout.flush()
                one.parts.watch(one.round)
            except (Stopped, KeyboardInterrupt):
                say("stopping")
            finally:
                ignore_signals()
                one.end()
    except (Stopped, KeyboardInterrupt):
        return 0
    except Exception as error:
        hint = f"; {one.hint}" if one.hint else ""
        logs = f"  logs: {one.parts.logs}{hint}\n" if one.parts.logs.exists() else ""
        sys.stderr.write(f"moorfog {one.command}: {error}\n{logs}")
        return 1
    return 0
