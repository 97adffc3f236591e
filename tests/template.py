"""A data directory with the schema in it, made once for a whole run of tests and copied for each database server."""

from __future__ import annotations

import fcntl
import os
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from moorfog.platform.db.migrate import migrate
from moorfog.serving.database import FAST_FLAGS, PrivateServer

PLACE = "MOORFOG_TEST_TEMPLATE"
"""Names the folder of the template to the workers of one run."""
ACCOUNT_PASSWORD = "only-for-tests-and-known-to-all"


def prepare() -> None:
    """Choose a folder for this run's template; the first server that is needed fills it."""
    place = Path(tempfile.mkdtemp(prefix="mft"))
    place.chmod(0o755)
    os.environ[PLACE] = str(place)


def forget() -> None:
    """Throw the template away."""
    shutil.rmtree(os.environ.pop(PLACE, ""), ignore_errors=True)


@contextmanager
def own_server(flags: tuple[str, ...] = FAST_FLAGS) -> Iterator[PrivateServer]:
    """A running, migrated server in a folder of its own, thrown away afterwards."""
    home = Path(tempfile.mkdtemp(prefix="mf"))
    home.chmod(0o755)
    try:
        one = running_server(home / "db", flags)
        try:
            yield one
        finally:
            one.stop()
    finally:
        shutil.rmtree(home, ignore_errors=True)


@contextmanager
def empty_server(home: Path) -> Iterator[PrivateServer]:
    """A running server in ``home`` with its accounts and no schema, as a restore has it."""
    server = PrivateServer(home / "db", flags=FAST_FLAGS)
    try:
        server.install()
        server.start()
        server.ensure_accounts()
        yield server
    finally:
        server.stop()


def running_server(home: Path, flags: tuple[str, ...], **env: str) -> PrivateServer:
    """Return a running, migrated server in ``home``; out of the template where there is one."""
    server = PrivateServer(home, flags=flags, env=env)
    place = os.environ.get(PLACE)
    try:
        if place is None:
            _make(server)
            return server
        with (Path(place) / "lock").open("w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            if not (Path(place) / "made").exists():
                first = PrivateServer(Path(place) / "db", flags=FAST_FLAGS)
                try:
                    _make(first)
                finally:
                    first.stop()
                (Path(place) / "made").touch()
        subprocess.run(["cp", "-a", "--reflink=auto", f"{place}/db", str(home)], check=True)
        server.start()
        return server
    except BaseException:
        server.stop()
        raise


def _make(server: PrivateServer) -> None:
    server.install()
    server.start()
    server.ensure_accounts(ACCOUNT_PASSWORD, ACCOUNT_PASSWORD)
    migrate(server.schema_url)
    server.let_work()
