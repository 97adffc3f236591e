"""Changes the core a little in every place and sees whether a fast test notices: ./moorfog bench mutants [ROOM…].

cosmic-ray makes the changes, in a copy of the tree; a change that no test notices is printed with its place.
"""

from __future__ import annotations

import ast
import json
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from cosmic_ray.work_db import WorkDB, use_db
from cosmic_ray.work_item import WorkerOutcome, WorkResult

ROOT = Path(__file__).parents[1]
CORE = Path("src/moorfog/core")
ALWAYS = ("tests/core/test_may_wear.py", "tests/core/test_believed.py")
ROOMS: dict[str, tuple[str, ...]] = {
    "permission": (
        "tests/core/test_may_wear.py",
        "tests/core/test_from_before.py",
        "tests/core/test_standing.py",
        "tests/independent/test_people.py",
    ),
    "rules": ("tests/core/test_overlay.py", "tests/core/test_rules.py", "tests/core/test_kinds.py", *ALWAYS),
    "transitions": ("tests/core/test_admit.py", "tests/core/test_visit.py", "tests/core/test_found.py"),
    "measuring": (
        "tests/core/test_measure.py",
        "tests/core/test_photometer.py",
        "tests/core/test_negative_pressure.py",
        "tests/core/test_readings.py",
        "tests/core/test_columns.py",
        *ALWAYS,
    ),
    "advice": ("tests/core/test_protection.py", "tests/core/test_methods.py", "tests/core/test_sizing.py", *ALWAYS),
    "qualitative": ("tests/core/test_qualitative.py",),
}
"""Rooms of the core, and the fast tests that must notice a change in them."""
SAME = {"Eq_Is", "NotEq_IsNot"}
"""Changes that say nothing: words and small numbers that are equal are mostly the very same object."""
LONGEST_S = 120.0


@dataclass(frozen=True)
class Survivor:
    """A change that no test noticed: where, and what was changed."""

    place: str
    change: str


def _config(folder: Path, module: str, tests: Sequence[str]) -> Path:
    command = f"{sys.executable} -m pytest -x -q -p no:cacheprovider -p no:randomly {' '.join(tests)}"
    text = "\n".join(
        (
            "[cosmic-ray]",
            f"module-path = {json.dumps(module)}",
            f"timeout = {LONGEST_S}",
            "excluded-modules = []",
            f"test-command = {json.dumps(command)}",
            "[cosmic-ray.distributor]",
            'name = "local"',
        )
    )
    path = folder / "mutants.toml"
    path.write_text(text)
    return path


def _in(folder: Path, *words: str) -> str:
    tool = Path(sys.executable).parent / "cosmic-ray"
    env = {**os.environ, "PYTHONPATH": f"{folder / 'src'}:{folder}", "MOORFOG_ROOT": str(folder), "MUTANTS": "1"}
    done = subprocess.run([tool, *words], cwd=folder, env=env, capture_output=True, text=True, check=True)
    return done.stdout


def survivors(module: str, tests: Sequence[str]) -> tuple[int, list[Survivor]]:
    """Return how many changes of a module were tried, and those that no test noticed."""
    with tempfile.TemporaryDirectory(prefix="mutants") as made:
        folder = Path(made)
        for name in ("src", "tests"):
            shutil.copytree(ROOT / name, folder / name, ignore=shutil.ignore_patterns("__pycache__"))
        for name in ("pyproject.toml",):
            shutil.copy(ROOT / name, folder / name)
        config, session = _config(folder, module, tests), folder / "session.sqlite"
        _in(folder, "init", str(config), str(session))
        _leave_annotations(session, ROOT / module)
        _in(folder, "exec", str(config), str(session))
        found = list(_results(_in(folder, "dump", str(session))))
    return len(found), [one for one, is_caught in found if not is_caught]


def annotated(source: str) -> set[tuple[int, int]]:
    """Return every line and column of a sign in an annotation: none is worked out, so none can matter."""
    found: set[tuple[int, int]] = set()
    for node in ast.walk(ast.parse(source)):
        stated = [getattr(node, "annotation", None), getattr(node, "returns", None)]
        for one in filter(None, stated):
            for part in ast.walk(one):
                if isinstance(part, ast.BinOp):  # where the sign between its sides may stand
                    end, start = part.left.end_col_offset or 0, part.right.col_offset
                    found |= {(part.lineno, column) for column in range(end, start)}
    return found


def _leave_annotations(session: Path, module: Path) -> None:
    places = annotated(module.read_text())
    with use_db(str(session), WorkDB.Mode.open) as work:
        for item in list(work.work_items):
            signs = {one.operator_name.split("_", 1)[-1] for one in item.mutations}
            if signs <= SAME or all(one.start_pos in places for one in item.mutations):
                work.set_result(item.job_id, WorkResult(WorkerOutcome.SKIPPED))


def _results(dump: str) -> Iterator[tuple[Survivor, bool]]:
    for row in dump.splitlines():
        work, result = json.loads(row)
        if result is not None and result["worker_outcome"] == "skipped":
            continue
        for one in work["mutations"]:
            line = one["start_pos"][0]
            place = f"{one['module_path']}:{line} in {one.get('definition_name') or 'the module'}"
            is_caught = result is not None and result["test_outcome"] != "survived"
            yield Survivor(place, f"{one['operator_name'].removeprefix('core/')} #{one['occurrence']}"), is_caught


def bench_mutants(wanted: Sequence[str]) -> int:
    """Print what every change of these rooms, or modules of them, came to; returns 1 where fewer than 95 of 100 were
    noticed."""
    modules: list[tuple[str, tuple[str, ...]]] = []
    for name in wanted or sorted(ROOMS):
        room = name.split("/")[0]
        paths = sorted((ROOT / CORE / room).glob("*.py")) if "/" not in name else [ROOT / CORE / f"{name}.py"]
        modules += [(str(one.relative_to(ROOT)), ROOMS[room]) for one in paths if one.stat().st_size > 400]
    tried, left = 0, list[Survivor]()
    for module, tests in modules:
        count, found = survivors(module, tests)
        tried, left = tried + count, left + found
        print(f"  {module}: {count} changes, {count - len(found)} noticed", flush=True)
        for one in found:
            print(f"    not noticed: {one.place}: {one.change}", flush=True)
    share = 1 - len(left) / tried if tried else 0.0
    print(f"mutants: {tried} changes, {share:.1%} noticed")
    return int(share < 0.95)
