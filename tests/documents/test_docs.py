"""What the documents point at is there."""

from __future__ import annotations

import re
from pathlib import Path

ROOT = Path(__file__).parents[2]
PLACES = (ROOT, ROOT / "src/moorfog", ROOT / "web/src")
PAGES = [*ROOT.glob("*.md"), *(ROOT / "docs").rglob("*.md")]


def test_every_link_leads_somewhere() -> None:
    links = [
        (page, link)
        for page in PAGES
        for link in re.findall(r"\]\(([^)#\s]+)[^)]*\)", page.read_text("utf-8"))
        if not link.startswith(("http", "mailto"))
    ]
    assert len(links) > 40
    assert [f"{page.name}: {link}" for page, link in links if not (page.parent / link).exists()] == []


def test_every_search_finds_its_place_in_two_hops() -> None:
    lines = (ROOT / "docs/searches.md").read_text("utf-8").splitlines()
    rows = [[cell.strip() for cell in one.split("|")[1:-1]] for one in lines if one.startswith("| ")][1:]
    assert len(rows) == 12
    for question, first, place, name in rows:
        (file, *words), (wanted,), (symbol,) = (re.findall(r"`([^`]+)`", one) for one in (first, place, name))
        for path, text in ((file, words[0] if words else ""), (wanted, symbol)):
            found = next((base / path for base in PLACES if (base / path).exists()), None)
            assert found is not None and text in found.read_text("utf-8"), f"{question} {path} {text}"
