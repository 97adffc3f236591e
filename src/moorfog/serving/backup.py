"""Backups: one file with all there is, made while the program runs, and laid into an empty home again.

The file begins with a line of JSON that says what it is. After it come frames, each with its length before it: pieces
of a compressed archive with the database's dump and the installation's keys. The last frame is empty. With a
passphrase every frame is sealed (AES-256-GCM, key by scrypt, the frame's number and the first line as what is bound
with it), so that a frame that was changed, moved or left out is noticed; without one the digest of all that went
before stands at the end, which notices an accident and no more.
"""

from __future__ import annotations

import gzip
import hashlib
import io
import json
import os
import secrets
import shutil
import struct
import subprocess
import tarfile
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import IO, Any

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.kdf.scrypt import Scrypt
from sqlalchemy import make_url

from moorfog import __version__
from moorfog.secret_files import write_secret
from moorfog.serving.database import DATABASE, PrivateServer
from moorfog.store.base import make_engine
from moorfog.store.migrate import Schema, migrate, revision_of, schema_of
from moorfog.store.readmodels import rebuild_foreign

FORMAT, VERSION = "moorfog-backup", 1
FRAME = 1 << 20
HEADER_MOST = 4096
SCRYPT = {"n": 1 << 15, "r": 8, "p": 1}
DUMP, KEYS = "database.sql", "keys"


class BackupFailed(RuntimeError):
    """A backup could not be made, or a file is none that can be laid back. Says why and what to do."""


@dataclass(frozen=True)
class Header:
    """The first line of a backup."""

    made_at: str
    program: str
    revision: str
    salt: str
    """Of the passphrase's key, in hexadecimal; empty where the file is not sealed."""

    def line(self) -> bytes:
        """Return it as it stands in the file."""
        said = {"format": FORMAT, "version": VERSION, **self.__dict__}
        return json.dumps(said, sort_keys=True).encode() + b"\n"


def backups_of(home: Path) -> Path:
    """Return where the backups of a home are kept that it makes itself."""
    return Path(os.environ.get("MOORFOG_BACKUPS") or home / "backups")


def _key(passphrase: str, salt: str) -> AESGCM:
    return AESGCM(Scrypt(salt=bytes.fromhex(salt), length=32, **SCRYPT).derive(passphrase.encode()))


class _Frames(io.RawIOBase):
    """Takes bytes in and writes them as frames."""

    def __init__(self, out: IO[bytes], header: Header, passphrase: str) -> None:
        self.out, self.held, self.no = out, bytearray(), 0
        self.first = header.line()
        self.seal = _key(passphrase, header.salt) if header.salt else None
        self.digest = hashlib.sha256(self.first)
        out.write(self.first)

    def writable(self) -> bool:
        return True

    def write(self, data: Any) -> int:
        """Take bytes in; whole frames go out."""
        self.held += data
        while len(self.held) >= FRAME:
            self._frame(bytes(self.held[:FRAME]))
            del self.held[:FRAME]
        return len(data)

    def _frame(self, plain: bytes) -> None:
        body = plain
        if self.seal is not None:
            body = self.seal.encrypt(self.no.to_bytes(12, "big"), plain, self.first)
        whole = struct.pack(">I", len(body)) + body
        self.digest.update(whole)
        self.out.write(whole)
        self.no += 1

    def end(self) -> None:
        """Write what is left, the empty frame, and the digest of all of it."""
        if self.held:
            self._frame(bytes(self.held))
        self._frame(b"")
        self.out.write(self.digest.digest())


def read_header(file: IO[bytes]) -> Header:
    """Read the first line of a backup. Raises :class:`BackupFailed` for anything else."""
    line = file.readline(HEADER_MOST)
    try:
        said = json.loads(line)
        if said.pop("format") != FORMAT or said.pop("version") != VERSION:
            raise ValueError(said)
        return Header(**said)
    except (ValueError, KeyError, TypeError, AttributeError):
        raise BackupFailed("this file is no backup of Moorfog, or one of a newer program") from None


def frames(file: IO[bytes], header: Header, passphrase: str) -> Iterator[bytes]:
    """Yield the pieces of a backup after its first line. Raises :class:`BackupFailed` where it is not whole."""
    first = header.line()
    if header.salt and not passphrase:
        raise BackupFailed("this backup is sealed; give its passphrase")
    seal = _key(passphrase, header.salt) if header.salt else None
    digest, no = hashlib.sha256(first), 0
    cut = BackupFailed("this backup was cut off or changed: not all of it is here. Take another one")
    while True:
        length = file.read(4)
        if len(length) < 4:
            raise cut
        (size,) = struct.unpack(">I", length)
        if size > FRAME + 64:
            raise cut
        body = file.read(size)
        if len(body) < size:
            raise cut
        digest.update(length + body)
        plain = body
        if seal is not None:
            try:
                plain = seal.decrypt(no.to_bytes(12, "big"), body, first)
            except InvalidTag:
                wrong = "the passphrase is wrong, or this backup was changed" if no == 0 else str(cut)
                raise BackupFailed(wrong) from None
        if not plain:
            break
        yield plain
        no += 1
    if file.read(33) != digest.digest():
        raise cut


class _Pieces(io.RawIOBase):
    """Frames as a file to read from."""

    def __init__(self, pieces: Iterator[bytes]) -> None:
        self.pieces, self.held = pieces, b""

    def readable(self) -> bool:
        return True

    def readinto(self, into: Any) -> int:
        """Give bytes out; none at the end."""
        while not self.held:
            try:
                self.held = next(self.pieces)
            except StopIteration:
                return 0
        count = min(len(into), len(self.held))
        into[:count], self.held = self.held[:count], self.held[count:]
        return count


def check_file(path: Path, passphrase: str = "") -> Header:
    """Read a backup to its end. Raises :class:`BackupFailed` where it is not whole, or no backup."""
    with path.open("rb") as file:
        header = read_header(file)
        for _ in frames(file, header, passphrase):
            pass
    return header


def back_up(server: PrivateServer, home: Path, to: Path, passphrase: str = "") -> Header:
    """Write a backup of a home's running database and its keys; the file is there whole, or not at all.

    Raises :class:`BackupFailed`.
    """
    return dump_to(server.schema_url, home / KEYS, to, passphrase)


def dump_to(url: str, keys: Path, to: Path, passphrase: str = "") -> Header:
    """Write a backup of a database, by an account that may read all of it, and of a folder of keys."""
    if to.exists():
        raise BackupFailed(f"{to} is there already; a backup is never written over another")
    engine = make_engine(url)
    try:
        revision = revision_of(engine)
    finally:
        engine.dispose()
    salt = secrets.token_hex(16) if passphrase else ""
    header = Header(datetime.now(UTC).isoformat(timespec="seconds"), __version__, revision, salt)
    part = to.with_name(to.name + ".part")
    try:
        to.parent.mkdir(parents=True, exist_ok=True)
        part.unlink(missing_ok=True)
        with os.fdopen(os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as out:
            sealed = _Frames(out, header, passphrase)
            with tarfile.open(fileobj=sealed, mode="w|") as archive:
                if keys.is_dir():
                    archive.add(keys, KEYS)
                _dump_into(archive, url, keys.parent if keys.parent.is_dir() else Path(tempfile.gettempdir()))
            sealed.end()
            out.flush()
            os.fsync(out.fileno())
        check_file(part, passphrase)
        part.rename(to)
    except OSError as error:
        raise BackupFailed(f"{to} could not be written: {error.strerror or error}; nothing was changed") from error
    finally:
        part.unlink(missing_ok=True)
    return header


def _dump_into(archive: tarfile.TarFile, url: str, beside: Path) -> None:
    """Dump a database, compressed, through a file of this machine: an archive asks for a length first, and what is
    sealed may go to a disk that is carried about."""
    one = make_url(url)
    command = ["mariadb-dump", "--no-defaults", f"--host={one.host}", f"--port={one.port or 3306}"]
    command += [f"--user={one.username}", "--single-transaction", "--skip-lock-tables", "--hex-blob", "--triggers"]
    command += ["--default-character-set=utf8mb4", str(one.database)]
    scratch = beside / f".{DUMP}.{os.getpid()}"
    try:
        scratch.touch(mode=0o600)
        with gzip.open(scratch, "wb", compresslevel=5) as packed:
            child = subprocess.Popen(
                command,
                stdout=subprocess.PIPE,
                stderr=subprocess.PIPE,
                env={**os.environ, "MYSQL_PWD": str(one.password or "")},
            )
            assert child.stdout is not None and child.stderr is not None
            shutil.copyfileobj(child.stdout, packed, FRAME)
            problem = child.stderr.read().decode(errors="replace")
            if child.wait() != 0:
                raise BackupFailed(f"the database could not be read: {problem.strip()[-300:]}")
        archive.add(scratch, DUMP + ".gz")
    finally:
        scratch.unlink(missing_ok=True)


def restore(path: Path, home: Path, server: PrivateServer, passphrase: str = "") -> Header:
    """Lay a backup into an empty home, with the database started and stopped again by the caller.

    The file is read to its end first: one that is cut, changed or foreign touches nothing. Raises
    :class:`BackupFailed`.
    """
    with path.open("rb") as file:
        header = read_header(file)
        with tarfile.open(
            fileobj=io.BufferedReader(_Pieces(frames(file, header, passphrase)), FRAME), mode="r|"
        ) as archive:
            for one in archive:
                if one.isfile() and one.name == DUMP + ".gz":
                    content = archive.extractfile(one)
                    assert content is not None
                    _load(server, content)
                elif one.isfile() and one.name.startswith(f"{KEYS}/") and "/" not in one.name.removeprefix(f"{KEYS}/"):
                    content = archive.extractfile(one)
                    assert content is not None
                    write_secret(home / KEYS / Path(one.name).name, content.read())
    schema = make_engine(server.schema_url)
    try:
        found = schema_of(schema)
        if found is Schema.NEWER:
            raise BackupFailed("this backup was made by a newer Moorfog; lay it back with that one")
        if found is Schema.EMPTY:
            raise BackupFailed("this backup holds no data")
        if found is Schema.OLDER:
            migrate(server.schema_url)
        server.let_work()
        rebuild_foreign(schema)
    finally:
        schema.dispose()
    return header


def _load(server: PrivateServer, packed: IO[bytes]) -> None:
    child = subprocess.Popen(
        [*server.client_command(), "--default-character-set=utf8mb4", DATABASE],
        stdin=subprocess.PIPE,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
    )
    assert child.stdin is not None and child.stderr is not None
    try:
        with gzip.open(packed, "rb") as plain:
            shutil.copyfileobj(plain, child.stdin, FRAME)
        child.stdin.close()
    except BrokenPipeError:
        pass
    problem = child.stderr.read().decode(errors="replace")
    if child.wait() != 0:
        raise BackupFailed(f"the database did not take the backup: {problem.strip()[-300:]}")
