"""The command that checks what is stored: with progress, taken up again where it was broken off."""

from __future__ import annotations

import argparse
import json
import os
import sys
from collections.abc import Callable
from dataclasses import asdict
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from moorfog.bootstrap import root
from moorfog.secret_files import key_folder

KEPT = "verify.json"
"""In the home while a check goes on: how far it came, and what it has found."""
NOTHING, FAULTS, BROKEN_OFF = 0, 3, 130


def kept_at() -> Path:
    """Return the file that a check which was broken off is taken up again from."""
    home = os.environ.get("MOORFOG_HOME")
    return (Path(home) if home else root() / "var") / KEPT


def cmd_verify(given: argparse.Namespace, database_url: Callable[[], str]) -> int:
    """Check that what is stored is what was stored; say what is not, and end with 3."""
    from moorfog.platform.db.base import make_engine
    from moorfog.platform.log.fault import Fault
    from moorfog.rooms.proof.verify import Extent, verify

    url = database_url()
    kept, before, after = kept_at(), list[Fault](), ""
    began = datetime.now(UTC).isoformat(timespec="minutes")
    if given.resume:
        if not kept.exists():
            sys.exit("moorfog verify: no check was broken off here; leave --resume out")
        said: dict[str, Any] = json.loads(kept.read_text(encoding="utf-8"))
        began = said["began"]
        before, after = [Fault(**one) for one in said["found"]], said["after"]
        print(f"Going on with the check that began at {said['began']}; what it has seen is not looked at again.")
    printed = given.anchors.read_text().splitlines() if given.anchors else []

    def tell(done: int, total: int) -> None:
        print(f"\r{done} of {total} visits", end="", file=sys.stderr, flush=True)

    def tell_entries(no: int) -> None:
        print(f"\rentry {no} of a ledger", end="", file=sys.stderr, flush=True)

    def keep(visit: str, found: list[Fault]) -> None:
        if visit and not given.since_anchor:  # before that there is nothing to go on from
            fresh = kept.with_suffix(".new")
            fresh.parent.mkdir(parents=True, exist_ok=True)
            content = {"began": began, "after": visit, "found": [asdict(one) for one in (*before, *found)]}
            fresh.write_text(json.dumps(content), encoding="utf-8")
            fresh.replace(kept)

    processes = min(8, os.cpu_count() or 1)
    at_once = processes if processes > 1 and not given.since_anchor else 0
    extent = Extent(given.since_anchor, after, at_once, given.anew)
    try:
        found = verify(make_engine(url), tell, key_folder(), printed, extent, keep, tell_entries)
    except KeyboardInterrupt:
        print("\nBroken off. Go on with: ./moorfog verify --resume", file=sys.stderr)
        return BROKEN_OFF
    faults = [*before, *found]
    if not given.since_anchor:
        kept.unlink(missing_ok=True)
    print(file=sys.stderr)
    for one in faults:
        print(f"{one.kind}: {one.where}: {one.problem}")
    holds = "What was written since the last anchor holds." if given.since_anchor else "Everything holds."
    print(holds if not faults else f"{len(faults)} things are not what was stored. Restore a backup.")
    return FAULTS if faults else NOTHING


def add_verify(sub: Any, database_url: Callable[[], str]) -> None:
    """Add the command to a parser's commands."""
    check = sub.add_parser("verify", help="check that what is stored is what was stored")
    check.add_argument("--anchors", type=Path, metavar="FILE", help="anchors printed before: none may be gone")
    check.add_argument("--since-anchor", action="store_true", help="only what was written since the last anchor")
    check.add_argument("--anew", action="store_true", help="look in full at visits that were seen before, too")
    check.add_argument("--resume", action="store_true", help="go on with a check that was broken off")
    check.set_defaults(run=lambda given: cmd_verify(given, database_url))
