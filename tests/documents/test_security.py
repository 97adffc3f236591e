"""What docs/security.md says of each table is so, and what it names is there."""

from __future__ import annotations

import re
from pathlib import Path

from moorfog.platform.db.base import Base
from moorfog.platform.log.facts import FACTS
from moorfog.platform.log.readmodels import TABLES
from moorfog.tables import ALL

SAID = Path(__file__).parents[2] / "docs" / "security.md"
assert ALL  # importing them has filled the metadata


def test_every_table_is_named_with_what_holds_it() -> None:
    rows = re.findall(r"^\| `(\w+)` \| (\w+(?: \w+)?) \|$", SAID.read_text(encoding="utf-8"), re.MULTILINE)
    said = dict(rows)
    assert len(rows) == len(said) and said.keys() == Base.metadata.tables.keys()
    ledgers = {one for one in said if one.startswith("ledger_")}
    assert {one for one, how in said.items() if how == "ledger"} == FACTS.keys() | ledgers
    assert {one.__tablename__ for one in TABLES} == {one for one, how in said.items() if how == "compared"}


def test_every_item_that_is_met_says_where_it_is_seen() -> None:
    rows = re.findall(
        r"^\| (\d+\.\d+\.\d+)\S* [^|]*\| (\S+) \|[^|]*\|([^|]*)\|$", SAID.read_text("utf-8"), re.MULTILINE
    )
    assert len(rows) > 60 and {how for _, how, _ in rows} == {"met", "part", "no", "–"}
    for item, how, seen in rows:
        files = re.findall(r"`([^`]+)`", seen)
        assert files or how in ("no", "–"), item
        assert all((SAID.parents[1] / one).is_file() for one in files), (item, files)
