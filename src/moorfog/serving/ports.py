"""TCP ports on loopback: whether one is free, and one that is."""

from __future__ import annotations

import socket

WAITING = 1024
"""Connections that may wait to be taken up."""


def is_free(port: int) -> bool:
    """Tell whether a port can be listened on."""
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
    return True


def free_port() -> int:
    """Return a TCP port that is free on loopback right now."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port: int = probe.getsockname()[1]
        return port


def answers(host: str, port: int) -> bool:
    """Tell whether somebody listens at an address right now."""
    with socket.socket(socket.AF_INET6 if ":" in host else socket.AF_INET) as probe:
        probe.settimeout(1)
        return probe.connect_ex((host, port)) == 0


def listening(port: int) -> socket.socket:
    """Open a port on loopback for parts that are given it: nobody else has it while we live, whichever of them does."""
    made = socket.socket()
    made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    made.bind(("127.0.0.1", port))
    made.listen(WAITING)
    return made
