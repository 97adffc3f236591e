"""The second judge over records of every protocol: it finds no pass that should not be one, and the same numbers."""

from __future__ import annotations

import ast
import copy
import json
from typing import Any

import pytest

from moorfog.auditor.second import differences
from moorfog.core.record.record import make_record
from moorfog.platform.auditor_file import HERE, ORDER
from tests.core.all_ways import Way, at_the_start, run_well
from tests.independent.records import EACH, WAYS, generated


@pytest.mark.parametrize("way", WAYS, ids=str)
def test_both_judges_agree(way: Way) -> None:
    outcomes = set()
    for record in generated(way, EACH):
        assert differences(record) == [], record["visit_id"]
        outcomes |= {one["outcome"] for one in record["verdict"]["tries"]}
    assert "pass" in outcomes and len(outcomes) > 1, "good runs and bad ones were among them"


def test_passes_are_among_them_and_a_forged_one_is_found() -> None:
    bench = at_the_start(Way("us-29cfr1910-134", "taste-sweet"))
    run_well(bench, Way("us-29cfr1910-134", "taste-sweet"))
    bench.until("release")
    record = json.loads(json.dumps(make_record("v", bench.rules, bench.log, {})))
    assert record["verdict"]["tries"][0]["outcome"] == "pass" and differences(record) == []
    lacking = copy.deepcopy(record)
    lacking["events"] = [one for one in record["events"] if one["payload"].get("question") != "shave"]
    assert any("gate shave" in one for one in differences(lacking)) and "the chain breaks" in differences(lacking)


def test_it_tells_void_from_unfinished_and_counts_for_itself() -> None:
    way = Way("us-29cfr1910-134", "fast-count-elastomeric")
    found: dict[str, Any] = {}
    for record in generated(way, EACH):
        for one in record["verdict"]["tries"]:
            found.setdefault(one["outcome"], record)
    for outcome, other in (("void", "unfinished"), ("unfinished", "void"), ("fail", "void")):
        forged = copy.deepcopy(found[outcome])
        forged["verdict"]["tries"][-1]["outcome"] = other
        assert any(f"and here {outcome}" in one for one in differences(forged))
    forged = copy.deepcopy(found["pass"])
    told = forged["verdict"]["tries"][-1]
    told["bound"] = f"{float(told['bound']) * 1.001:.6g}"
    told["exercises"][0]["factor"] = "100"
    assert [one.split()[1] for one in differences(forged)] == ["exercises", "lower"]


OWN = (*ORDER, "__init__")
"""The modules of the second judge."""


def test_it_imports_nothing_of_the_program() -> None:
    for name in OWN:
        tree = ast.parse((HERE / f"{name}.py").read_text())
        names = {node.module or "" for node in ast.walk(tree) if isinstance(node, ast.ImportFrom)}
        names |= {one.name for node in ast.walk(tree) if isinstance(node, ast.Import) for one in node.names}
        own = {f"moorfog.auditor.{one}" for one in OWN}
        assert not any(one.startswith(("moorfog", "tests")) for one in names - own), name
