"""Where an instrument is plugged in: a serial device of this machine, or a host and port. Nothing else is ever opened.

A place is written as ``/dev/ttyUSB0``, ``/dev/serial/by-id/NAME`` or ``socket://HOST:PORT``.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

ALLOWED = "instrument-hosts"
"""The file in a home in which whoever runs the installation writes the hosts and ports it may reach, one a line."""
DEVICE = re.compile(r"/dev/tty(?:USB|ACM|S)[0-9]{1,3}")
BY_ID = re.compile(r"/dev/serial/by-id/[A-Za-z0-9_][A-Za-z0-9_.:+-]{0,150}")
NETWORK = re.compile(r"socket://([a-z0-9](?:[a-z0-9.-]{0,251}[a-z0-9])?):([1-9][0-9]{0,4})")
EXPECTED = "write /dev/ttyUSB0, /dev/ttyACM0, /dev/ttyS0, /dev/serial/by-id/NAME or socket://HOST:PORT"


class NoPlace(ValueError):
    """What is written is no place an instrument can be plugged into, in words."""


@dataclass(frozen=True)
class SerialDevice:
    """A serial device of this machine, by its path."""

    path: str

    def __str__(self) -> str:
        return self.path


@dataclass(frozen=True)
class NetworkPlace:
    """An instrument that answers at a host and port."""

    host: str
    port: int

    def __str__(self) -> str:
        return f"socket://{self.host}:{self.port}"


def place_of(text: str) -> SerialDevice | NetworkPlace:
    """Return the place that is written. Raises :class:`NoPlace` for anything but the kinds there are."""
    if DEVICE.fullmatch(text) or BY_ID.fullmatch(text):
        return SerialDevice(text)
    found = NETWORK.fullmatch(text)
    if found is None or int(found[2]) > 65535:
        raise NoPlace(f"{text[:80]!r} is no place of an instrument; {EXPECTED}")
    return NetworkPlace(found[1], int(found[2]))


def allowed_place(text: str, home: Path) -> SerialDevice | NetworkPlace:
    """Return the place that is written, where this installation may open it. Raises :class:`NoPlace`.

    A host and port must stand in the file :data:`ALLOWED` of the home, which no browser can write.
    """
    place = place_of(text)
    if isinstance(place, NetworkPlace) and f"{place.host}:{place.port}" not in allowed_hosts(home):
        raise NoPlace(
            f"{place.host}:{place.port} is not allowed here: whoever runs this installation writes it as a line of "
            f"the file {ALLOWED} in its data folder"
        )
    return place


def home_of(environ: Mapping[str, str]) -> Path:
    """Return the home of the installation that this process is a part of, by its environment; no folder where it is
    none, so that no host is allowed."""
    return Path(environ.get("MOORFOG_HOME") or "/nonexistent")


def allowed_hosts(home: Path) -> frozenset[str]:
    """Return the hosts and ports, as ``HOST:PORT``, that the file of a home allows; another line is left out."""
    try:
        lines = (home / ALLOWED).read_text("utf-8").splitlines()
    except (OSError, ValueError):
        return frozenset()
    return frozenset(one.strip() for one in lines if NETWORK.fullmatch(f"socket://{one.strip()}"))


def device_of(place: SerialDevice) -> str:
    """Return the device behind a serial place. Raises :class:`NoPlace` where a link leads anywhere else."""
    try:
        device = str(Path(place.path).resolve(strict=True))
    except OSError as error:
        raise NoPlace(f"no counter at {place}: {error.strerror}. Is it switched on and plugged in?") from error
    if not DEVICE.fullmatch(device):
        raise NoPlace(f"{place} leads to {device}, which is no serial device")
    return device
