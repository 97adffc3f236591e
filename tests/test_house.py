"""Rules of the house that hold for the whole program: how values are made, and what is entered where."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from pathlib import Path

from moorfog import routes, tables
from moorfog.platform.web.routing import ROUTES

SOURCES = Path(__file__).parents[1] / "src/moorfog"
MOST = 4
"""Values given by their place; more of them are given by name, as nobody reads the ninth place right."""


def is_record(node: ast.ClassDef) -> bool:
    """True for a dataclass or a named tuple."""
    marks = {ast.unparse(one).split("(")[0].split(".")[-1] for one in [*node.decorator_list, *node.bases]}
    return bool(marks & {"dataclass", "NamedTuple"})


def records(trees: dict[str, ast.Module]) -> set[str]:
    """Names of the records in these modules."""
    every = (node for tree in trees.values() for node in tree.body if isinstance(node, ast.ClassDef))
    return {node.name for node in every if is_record(node)}


def by_place(tree: ast.Module, known: set[str]) -> Iterator[str]:
    """Calls that make one of the known records out of more values by place than one can tell apart."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Call) and not any(isinstance(one, ast.Starred) for one in node.args):
            name = ast.unparse(node.func).split(".")[-1]
            if name in known and len(node.args) > MOST:
                yield f"line {node.lineno}: {name}"


def test_more_than_four_values_are_given_by_name() -> None:
    trees = {one.relative_to(SOURCES).as_posix(): ast.parse(one.read_text()) for one in SOURCES.rglob("*.py")}
    known = records(trees)
    assert {"Reason", "TryView", "RunStarted"} <= known
    assert [f"{name}, {one}" for name, tree in trees.items() for one in by_place(tree, known)] == []


def test_one_that_is_not_is_seen() -> None:
    text = "@dataclass(frozen=True)\nclass Row:\n    a: int\n\nRow(1, 2, 3, 4)\nRow(1, 2, 3, 4, 5)\n"
    tree = ast.parse(text)
    assert list(by_place(tree, records({"a": tree}))) == ["line 6: Row"]


def test_every_route_and_every_table_of_a_room_is_entered() -> None:
    """A module of either that nobody imports would be a page that is gone, or rows that no check looks at."""
    entered = {str(module.__file__) for module in (*routes.ALL, *tables.ALL)}
    written = {
        str(one)
        for one in SOURCES.rglob("*.py")
        if any(line.startswith(("@route(", "    __tablename__ =")) for line in one.read_text().splitlines())
    }
    assert len(written) > 40 and written <= entered


def test_routes_are_documented_by_the_room_they_lie_in() -> None:
    groups = {one.group for one in ROUTES}
    folders = {one.name for one in (SOURCES / "rooms").iterdir()} | {"serving", "jobs"}
    assert {"people", "wear", "bench", "crews"} <= groups <= folders
