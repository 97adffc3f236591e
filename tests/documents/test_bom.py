"""The bill of materials names what is installed and what the page is built from, by digest."""

from __future__ import annotations

import json
import re
from importlib import metadata

from moorfog.bom import DEBIAN
from moorfog.bootstrap import root

BILL = json.loads((root() / "docs" / "sbom.json").read_text())
PARTS = {one["purl"]: one for one in BILL["components"]}


def needed(name: str, seen: set[str]) -> set[str]:
    """A package and all it needs here, by what the installed packages say of themselves."""
    key = re.sub(r"[-_.]+", "-", name).lower()
    if key in seen:
        return seen
    try:
        wanted = metadata.requires(key) or []
    except metadata.PackageNotFoundError:
        return seen  # not on this kind of machine
    seen.add(key)
    for one in wanted:
        if "extra ==" not in one:
            needed(re.split(r"[ ;<>=!~\[(]", one, maxsplit=1)[0], seen)
    return seen


def test_every_package_that_the_program_needs_is_in_it_with_its_version() -> None:
    project = (root() / "pyproject.toml").read_text().split("dependencies = [")[1].split("]")[0]
    names: set[str] = set()
    for one in re.findall(r'"([A-Za-z0-9_-]+)', project):
        needed(one, names)
    assert len(names) > 25
    lacking = {f"pkg:pypi/{one}@{metadata.version(one)}" for one in names} - set(PARTS)
    assert not lacking


def test_what_the_page_is_built_from_is_in_it_and_what_only_builds_it_is_not() -> None:
    package = json.loads((root() / "web" / "package.json").read_text())
    names = {one["name"] for one in BILL["components"]}
    assert set(package["dependencies"]) <= names
    assert not {"vite", "typescript", "eslint"} & names


def test_every_package_of_a_registry_has_a_digest() -> None:
    assert [purl for purl, one in PARTS.items() if "hashes" not in one] == [f"pkg:deb/debian/{one}" for one in DEBIAN]
