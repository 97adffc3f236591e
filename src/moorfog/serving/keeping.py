"""Backups that nobody has to think of: one a night, old ones cleared away, and what is stored checked."""

from __future__ import annotations

import json
import logging
import os
import threading
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import asdict, dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

from moorfog.platform.db.base import make_engine
from moorfog.rooms.proof.verify import verify
from moorfog.serving.backup import BackupFailed, back_up, backups_of
from moorfog.serving.database import PrivateServer

NIGHT_HOUR = 2
DAYS, MONTHS = 14, 12
"""How many backups are kept: of the last days, and the first of each of the last months."""
LATE = timedelta(hours=36)
STATE = "state.json"
PATTERN = "night-*.moorfog"
log = logging.getLogger("moorfog.backups")


@dataclass(frozen=True)
class BackupState:
    """How the backups of an installation stand: the last good one (empty: none yet), its file, what went wrong since
    (empty: nothing), and how many stored things were not what was stored when it was checked (-1: not checked)."""

    last_good: str = ""
    file: str = ""
    problem: str = ""
    faults: int = -1


def read_backups(folder: Path) -> BackupState:
    """Return how backups stand, as the one who makes them wrote it down."""
    try:
        return BackupState(**json.loads((folder / STATE).read_text()))
    except (OSError, ValueError, TypeError):
        return BackupState()


def write_backups(folder: Path, state: BackupState) -> None:
    """Write down how backups stand, all of it or nothing."""
    folder.mkdir(parents=True, exist_ok=True)
    fresh = folder / f".{STATE}.{os.getpid()}"
    fresh.write_text(json.dumps(asdict(state)))
    fresh.replace(folder / STATE)


def is_late(state: BackupState, now: datetime) -> bool:
    """Tell whether the last good backup is missing, or older than it should be."""
    return not state.last_good or now - datetime.fromisoformat(state.last_good) > LATE


def is_due(state: BackupState, now: datetime) -> bool:
    """Tell whether a backup is to be made: none yet, or none since this machine's last night."""
    if not state.last_good:
        return True
    night = now.replace(hour=NIGHT_HOUR, minute=0, second=0, microsecond=0)
    if now < night:
        night -= timedelta(days=1)
    return datetime.fromisoformat(state.last_good) < night


def to_clear(names: Sequence[str]) -> list[str]:
    """Return which nightly backups go: all but those of the last days and the first of each of the last months."""
    newest_first = sorted(names, reverse=True)
    firsts: dict[str, str] = {}
    for name in sorted(names):
        firsts.setdefault(name[len("night-") : len("night-") + 7], name)
    kept = {*newest_first[:DAYS], *(firsts[month] for month in sorted(firsts, reverse=True)[:MONTHS])}
    return [name for name in names if name not in kept]


def keep_once(home: Path, now: datetime) -> BackupState:
    """Make a backup if one is due, clear old ones away and check what is stored; return how backups stand now."""
    folder = backups_of(home)
    state = read_backups(folder)
    if not is_due(state, now):
        return state
    server = PrivateServer(home / "db")
    server.port = int((server.home / "port").read_text())
    file = folder / f"night-{now:%Y-%m-%d-%H%M%S}.moorfog"
    try:
        back_up(server, home, file)
    except BackupFailed as error:
        log.error("no backup: %s", error)
        state = BackupState(state.last_good, state.file, str(error), state.faults)
    else:
        log.info("backup %s", file.name)
        for name in to_clear([one.name for one in folder.glob(PATTERN)]):
            (folder / name).unlink(missing_ok=True)
        state = BackupState(now.isoformat(), file.name, "", _faults(server, home))
    with suppress(OSError):
        write_backups(folder, state)
    return state


def _faults(server: PrivateServer, home: Path) -> int:
    engine = make_engine(server.url)
    try:
        found = verify(engine, keys=home / "keys")
    finally:
        engine.dispose()
    for one in found[:20]:
        log.error("not what was stored: %s: %s: %s", one.kind, one.where, one.problem)
    return len(found)


def keep(home: Path, stopping: threading.Event) -> None:
    """Make backups until told to stop; one that fails is tried again a quarter of an hour later."""
    pause = 5.0
    while not stopping.wait(pause):
        pause = 60.0
        try:
            if keep_once(home, datetime.now(UTC).astimezone()).problem:
                pause = 900.0
        except Exception:  # a night without a backup must not be the last one that was tried
            log.exception("no backup")
            pause = 900.0
