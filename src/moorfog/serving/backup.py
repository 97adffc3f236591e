"""Backups: one file with all there is, made while the program runs, and laid into an empty home again.

Inside is an archive: what it is, the rows of the database, and the keys. With a recovery key it is sealed in the age
format, which notices whatever is changed, cut or made by somebody else. Without one it lies open, holds no keys, and
its digests notice an accident and no more.
"""

from __future__ import annotations

import gzip
import hashlib
import io
import json
import os
import re
import tarfile
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import IO

import pyrage
from sqlalchemy import Engine, select

from moorfog import __version__
from moorfog.platform.db.accounts import SCHEMA, WORK
from moorfog.platform.db.base import make_engine
from moorfog.platform.db.migrate import is_known, migrate, revision_of
from moorfog.platform.log.readmodels import rebuild_foreign
from moorfog.recovery import RECIPIENT, identity_of, recipient_of
from moorfog.rooms.accounts.tables import Account, Grant
from moorfog.secret_files import SecretFault, write_secret
from moorfog.serving.database import PrivateServer
from moorfog.serving.dump import DumpFailed, dump, load

FORMAT, VERSION = "moorfog-backup", 2
SEALED = b"age-encryption.org/v1\n"
BEFORE = b'{"format": "moorfog-backup"'
"""How a backup of the first format begins."""
ABOUT, ROWS, KEYS = "about.json", "rows.sql.gz", "keys"
A_KEY = re.compile(rf"{KEYS}/[A-Za-z0-9][A-Za-z0-9_.-]{{0,60}}")
ABOUT_MOST, KEY_MOST = 1 << 16, 1 << 16


class BackupFailed(RuntimeError):
    """A backup could not be made, or a file is none that can be laid back. Says why and what to do."""


@dataclass(frozen=True)
class About:
    """What a backup is: when it was made, by which program and of which schema; the digest of each file in it.

    ``is_sealed`` is seen when it is opened, not written.
    """

    made_at: str
    program: str
    revision: str
    files: dict[str, str] = field(default_factory=dict)
    is_sealed: bool = False


def backups_of(home: Path) -> Path:
    """Return where the backups of a home are kept that it makes itself."""
    return Path(os.environ.get("MOORFOG_BACKUPS") or home / "backups")


def back_up(server: PrivateServer, home: Path, to: Path) -> About:
    """Write a backup of a home's running database and its keys; the file is there whole, or not at all.

    Raises :class:`BackupFailed`.
    """
    return dump_to(server.schema_url, home / KEYS, to)


def dump_to(url: str, keys: Path, to: Path) -> About:
    """Write a backup of a database, by an account that may read all of it, and of a folder of keys."""
    if to.exists():
        raise BackupFailed(f"{to} is there already; a backup is never written over another")
    part = to.with_name(to.name + ".part")
    try:
        recipient = recipient_of(keys)
        to.parent.mkdir(parents=True, exist_ok=True)
        part.unlink(missing_ok=True)
        with tempfile.TemporaryDirectory(prefix=".backup", dir=keys.parent if keys.parent.is_dir() else None) as made:
            about, plain = _archive(url, keys if recipient is not None else None, Path(made))
            with plain.open("rb") as whole, os.fdopen(_fresh(part), "wb") as out:
                if recipient is not None:
                    pyrage.encrypt_io(whole, out, [recipient])
                else:
                    while piece := whole.read(1 << 20):
                        out.write(piece)
                out.flush()
                os.fsync(out.fileno())
        part.rename(to)
    except (SecretFault, DumpFailed) as error:
        raise BackupFailed(f"{to} was not written: {error}") from error
    except (OSError, pyrage.EncryptError) as error:
        words = getattr(error, "strerror", "") or error
        raise BackupFailed(f"{to} could not be written: {words}; nothing was changed") from error
    finally:
        part.unlink(missing_ok=True)
    return About(**{**asdict(about), "is_sealed": recipient is not None})


def _fresh(path: Path) -> int:
    return os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)


def _archive(url: str, keys: Path | None, folder: Path) -> tuple[About, Path]:
    """Write the archive into a folder of its own: what it is first, so that a reader knows it before all else."""
    engine = make_engine(url)
    try:
        revision = revision_of(engine)
    finally:
        engine.dispose()
    rows, plain = folder / ROWS, folder / "archive.tar"
    os.close(_fresh(rows))
    dump(url, rows)
    files = {ROWS: rows}
    if keys is not None and keys.is_dir():
        files |= {f"{KEYS}/{one.name}": one for one in sorted(keys.iterdir()) if _is_key(one.name) and one.is_file()}
    digests = {}
    for name, path in files.items():
        with path.open("rb") as content:
            digests[name] = hashlib.file_digest(content, "sha256").hexdigest()
    about = About(datetime.now(UTC).isoformat(timespec="seconds"), __version__, revision, digests)
    said = {"format": FORMAT, "version": VERSION, **asdict(about)}
    del said["is_sealed"]
    words = json.dumps(said, sort_keys=True).encode()
    with os.fdopen(_fresh(plain), "wb") as out, tarfile.open(fileobj=out, mode="w|") as archive:
        one = tarfile.TarInfo(ABOUT)
        one.size = len(words)
        archive.addfile(one, io.BytesIO(words))
        for name, path in files.items():
            archive.add(path, name, recursive=False)
    return about, plain


def _is_key(name: str) -> bool:
    return not name.startswith(".") and name != RECIPIENT


@contextmanager
def opened(path: Path, beside: Path, recovery: str = "") -> Iterator[tuple[About, dict[str, Path]]]:
    """Give what a backup is and its files, laid into a folder that goes away afterwards; all of them checked.

    ``beside``: a folder on a disk with room for it. Raises :class:`BackupFailed` for a file that is none, is cut,
    was changed, or is not opened by this recovery key.
    """
    with tempfile.TemporaryDirectory(prefix=".restore", dir=beside) as made, path.open("rb") as file:
        folder = Path(made)
        begins = file.read(len(BEFORE))
        file.seek(0)
        if begins == BEFORE:
            raise BackupFailed("this backup was made by an older program; lay it back with that one, then upgrade")
        is_sealed = begins.startswith(SEALED)
        plain: IO[bytes] = file
        try:
            if is_sealed:
                if not recovery:
                    raise BackupFailed("this backup is sealed; give its recovery key")
                with os.fdopen(_fresh(folder / "archive.tar"), "wb") as out:
                    _open_seal(file, out, recovery)
                plain = (folder / "archive.tar").open("rb")
            about, files = _unpacked(plain, folder)
        except (ValueError, tarfile.TarError, EOFError) as error:
            words = f"this file is no whole backup of Moorfog ({error}). Take another one"
            raise BackupFailed(words) from error
        finally:
            if plain is not file:
                plain.close()
        yield About(**{**asdict(about), "is_sealed": is_sealed}), files


def _open_seal(file: io.BufferedIOBase, out: io.BufferedIOBase, recovery: str) -> None:
    """Write what is sealed. Nothing of it counts before its end was read: only then is all of it known to be whole."""
    try:
        key = identity_of(recovery)
    except ValueError as error:
        raise BackupFailed(str(error)) from error
    try:
        pyrage.decrypt_io(file, out, [key])
    except (pyrage.DecryptError, OSError) as error:
        if getattr(error, "errno", None):
            raise
        words = "this recovery key does not open it, or the backup was cut off or changed. Take another one"
        raise BackupFailed(words) from error


def _unpacked(plain: IO[bytes], folder: Path) -> tuple[About, dict[str, Path]]:
    """Lay the files of an archive into a folder under names of our own, and hold them to what is said of them."""
    files: dict[str, Path] = {}
    with tarfile.open(fileobj=plain, mode="r|") as archive:
        first = archive.next()
        content = archive.extractfile(first) if first is not None and first.isfile() else None
        if first is None or content is None or first.name != ABOUT or first.size > ABOUT_MOST:
            raise ValueError("it does not begin with what it is")
        said = json.loads(content.read())
        if not isinstance(said, dict) or said.pop("format", "") != FORMAT:
            raise ValueError("it says that it is something else")
        if said.pop("version", 0) != VERSION:
            raise ValueError("it is of another format; a newer program may have made it")
        about = _about(said)
        while (one := archive.next()) is not None:
            wanted, content = about.files.get(one.name), archive.extractfile(one) if one.isfile() else None
            is_ours = one.name == ROWS or (A_KEY.fullmatch(one.name) is not None and one.size <= KEY_MOST)
            if wanted is None or content is None or one.name in files or not is_ours:
                raise ValueError("it holds what it does not say")
            digest, to = hashlib.sha256(), folder / f"file-{len(files)}"
            with os.fdopen(_fresh(to), "wb") as out:
                while piece := content.read(1 << 20):
                    digest.update(piece)
                    out.write(piece)
            if digest.hexdigest() != wanted:
                raise ValueError("a file in it was changed")
            files[one.name] = to
        if files.keys() != about.files.keys() or ROWS not in files:
            raise ValueError("not all of it is here")
    return about, files


def _about(said: dict[str, object]) -> About:
    files = said.pop("files", None)
    if not isinstance(files, dict) or not all(isinstance(each, str) for pair in files.items() for each in pair):
        raise ValueError("it does not say what is in it")
    return About(str(said.get("made_at", "")), str(said.get("program", "")), str(said.get("revision", "")), files)


def check_file(path: Path, beside: Path, recovery: str = "") -> About:
    """Read a backup to its end. Raises :class:`BackupFailed` where it is not whole, or no backup."""
    with opened(path, beside, recovery) as (about, _):
        return about


def restore(path: Path, home: Path, server: PrivateServer, recovery: str = "") -> About:
    """Lay a backup into an empty home, with the database started and stopped again by the caller.

    The file is read to its end first: one that is cut, changed or foreign touches nothing. Of its rows only literals
    for the tables of this program's own schema are taken. Raises :class:`BackupFailed`.
    """
    with opened(path, home, recovery) as (about, files):
        if not about.revision:
            raise BackupFailed("this backup holds no data")
        if not is_known(about.revision):
            raise BackupFailed("this backup was made by a newer Moorfog; lay it back with that one")
        for name, file in files.items():
            if name != ROWS:
                write_secret(home / KEYS / Path(name).name, file.read_bytes())
        schema = make_engine(server.schema_url)
        try:
            migrate(server.schema_url, about.revision)
            with gzip.open(files[ROWS], "rb") as rows:
                load(schema, rows)
            migrate(server.schema_url)
            server.let_work()
            rebuild_foreign(schema)
        except (DumpFailed, gzip.BadGzipFile, EOFError) as error:
            raise BackupFailed(f"the database did not take the backup: {error}") from error
        finally:
            schema.dispose()
    return about


def strange_accounts(server: PrivateServer) -> list[str]:
    """Return the accounts of a database server that are neither the machine's own nor the program's."""
    return sorted(set(server.accounts()) - {"mariadb.sys", "PUBLIC", WORK, SCHEMA, *server.machine_accounts()})


def keepers(engine: Engine) -> list[str]:
    """Return who administers the whole of an installation, by the name they sign in with."""
    whole = select(Grant.account_id).where(Grant.employer_id.is_(None), Grant.role == "administrator")
    with engine.connect() as connection:
        asked = select(Account.login).where(Account.id.in_(whole), Account.off_at.is_(None))
        return sorted(connection.scalars(asked))
