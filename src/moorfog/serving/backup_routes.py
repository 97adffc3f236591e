"""How the backups stand."""

from __future__ import annotations

import os
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from moorfog.platform.web.routing import Context, route
from moorfog.recovery import RECIPIENT
from moorfog.secret_files import key_folder
from moorfog.serving.keeping import is_late, read_backups


@dataclass(frozen=True)
class BackupsView:
    """How the backups stand. ``made_here``: whether this installation makes them by itself; the rest is empty then.

    ``faults``: how many stored things were not what was stored when it was last checked; -1 where it was not."""

    made_here: bool
    folder: str
    last_good: str
    file: str
    is_late: bool
    problem: str
    faults: int
    has_recovery_key: bool
    may_make_key: bool


def backups_folder() -> Path:
    """Return where the backups are kept, by what the program was started with."""
    home = os.environ.get("MOORFOG_HOME", "")
    return Path(os.environ.get("MOORFOG_BACKUPS") or (Path(home) / "backups" if home else ""))


@route("GET", "/api/backups", "manage", returns=BackupsView)
def get_backups(context: Context) -> BackupsView:
    """How the backups stand."""
    home, folder = os.environ.get("MOORFOG_HOME", ""), backups_folder()
    state = read_backups(folder)
    now: datetime = context.clock.now(context.db)
    made_here = bool(home) and folder.is_dir()
    return BackupsView(
        made_here=made_here,
        folder=str(folder) if made_here else "",
        last_good=state.last_good,
        file=state.file,
        is_late=made_here and is_late(state, now),
        problem=state.problem,
        faults=state.faults,
        has_recovery_key=(key_folder() / RECIPIENT).exists(),
        may_make_key=context.actor.keeps_all(),
    )
