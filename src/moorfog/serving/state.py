"""How the parts of an installation fare, written by the one that watches them and read by the screens."""

from __future__ import annotations

import json
import os
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from pathlib import Path

FILE = "parts.json"
PLACE = "MOORFOG_PARTS"
"""Names the folder of the file to the web processes."""


@dataclass(frozen=True)
class PartState:
    """One part: whether it runs, how often it was started again, and how it ended last."""

    name: str
    is_running: bool
    restarts: int
    last_end: str


def write_state(folder: Path, parts: Sequence[PartState]) -> None:
    """Write how the parts fare, all of it or nothing. Raises OSError."""
    folder.mkdir(parents=True, exist_ok=True)
    content = {"at": datetime.now(UTC).isoformat(timespec="milliseconds"), "parts": [asdict(one) for one in parts]}
    fresh = folder / f".{FILE}.{os.getpid()}"
    fresh.write_text(json.dumps(content))
    fresh.replace(folder / FILE)


def read_state(folder: Path) -> tuple[str, tuple[PartState, ...]]:
    """Return when how the parts fare was written, and how they fare; nothing where nobody has written it."""
    try:
        content = json.loads((folder / FILE).read_text())
        return str(content["at"]), tuple(PartState(**one) for one in content["parts"])
    except (OSError, ValueError, KeyError, TypeError):
        return "", ()
