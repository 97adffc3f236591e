"""Judges records a second time and prints what differs: ./moorfog bench truth [FILE…]."""

from __future__ import annotations

import json
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

from moorfog.auditor.second import differences
from tests.core.all_ways import Way
from tests.independent.people import unlike
from tests.independent.records import EACH, WAYS, generated


def _of_way(way: Way) -> tuple[int, int, list[str]]:
    """How many records of a way were compared, how many hold a pass, and what differs."""
    count, passes, found = 0, 0, []
    for record in generated(way, EACH):
        count += 1
        passes += any(one["outcome"] == "pass" for one in record["verdict"]["tries"])
        found += [f"{record['visit_id']}: {one}" for one in differences(record)]
    return count, passes, found


def _of_file(path: str) -> tuple[int, int, list[str]]:
    record = json.loads(Path(path).read_text("utf-8"))
    is_pass = any(one["outcome"] == "pass" for one in record["verdict"]["tries"])
    return 1, int(is_pass), [f"{path}: {one}" for one in differences(record)]


def truth(files: Sequence[str]) -> list[str]:
    """Lines to print: how many records were compared, of ``files`` or two thousand generated ones and five thousand
    people, and what differs."""
    with ProcessPoolExecutor() as pool:
        results = list(pool.map(_of_file, files) if files else pool.map(_of_way, WAYS))
        people = [] if files else [one for part in pool.map(_of_people, range(0, PEOPLE, A_PART)) for one in part]
    found = [f"  {one}" for _, _, differs in results for one in differs] + [f"  {one}" for one in people]
    compared, passes = sum(one for one, _, _ in results), sum(one for _, one, _ in results)
    more = "" if files else f"{PEOPLE} people compared; "
    return [f"truth: {compared} records compared, {passes} with a pass; {more}differences: {len(found)}", *found]


PEOPLE, A_PART = 5000, 250


def _of_people(first: int) -> list[str]:
    return [
        f"somebody {seed}: {ours or 'no'}, and here {theirs or 'no'}" for seed, ours, theirs in unlike(A_PART, first)
    ]
