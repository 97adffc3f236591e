"""The glossary names what is there."""

from __future__ import annotations

import re
from pathlib import Path

ROOT = Path(__file__).parents[2]


def test_every_name_of_the_glossary_is_in_the_code() -> None:
    rows = [
        one.split("|") for one in (ROOT / "docs/glossary.md").read_text("utf-8").splitlines() if one.startswith("| ")
    ]
    names = [re.findall(r"`(\w+)`", row[4])[0] for row in rows[1:]]
    code = "\n".join(path.read_text("utf-8") for path in (ROOT / "src/moorfog").rglob("*.py"))
    words = set(re.findall(r"\w+", code))
    assert len(names) > 40 and [one for one in names if one not in words] == []
    terms = [row[1].strip() for row in rows[1:]]
    assert terms == sorted(terms, key=str.lower), "in the order of the alphabet"
