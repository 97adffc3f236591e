"""The core's rooms: what may be imported there, and that nothing reads a clock, a file, a socket or chance."""

from __future__ import annotations

import ast
from importlib.resources import files
from pathlib import Path

import pytest

import moorfog.core

CORE = Path(str(files(moorfog.core)))
MODULES = sorted(CORE.rglob("*.py"))
ALLOWED = frozenset(
    (
        *("__future__", "abc", "bisect", "collections", "dataclasses", "datetime", "decimal", "enum", "fractions"),
        *(
            "functools",
            "hashlib",
            "heapq",
            "itertools",
            "json",
            "math",
            "operator",
            "re",
            "reprlib",
            "statistics",
            "string",
        ),
        *("types", "typing", "difflib", "unicodedata", "zoneinfo", "numpy", "scipy", "orjson"),
    )
)
CALLS = frozenset({"open", "input", "print", "exec", "eval", "compile", "__import__"})
CLOCKS = frozenset({"now", "utcnow", "today", "fromtimestamp"})


def offences(source: str) -> list[str]:
    """What a module of the core does that it may not, a line each."""
    out = []
    for node in ast.walk(ast.parse(source)):
        names: list[str] = []
        if isinstance(node, ast.Import):
            names = [one.name for one in node.names]
        elif isinstance(node, ast.ImportFrom):
            names = [node.module or ""]
        for name in names:
            if name.split(".")[0] not in ALLOWED and not name.startswith("moorfog.core"):
                out.append(f"line {node.lineno}: imports {name}")  # type: ignore[attr-defined]
        if not isinstance(node, ast.Call):
            continue
        called = node.func
        if isinstance(called, ast.Name) and called.id in CALLS:
            out.append(f"line {node.lineno}: calls {called.id}")
        if isinstance(called, ast.Attribute):
            if called.attr in CLOCKS:
                out.append(f"line {node.lineno}: asks a clock, {called.attr}")
            of_chance = ast.unparse(called.value) in ("np.random", "numpy.random")
            if of_chance and (called.attr != "default_rng" or not (node.args or node.keywords)):
                out.append(f"line {node.lineno}: chance without a seed")
    return out


@pytest.mark.parametrize("path", MODULES, ids=lambda one: str(one.relative_to(CORE)))
def test_nothing_in_the_core_reads_a_clock_a_file_a_socket_or_chance(path: Path) -> None:
    assert offences(path.read_text("utf-8")) == []


@pytest.mark.parametrize(
    "planted",
    [
        "from datetime import datetime\nat = datetime.now()",
        "import datetime\nat = datetime.date.today()",
        "open('rules.toml')",
        "import urllib.request",
        "from urllib import request",
        "import subprocess",
        "import random",
        "import os",
        "import numpy as np\nnp.random.default_rng()",
        "import numpy as np\nnp.random.normal()",
        "from moorfog.platform.log import log",
    ],
)
def test_what_may_not_be_there_is_found(planted: str) -> None:
    assert offences(planted)


def test_every_room_says_what_lives_in_it() -> None:
    rooms = [one for one in CORE.iterdir() if one.is_dir() and one.name != "__pycache__"]
    assert len(rooms) == 12 and {one.name for one in CORE.glob("*.py")} == {"__init__.py"}
    for room in rooms:
        words = ast.get_docstring(ast.parse((room / "__init__.py").read_text("utf-8"))) or ""
        assert len(words.split()) > 25, room.name
