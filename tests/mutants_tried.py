"""A part of pytest that runs no test as it is: it changes the core in one place, and runs the tests that go there.

``python -m pytest -p tests.mutants_tried TESTS``, with ``MUTANTS_WANTED`` naming a file of changes and ``MUTANTS_MADE``
one to write to. The tests are collected once; every change then has a process of its own, split off from the one that
collected, in which the code of the changed function is put in the place of the true one.
"""

from __future__ import annotations

import functools
import gc
import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass
from itertools import accumulate
from pathlib import Path
from types import CodeType, FunctionType
from typing import Any, NoReturn

import cosmic_ray.plugins
import coverage
import pytest
from cosmic_ray.ast import get_ast
from cosmic_ray.mutating import MutationVisitor
from hypothesis import Phase, settings

from moorfog.data import shipped_rules

ROOT = Path(__file__).parents[1]
BESIDE = os.cpu_count() or 1
LONGEST_S = 900.0
QUICK_S = 0.1
WALKS = "test_walks.py"
"""What goes everywhere: after the quick tests, before those that look for an example."""
ENOUGH_S = (8.0, 60.0, 240.0)
"""How long the quick tests, the walks and the others of one change may take, by the time they took unchanged."""
OTHERS_S = 2.0
FIRST = 12
"""So many of the tests that noticed another change of the same function go before all others."""
NOTICED_BY = "noticed-by"
SLOW_S = 15.0
"""A test that takes longer, in seconds of the processor, is left out."""

NOTICED, MISSED, SAME, FRESH = 1, 0, 3, 4
"""What a process of a change ends with: a test failed, none did, the code is the same, it must be imported anew."""


@dataclass(frozen=True)
class Change:
    """One change: a module by its path, the operator and its how-manieth place, and the line it stands on."""

    module: str
    operator: str
    occurrence: int
    line: int
    place: str


@dataclass(frozen=True)
class Reached:
    """What one test takes unchanged, in seconds, and the lines of the core that it goes through."""

    seconds: float
    lines: dict[str, list[int]]


def pytest_configure() -> None:
    """Let the properties look for an example that fails, always the same ones, and not for the smallest of them."""
    phases = (Phase.explicit, Phase.generate)
    settings.register_profile("mutants", deadline=None, database=None, derandomize=True, phases=phases)
    settings.load_profile("mutants")


def pytest_runtestloop(session: pytest.Session) -> bool:
    """Try every wanted change in the place of running the tests."""
    wanted = [Change(**one) for one in json.loads(Path(os.environ["MUTANTS_WANTED"]).read_text())]
    files = {str(ROOT / "src/moorfog/core/*")}
    reached = _reached(session, files)
    with Path(os.environ["MUTANTS_MADE"]).open("a") as made, tempfile.TemporaryDirectory(prefix="mutants") as folder:
        trees = _trees(Path(folder))
        shipped_rules()  # what reads it is warm from then on; what was read is forgotten before each change
        gc.collect()
        gc.freeze()
        for change, outcome in _tried(session, wanted, reached, trees):
            made.write(json.dumps({**asdict(change), "outcome": outcome}) + "\n")
            made.flush()
    return True


def _reached(session: pytest.Session, files: set[str]) -> dict[str, Reached]:
    """Run every test once, unchanged, and return what each reached; ``MUTANTS_REACHED`` keeps it."""
    kept = Path(os.environ["MUTANTS_REACHED"])
    if not kept.exists():
        parts = [kept.with_suffix(f".{at}") for at in range(BESIDE)]
        for at, part in enumerate(parts):
            if os.fork() == 0:
                _quietly()
                part.write_text(json.dumps(_measured(session, session.items[at::BESIDE], files)))
                os._exit(0)
        for _ in parts:
            os.wait()
        kept.write_text(json.dumps({name: one for part in parts for name, one in json.loads(part.read_text()).items()}))
    return {name: Reached(**one) for name, one in json.loads(kept.read_text()).items()}


def _quietly() -> None:
    nothing = os.open(os.devnull, os.O_RDWR)
    os.dup2(nothing, 1)
    os.dup2(nothing, 2)


def _too_slow(*_: object) -> NoReturn:
    pytest.fail("slower than a change may take")


def _measured(session: pytest.Session, items: Sequence[pytest.Item], files: set[str]) -> dict[str, dict[str, Any]]:
    watch = coverage.Coverage(data_file=None, include=sorted(files), config_file=False)
    seconds = dict[str, float]()
    signal.signal(signal.SIGPROF, _too_slow)
    watch.start()
    for item, following in _in_turn(items):
        watch.switch_context(item.nodeid)
        begun, failed = time.process_time(), session.testsfailed
        signal.setitimer(signal.ITIMER_PROF, SLOW_S)
        try:
            item.config.hook.pytest_runtest_protocol(item=item, nextitem=following)
        except pytest.fail.Exception:  # it came between a test and what pytest does around it
            continue
        finally:
            signal.setitimer(signal.ITIMER_PROF, 0)
        if session.testsfailed == failed:
            seconds[item.nodeid] = time.process_time() - begun
    watch.stop()
    found: dict[str, dict[str, Any]] = {name: {"seconds": one, "lines": {}} for name, one in seconds.items()}
    data = watch.get_data()
    for name in data.measured_files():
        for line, tests in data.contexts_by_lineno(name).items():
            for test in tests:
                if test in found:
                    found[test]["lines"].setdefault(name, []).append(line)
    return found


def _in_turn(items: Sequence[pytest.Item]) -> Iterator[tuple[pytest.Item, pytest.Item | None]]:
    for at, item in enumerate(items):
        yield item, items[at + 1] if at + 1 < len(items) else None


@dataclass(frozen=True)
class Standing:
    """What stands in the process that collected: the core's functions, and what remembers answers of them."""

    functions: list[FunctionType]
    remembering: list[Any]
    rules: list[Any]

    def forget(self) -> None:
        """Let everything that may rest on the changed function be worked out again."""
        for one in self.remembering:
            one.cache_clear()
        for one in self.rules:
            for name in [each for each in vars(one) if each.startswith("_once_")]:
                del vars(one)[name]


def _standing() -> Standing:
    found = Standing([], [], [])
    for one in gc.get_objects():
        module = str(getattr(type(one), "__module__", ""))
        if isinstance(one, FunctionType) and one.__code__.co_filename.startswith(str(ROOT / "src")):
            found.functions.append(one)
        elif isinstance(one, functools._lru_cache_wrapper):
            if one.__module__.startswith("moorfog") and ".kernel." not in one.__module__:
                found.remembering.append(one)
        elif module.startswith("moorfog.core.rules") and hasattr(one, "__dict__"):
            found.rules.append(one)
    return found


def _tried(
    session: pytest.Session, wanted: Sequence[Change], reached: dict[str, Reached], trees: list[Path]
) -> Iterator[tuple[Change, int]]:
    """Try as many changes beside one another as there are processors, and yield how each ended."""
    running: dict[int, tuple[Change, float, Path]] = {}
    noticed_by: dict[tuple[str, str], Counter[str]] = defaultdict(Counter)
    waiting, standing = list(reversed(wanted)), _standing()
    sources = {one.module: (ROOT / one.module).read_text() for one in wanted}
    parsed = {module: get_ast(source) for module, source in sources.items()}
    while waiting or running:
        while waiting and len(running) < BESIDE:
            change, tree = waiting.pop(), trees.pop()
            (tree / NOTICED_BY).unlink(missing_ok=True)
            pid = os.fork()
            if pid == 0:
                _in_own_process(
                    session,
                    standing,
                    change,
                    _tests_of(session, change, reached, noticed_by[change.module, change.place]),
                    (sources[change.module], parsed[change.module], tree),
                )
            running[pid] = change, time.monotonic() + LONGEST_S, tree
        pid, status = os.waitpid(-1, os.WNOHANG)
        if pid in running:
            change, _, tree = running.pop(pid)
            if (tree / NOTICED_BY).exists():
                noticed_by[change.module, change.place][(tree / NOTICED_BY).read_text()] += 1
            trees.append(tree)
            yield change, os.waitstatus_to_exitcode(status)
        elif pid == 0:
            time.sleep(0.01)
            for late, (_, until, _) in running.items():
                if time.monotonic() > until:
                    os.killpg(late, signal.SIGKILL)


def _in_own_process(
    session: pytest.Session, standing: Standing, change: Change, tests: list[pytest.Item], on: tuple[str, Any, Path]
) -> NoReturn:
    os.setpgid(0, 0)
    _quietly()
    outcome = NOTICED
    before, tree, folder = on
    try:
        source = mutated(tree, change)
        outcome = _in_place(standing, ROOT / change.module, before, source)
        if outcome == FRESH:
            outcome = _anew(change, source, [one.nodeid for one in tests], folder)
        elif outcome == MISSED:
            standing.forget()
            outcome = _run(session, tests, folder / NOTICED_BY)
    finally:
        os._exit(outcome)


def mutated(tree: Any, change: Change) -> str:
    """Return the source of a module, as a tree of cosmic-ray's, with the change in it."""
    visitor = MutationVisitor(change.occurrence, cosmic_ray.plugins.get_operator(change.operator)())
    return str(visitor.walk(tree).get_code())


def _tests_of(
    session: pytest.Session, change: Change, reached: dict[str, Reached], noticed: Mapping[str, int]
) -> list[pytest.Item]:
    """Return the tests that go through the changed line, as many as there is time for: first those that noticed other
    changes of the same function, then the quick ones, then the walks.

    A line that runs at import, or whose answer is remembered from one test to the next, may be gone through by every
    test of its module: some of those follow.
    """
    name = str(ROOT / change.module)
    known = sorted(
        (one for one in session.items if one.nodeid in reached and reached[one.nodeid].lines.get(name)),
        key=lambda one: (-noticed.get(one.nodeid, 0), reached[one.nodeid].seconds),
    )
    there = [one for one in known if change.line in reached[one.nodeid].lines[name]]
    others = [one for one in known if one not in there]
    first = [one for one in there if noticed.get(one.nodeid)][:FIRST]
    rest = [one for one in there if one not in first]
    turns = [[one for one in rest if _turn(one, reached) == turn] for turn in range(len(ENOUGH_S))]
    taken = [one for some, most in zip(turns, ENOUGH_S, strict=True) for one in _within(some, reached, most)]
    return [*first, *taken, *_within(others, reached, OTHERS_S)]


def _turn(test: pytest.Item, reached: dict[str, Reached]) -> int:
    return 0 if reached[test.nodeid].seconds < QUICK_S else 1 if test.path.name == WALKS else 2


def _within(tests: Sequence[pytest.Item], reached: dict[str, Reached], seconds: float) -> list[pytest.Item]:
    ends = accumulate(reached[one.nodeid].seconds for one in tests)
    return [one for one, end in zip(tests, ends, strict=True) if end <= seconds]


def _codes(code: CodeType) -> Iterator[tuple[tuple[str, int], CodeType]]:
    yield (code.co_qualname, code.co_firstlineno), code
    for one in code.co_consts:
        if isinstance(one, CodeType):
            yield from _codes(one)


def _own(code: CodeType) -> tuple[Any, ...]:
    """Return what a piece of code does itself, without the functions that stand in it."""
    consts = tuple((type(one), one) for one in code.co_consts if not isinstance(one, CodeType))
    return code.co_code, code.co_names, code.co_varnames, consts, code.co_freevars, code.co_exceptiontable


def _in_place(standing: Standing, path: Path, was: str, source: str) -> int:
    """Put the changed functions in the place of the true ones; where that cannot be, say so."""
    before = dict(_codes(compile(was, str(path), "exec", dont_inherit=True)))
    after = dict(_codes(compile(source, str(path), "exec", dont_inherit=True)))
    if before.keys() != after.keys():
        return FRESH
    changed = {key for key in before if _own(before[key]) != _own(after[key])}
    if not changed:
        return SAME
    placed: set[tuple[str, int]] = set()
    for one in standing.functions:
        if one.__code__.co_filename == str(path):
            key = one.__code__.co_qualname, one.__code__.co_firstlineno
            if key in after and len(one.__code__.co_freevars) == len(after[key].co_freevars):
                one.__code__ = after[key]
                placed |= {inner for inner, _ in _codes(after[key])}
    return MISSED if changed <= placed else FRESH


def _run(session: pytest.Session, tests: Sequence[pytest.Item], say: Path) -> int:
    for item, following in _in_turn(tests):
        item.config.hook.pytest_runtest_protocol(item=item, nextitem=following)
        if session.testsfailed:
            say.write_text(item.nodeid)
            return NOTICED
    return MISSED


def _trees(folder: Path) -> list[Path]:
    for at in range(BESIDE):
        for name in ("src", "tests"):
            shutil.copytree(ROOT / name, folder / str(at) / name, ignore=shutil.ignore_patterns("__pycache__"))
        shutil.copy(ROOT / "pyproject.toml", folder / str(at))
        shutil.copytree(folder / str(at) / "src/moorfog/core", folder / str(at) / "core")
    return [folder / str(at) for at in range(BESIDE)]


def _anew(change: Change, source: str, tests: Sequence[str], folder: Path) -> int:
    """Run the tests in a new interpreter, on a copy of the tree that has the change in it."""
    shutil.copytree(folder / "core", folder / "src/moorfog/core", dirs_exist_ok=True)
    (folder / change.module).write_text(source)
    env = {**os.environ, "PYTHONPATH": f"{folder / 'src'}:{folder}", "PYTHONDONTWRITEBYTECODE": "1"}
    words = [sys.executable, "-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", *tests]
    return NOTICED if subprocess.run(words, cwd=folder, env=env, check=False).returncode else MISSED
