"""The open line protocol between a counter and its link: text, versioned, checksummed. See docs/formats.

A line is ``TYPE key=value … ~XXXX`` with XXXX the CRC-16/CCITT-FALSE of everything before the tilde's space.
"""

from __future__ import annotations

import binascii
import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from moorfog.core.kernel.arithmetic import whole_or_none

VERSION = 1
SIMULATED_KEY = "MOORFOG_SIMULATED_KEY"
"""Names what the link of a simulated instrument says in its greeting; both are started with it."""
MAX_LINE = 512
_TYPE = re.compile(r"[A-Z]{1,12}\Z")
_FIELD = re.compile(r"([a-z0-9]{1,12})=([A-Za-z0-9.,:_+-]{0,200})\Z")


class LineError(ValueError):
    """A line that cannot be trusted: garbage, half of one, or a wrong checksum."""


@dataclass(frozen=True)
class Line:
    """A line's type and its fields."""

    type: str
    fields: dict[str, str]

    def whole(self, name: str) -> int:
        """Return a whole number. Raises :class:`LineError` where it is missing or none."""
        text = self.fields.get(name, "")
        value = whole_or_none(text)
        if value is None:
            raise LineError(f"{self.type}: field {name} is {text!r}; a whole number is expected")
        return value


def checksum(text: str) -> str:
    """Return the CRC-16/CCITT-FALSE of ``text`` as four hexadecimal digits."""
    return f"{binascii.crc_hqx(text.encode('ascii'), 0xFFFF):04X}"


def write_line(type_: str, **fields: str | int) -> bytes:
    """Return a line ready to send, newline included."""
    body = " ".join([type_, *(f"{key}={value}" for key, value in fields.items())])
    return f"{body} ~{checksum(body)}\n".encode("ascii")


def read_line(raw: bytes) -> Line:
    """Read one line. Raises :class:`LineError` saying what is wrong with it."""
    try:
        text = raw.decode("ascii").rstrip("\r\n")
    except UnicodeDecodeError:
        raise LineError("bytes that are no ASCII") from None
    body, mark, sum_ = text.rpartition(" ~")
    if not mark:
        raise LineError(f"no checksum in {text[:60]!r}; half a line?")
    if checksum(body) != sum_:
        raise LineError(f"wrong checksum {sum_}, {checksum(body)} expected")
    type_, *pairs = body.split(" ")
    if not _TYPE.match(type_):
        raise LineError(f"{type_[:20]!r} is no line type")
    fields: dict[str, str] = {}
    for pair in pairs:
        found = _FIELD.match(pair)
        if not found:
            raise LineError(f"{pair[:40]!r} is not key=value")
        fields[found[1]] = found[2]
    return Line(type_, fields)


@dataclass
class LineBuffer:
    """Collects bytes into whole lines; overlong garbage is dropped, never kept."""

    held: bytearray = field(default_factory=bytearray)

    def feed(self, data: bytes) -> Iterator[bytes]:
        """Yield whole lines as they become complete."""
        self.held.extend(data)
        while (end := self.held.find(b"\n")) >= 0:
            line = bytes(self.held[: end + 1])
            del self.held[: end + 1]
            yield line
        if len(self.held) > MAX_LINE:
            self.held.clear()
