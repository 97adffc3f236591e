"""The second judge over records of every protocol: it finds no pass that should not be one, and the same numbers."""

from __future__ import annotations

import ast
import copy
import json
import random
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from moorfog.core import events as ev
from moorfog.core.readings import Chunk, chunk_of
from moorfog.core.record import make_record
from moorfog.core.simulation import wearer_factors
from tests.core.all_ways import Way, at_the_start, inserted, rules_of, run_well, seconds, ways
from tests.core.bench import Bench, Refused, simulate
from tests.independent.second import differences

WAYS = ways()
EACH = -(-2000 // len(WAYS))
"""Records of every way, two thousand in all; a fixed seed each, so that the same ones come every time."""


def generated(way: Way, count: int) -> Iterator[dict[str, Any]]:
    """Records of runs with seals good and bad, disturbed, answered this way and that, some heard of late."""
    begun = at_the_start(way)
    protocol = begun.rules.protocol(way.protocol)
    assert protocol is not None
    for number in range(count):
        dice = random.Random(f"{way}{number}")
        bench = copy.copy(begun)
        bench.log = list(begun.log)
        readings: dict[str, list[Chunk]] = {}
        if protocol.is_qualitative:
            bench.smell(skip=dice.choice([None, None, None, 2]))
        else:
            n = len(protocol.exercises())
            factors = wearer_factors(number, dice.choice([150, 600, 4000, 40_000]), dice.choice([None, 1]), n)
            rows = simulate(protocol, factors, number)
            bench.run(readings=rows, protocol_id=protocol.id)
            readings = {bench.visit.tries[-1].started.run_id: [chunk_of(0, rows)]}
        finish(bench, dice)
        log = tuple(bench.log)
        if dice.random() < 0.3:
            one = bench.visit.tries[-1]
            what = dice.choice([ev.Touched(True), ev.Touched(False), ev.Doffed("lifted"), ev.Stopped()])
            log = tuple(
                inserted(log, dice.randint(one.seq, len(log)), what, one.started_at + seconds(dice.uniform(6, 90)))
            )
        yield json.loads(json.dumps(make_record(f"{way}-{number}", rules_of(way.book), list(log), readings)))


def finish(bench: Bench, dice: random.Random) -> None:
    """Answer what is left, now and then not fine, and sign."""
    for _ in range(60):
        shown = bench.picture
        if shown.offers:
            bench.say(ev.Decided("end"))
            continue
        if not shown.queue or shown.closed:
            return
        card = shown.queue[0]
        try:
            if card.act:
                bench.do(card.act)
            else:
                bench.answer(card, "not_fine" if card.id.startswith("after") and dice.random() < 0.1 else "fine")
        except Refused:
            return


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


def test_it_imports_nothing_of_the_program() -> None:
    tree = ast.parse((Path(__file__).parent / "second.py").read_text())
    names = {node.module or "" for node in ast.walk(tree) if isinstance(node, ast.ImportFrom)}
    names |= {one.name for node in ast.walk(tree) if isinstance(node, ast.Import) for one in node.names}
    assert not any(one.startswith(("moorfog", "tests")) for one in names)
