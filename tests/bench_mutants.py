"""Changes the core a little in every place and sees whether a test notices: ./moorfog bench mutants [ROOM…] [COUNT].

cosmic-ray says which changes there are; a change that no test notices is printed with its place, unless
``mutants_known.toml`` says why nobody could notice it. A count has so many of each room tried, drawn by a printed seed.
"""

from __future__ import annotations

import ast
import json
import os
import random
import secrets
import subprocess
import sys
import tempfile
import tomllib
from collections.abc import Iterator, Sequence
from dataclasses import asdict
from pathlib import Path

from cosmic_ray.commands.init import _all_work_items

from tests.mutants_tried import MISSED, ROOT, SAME, Change

CORE = Path("src/moorfog/core")
KNOWN = ROOT / "tests/mutants_known.toml"
ROOMS = ("permission", "rules", "transitions", "measuring", "advice", "qualitative")
"""Rooms of the core that are changed."""
TESTS = ("tests/core", "tests/independent")
"""Whose tests must notice: all that go through a changed line, the quick ones first."""
TELLING = {
    "Eq": ("NotEq",),
    "NotEq": ("Eq",),
    "Is": ("IsNot",),
    "IsNot": ("Is",),
    "Lt": ("LtE", "GtE"),
    "LtE": ("Lt", "Gt"),
    "Gt": ("GtE", "LtE"),
    "GtE": ("Gt", "Lt"),
    "Add": ("Sub",),
    "Sub": ("Add",),
    "Mul": ("Div",),
    "Div": ("Mul",),
    "FloorDiv": ("Mul",),
    "Mod": ("Mul",),
    "Pow": ("Mul",),
    "BitOr": ("BitAnd",),
    "BitAnd": ("BitOr",),
}
"""Of a sign that is put in another's place: its opposite and, of an order, its bound. Whoever notices these mostly
notices the others, which have words compared by their order and lists multiplied. Common practice."""
ENOUGH = 0.95


def changes_of(module: str) -> list[Change]:
    """Return every change of a module that something could notice."""
    places = annotated((ROOT / module).read_text())
    found = list[Change]()
    for item in _all_work_items([ROOT / module], {}):
        for one in item.mutations:
            if (
                _is_telling(one.operator_name)
                and one.start_pos not in places
                and not _is_flag(module, one.start_pos[0])
            ):
                place = one.definition_name or "the module"
                found.append(Change(module, one.operator_name, one.occurrence, one.start_pos[0], place))
    return found


def _is_telling(operator: str) -> bool:
    kind, _, signs = operator.partition("_")
    true, _, other = signs.partition("_")
    return not kind.endswith(("BinaryOperator", "ComparisonOperator")) or other in TELLING.get(true, ())


def _is_flag(module: str, line: int) -> bool:
    """True for how a dataclass is made: that it is frozen is for mypy to hold."""
    return (ROOT / module).read_text().splitlines()[line - 1].startswith("@dataclass(")


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


def written(change: Change) -> str:
    """Return the line that a change stands on, as it is written."""
    return (ROOT / change.module).read_text().splitlines()[change.line - 1].strip()


def is_known(change: Change) -> bool:
    """Return whether the list says why nobody can notice it: by the line as it is written, and the kind of change."""
    kind = change.operator.removeprefix("core/")
    for one in tomllib.loads(KNOWN.read_text())["known"]:
        if one["module"] in ("*", change.module.removeprefix(f"{CORE}/")) and one["line"] == written(change):
            return kind in one["changes"]
    return False


def tried(wanted: Sequence[Change], reached: Path) -> Iterator[tuple[Change, int]]:
    """Try changes, and yield each with what its process ended with; ``reached`` keeps what each test goes through."""
    with tempfile.TemporaryDirectory(prefix="mutants") as folder:
        asked, made = Path(folder) / "wanted.json", Path(folder) / "made.jsonl"
        asked.write_text(json.dumps([asdict(one) for one in wanted]))
        env = {**os.environ, "MUTANTS_WANTED": str(asked), "MUTANTS_MADE": str(made)}
        env = {"MUTANTS_REACHED": str(reached), **env, "PYTHONPATH": f"{ROOT / 'src'}:{ROOT}"}
        words = [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "-p", "tests.mutants_tried"]
        words += [str(ROOT / one) for one in TESTS]
        made.touch()
        log = (Path(folder) / "log").open("w")
        with subprocess.Popen(words, cwd=ROOT, env=env, stdout=log) as run, made.open() as reading:
            while run.poll() is None or reading.readable():
                line = reading.readline()
                if line:
                    said = json.loads(line)
                    outcome = said.pop("outcome")
                    yield Change(**said), outcome
                elif run.poll() is not None:
                    break
                else:
                    try:
                        run.wait(0.5)
                    except subprocess.TimeoutExpired:
                        continue


def bench_mutants(wanted: Sequence[str]) -> int:
    """Print what every change of these rooms, or modules of them, came to, or as many as a number among the words says;
    returns 1 where fewer than 95 of 100 were noticed in one of them, or where one is neither noticed nor known."""
    is_wrong, rooms = False, [name for name in wanted if not name.isdigit()]
    count = next((int(word) for word in wanted if word.isdigit()), None)
    drawing = secrets.randbits(32)
    if count is not None:
        print(f"{count} changes of each, drawn by seed {drawing}", flush=True)
    with tempfile.TemporaryDirectory(prefix="mutants") as folder:
        for name in rooms or ROOMS:
            paths = [ROOT / CORE / f"{name}.py"] if "/" in name else sorted((ROOT / CORE / name).glob("*.py"))
            asked = [one for path in paths for one in changes_of(str(path.relative_to(ROOT)))]
            if count is not None and count < len(asked):
                asked = random.Random(drawing).sample(asked, count)
            made, known, left = _of_a_room(asked, Path(folder) / "reached.json")
            noticed = (made - known - left) / made if made else 0.0
            print(f"{name}: {made} changes, {noticed:.1%} noticed, {known} known, {left} neither", flush=True)
            is_wrong = is_wrong or left > 0 or noticed < ENOUGH
    return int(is_wrong)


def _of_a_room(asked: Sequence[Change], reached: Path) -> tuple[int, int, int]:
    count = known = left = 0
    for at, (change, outcome) in enumerate(tried(asked, reached), start=1):
        count += outcome != SAME
        if outcome == MISSED and is_known(change):
            known += 1
        elif outcome == MISSED:
            left += 1
            print(f"  {change.module}:{change.line} in {change.place}: {change.operator} #{change.occurrence}")
            print(f"      {written(change)}", flush=True)
        if at % 100 == 0:
            print(f"  … {at} of {len(asked)}", flush=True)
    return count, known, left
