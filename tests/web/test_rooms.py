"""The rooms of the front end: what imports what, no circle, and how much comes before anything is shown."""

from __future__ import annotations

import gzip
import re
from graphlib import CycleError, TopologicalSorter
from pathlib import Path

from moorfog.bootstrap import ensure_web

WEB = Path(__file__).parents[2] / "web/src"
LAYERS = ("shared", "design", "rooms/common", "rooms", "app")
"""Each knows only those before it, and no room knows another one."""
FIRST_LOAD_KB = 180


def imports() -> dict[str, set[str]]:
    """Every module of ours, without its ending, with those it imports, lazily or not."""
    out = {}
    for path in [*WEB.rglob("*.ts"), *WEB.rglob("*.tsx")]:
        name = path.relative_to(WEB).with_suffix("").as_posix()
        out[name] = set(re.findall(r'(?:from |import\(|import )"@/([^"]+)"', path.read_text("utf-8")))
    return out


def layer(module: str) -> int:
    """Where a module stands among the layers; what starts the program stands above them."""
    found = [n for n, one in enumerate(LAYERS) if module.startswith(f"{one}/")]
    return found[0] if found else len(LAYERS)


def room(module: str) -> str:
    return "/".join(module.split("/")[:2])


def upward(graph: dict[str, set[str]]) -> list[str]:
    """Imports that go up, or from one room into another."""
    out = []
    for module, known in graph.items():
        for other in known:
            is_beside = layer(module) == layer(other) == LAYERS.index("rooms") and room(module) != room(other)
            if layer(other) > layer(module) or is_beside:
                out.append(f"{module} → {other}")
    return out


def circle(graph: dict[str, set[str]]) -> list[str]:
    try:
        list(TopologicalSorter(graph).static_order())
    except CycleError as error:
        return list(error.args[1])
    return []


def test_no_arrow_goes_up_and_none_in_a_circle() -> None:
    graph = imports()
    assert len(graph) > 50 and upward(graph) == [] and circle(graph) == []


def test_a_wrong_arrow_is_seen() -> None:
    graph = {"design/Key": {"rooms/bench/card"}, "rooms/bench/card": {"design/Key", "rooms/kit/KitPage"}}
    assert len(upward(graph)) == 2 and circle(graph)


def test_styles_of_every_component_are_shipped_and_no_others_of_it() -> None:
    """Every component of Mantine that is used and has styles is in our list: one missing would stand there bare."""
    listed = (WEB / "app/mantine.css").read_text()
    styles = Path(WEB.parent / "node_modules/@mantine/core/styles")
    used: set[str] = set()
    for path in WEB.rglob("*.tsx"):
        for names in re.findall(r'import \{([^}]+)\} from "@mantine/core"', path.read_text("utf-8")):
            used |= {one.strip().removeprefix("type ") for one in names.split(",")}
    lacking = [one for one in used if (styles / f"{one}.css").exists() and f"styles/{one}.css" not in listed]
    assert used and lacking == []


def first_load_kb() -> float:
    """What a browser fetches before it shows anything, zipped: the scripts and styles that the page itself names."""
    dist = ensure_web()
    entry = (dist / "index.html").read_text()
    wanted = [one for one in (dist / "assets").iterdir() if one.name in entry]
    return sum(len(gzip.compress(one.read_bytes(), 9)) for one in wanted) / 1024


def test_the_first_load_is_light() -> None:
    assert 20 < first_load_kb() <= FIRST_LOAD_KB


def roots(sheet: Path) -> dict[str, str]:
    """The first class of every selector of a stylesheet, with the whole selector."""
    text = re.sub(r"/\*.*?\*/", "", sheet.read_text("utf-8"), flags=re.S)
    selectors = [one.strip() for block in re.findall(r"([^{}]+)\{", text) for one in block.split(",")]
    return {one: (re.match(r"\.([\w-]+)", one) or ["", ""])[1] for one in selectors}


def test_the_styles_of_a_component_reach_no_other() -> None:
    """Each stands beside its component and begins with a class of it: what modules with made-up names would give."""
    owner: dict[str, str] = {}
    for sheet in sorted((WEB / "design").glob("*.css")):
        if sheet.stem == "base":
            continue
        drawn = sheet.with_suffix(".tsx").read_text("utf-8")
        assert f'import "./{sheet.name}";' in drawn, sheet.name
        for selector, root in roots(sheet).items():
            assert root and re.search(rf'["` ]{root}["` $]', drawn), f"{sheet.name}: {selector}"
            assert owner.setdefault(root, sheet.name) == sheet.name, f"{root} has two sheets"
    assert len(owner) > 10
