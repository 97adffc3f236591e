"""What the web server does besides serving: its workers end with the process that forked them."""

from __future__ import annotations

from typing import Any

from gunicorn.http import wsgi

from moorfog.logs import log_config
from moorfog.serving.leash import die_with_parent

wsgi.SERVER = "moorfog"  # which server this is, and of which version, is nobody's business
logconfig_dict = log_config()
"""The web server's own lines look like all others."""


def post_fork(server: Any, worker: Any) -> None:
    """Leash a new worker: without its master it would hold the port and serve nobody."""
    die_with_parent(worker.ppid)
