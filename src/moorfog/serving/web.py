"""The web server: how it is started."""

from __future__ import annotations

import sys

WEB_ENV = {"MALLOC_ARENA_MAX": "1"}
"""What a web process is started with besides: its many threads run one at a time, and memory of their own for each of
them would only double what it holds."""


def gunicorn_command(at: str, workers: int) -> list[str]:
    """Return the command of the web server; each event stream holds a thread.

    ``at``: where it listens, as host:port, or ``fd://N`` for a socket that was opened for it.
    """
    return [
        sys.executable,
        "-m",
        "gunicorn",
        "--config",
        "python:moorfog.serving.web_hooks",
        "-w",
        str(workers),
        "-k",
        "gthread",
        "--threads",
        "100",
        "--worker-connections",
        "120",
        "--preload",
        "--no-control-socket",
        "--graceful-timeout",
        "3",
        "--bind",
        at,
        "moorfog.wsgi:application()",
    ]


def reloading_command(port: int) -> list[str]:
    """Return the command of a web server for developers: it starts anew whenever a file of the program changes."""
    return [
        sys.executable,
        "-m",
        "flask",
        "--app",
        "moorfog.wsgi:application",
        "run",
        "--reload",
        "--no-debugger",
        "--port",
        str(port),
    ]
