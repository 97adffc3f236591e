"""A ZIP archive as a stream: written and sent on entry by entry, with the digest of each and one of all."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Iterator
from zipfile import ZIP_DEFLATED, ZipFile, ZipInfo

STAMP = (2000, 1, 1, 0, 0, 0)
"""The date of every entry: the same content comes out as the same file."""
MANIFEST, ROOT = "manifest.txt", "root.txt"
Entry = tuple[str, bytes]


class Pipe:
    """What a ZipFile writes to: it keeps what was written until that is taken, and cannot be sought in."""

    def __init__(self) -> None:
        self.parts: list[bytes] = []

    def write(self, data: bytes) -> int:
        self.parts.append(bytes(data))
        return len(data)

    def flush(self) -> None:
        """Nothing is held back."""

    def taken(self) -> bytes:
        """Return what was written since it was last taken."""
        out, self.parts = b"".join(self.parts), []
        return out


def piped(pipe: Pipe) -> ZipFile:
    """Return an archive that writes to a pipe."""
    return ZipFile(pipe, "w", ZIP_DEFLATED)  # type: ignore[call-overload,no-any-return]  # written, never sought in


def entry(name: str) -> ZipInfo:
    """Return the head of an entry, the same whenever it is made."""
    one = ZipInfo(name, STAMP)
    one.compress_type, one.external_attr = ZIP_DEFLATED, 0o600 << 16
    return one


def put(archive: ZipFile, name: str, content: str | bytes) -> None:
    """Write an entry, the same bytes for the same content whenever it is made."""
    archive.writestr(entry(name), content)


def archived(entries: Iterable[Entry], seal: Callable[[str], str]) -> Iterator[bytes]:
    """Yield an archive of entries, then their manifest (SHA-256, two spaces, name) and what ``seal`` says of the digest
    of that manifest, in hexadecimal."""
    pipe, said = Pipe(), list[str]()
    with piped(pipe) as archive:
        for name, content in entries:
            put(archive, name, content)
            said.append(f"{hashlib.sha256(content).hexdigest()}  {name}\n")
            yield pipe.taken()
        manifest = "".join(said)
        put(archive, MANIFEST, manifest)
        put(archive, ROOT, seal(hashlib.sha256(manifest.encode()).hexdigest()))
    yield pipe.taken()
