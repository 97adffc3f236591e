"""Looking at visits in full, beside looking at visits that stand as they stood when they were looked at in full.

The visits of the second look are copies in the database itself, each row of a real one under another visit's id. As
visits they would not hold, so they are sealed without being judged; to be read and digested they are as good as real.
"""

from __future__ import annotations

import os
import time
from typing import Any

from sqlalchemy import Engine, select, text
from sqlalchemy.orm import Session

from moorfog.core.rules.book import Rules
from moorfog.demo.seed import enter_facepieces
from moorfog.platform.db.base import make_engine, run_in_transaction
from moorfog.platform.log.ledger import seal_key
from moorfog.platform.log.tables import VisitHead
from moorfog.rooms.proof.seen import OF_A_VISIT, keep_seen, seals_for
from moorfog.rooms.proof.tables import VisitSeen
from moorfog.rooms.proof.verify import Extent, verify
from moorfog.secret_files import key_folder
from tests.bench_large import LARGE
from tests.rooms.house import House
from tests.rooms.proof.test_verify import measured
from tests.template import own_server

NOTHING = "00000000-0000-0000-0000-000000000000"
"""The place before all visits: ledgers and anchors are not looked at."""
OF_A_RUN = ("reading_chunk", "run_id")
REAL, SEALED_AT_ONCE = 4, 500
"""Visits that are walked, half of them counted, half with typed numbers; and copies that are sealed together."""


def copied(uid: str) -> str:
    """SQL of another id made of an id and of the number of the copy."""
    return f"CAST(INSERT(CAST({uid} AS CHAR), 1, 8, LPAD(HEX(c.no), 8, '0')) AS UUID)"


def copy(db: Session, visits: int) -> None:
    """Copy all rows of all visits until there are so many visits more, and their readings with them."""
    there = len(db.scalars(select(VisitHead.id)).all())
    copies = f"WITH RECURSIVE c AS (SELECT 1 AS no UNION ALL SELECT no + 1 FROM c WHERE no < {visits // there})"
    db.execute(text(f"SET max_recursive_iterations = {visits}"))
    db.execute(text("SET foreign_key_checks = 0, unique_checks = 0"))
    for table, key in (*((one.__tablename__, key) for one, key in OF_A_VISIT), OF_A_RUN):
        columns = [row[0] for row in db.execute(text(f"SHOW COLUMNS FROM {table}")) if row[5] != "auto_increment"]
        own = {key} | ({"id"} if table in ("event", "signature", "document") else set())
        shown = ", ".join(copied(f"t.`{one}`") if one in own else f"t.`{one}`" for one in columns)
        names = ", ".join(f"`{one}`" for one in columns)
        db.execute(text(f"INSERT INTO {table} ({names}) {copies} SELECT {shown} FROM {table} t CROSS JOIN c"))
        db.commit()


def seal(engine: Engine, runs_of: dict[str, list[str]]) -> None:
    """Keep every copy as seen. The end of its id says of which visit it is one."""
    ends = {visit[8:]: runs for visit, runs in runs_of.items()}
    with Session(engine) as db:
        ids = list(db.scalars(select(VisitHead.id)))
    for first in range(0, len(ids), SEALED_AT_ONCE):
        some = ids[first : first + SEALED_AT_ONCE]
        with Session(engine) as db:
            whose = {one: [run if one in runs_of else one[:8] + run[8:] for run in ends[one[8:]]] for one in some}
            rows = seals_for(db, seal_key(), whose)
        keep_seen(engine, rows)


def took(engine: Engine, **extent: Any) -> float:
    """Seconds of a look at all visits, which hold."""
    began = time.perf_counter()
    found = verify(engine, keys=key_folder(), extent=Extent(after=NOTHING, **extent))
    assert not found, found[:3]
    return time.perf_counter() - began


def bench_verify(rules: Rules, visits: int) -> None:
    """Print what a look at a visit costs in full and where it was seen before, and the ratio of the two."""
    with own_server(LARGE) as server:
        engine = make_engine(server.url)
        run_in_transaction(engine, enter_facepieces)
        house = House(engine, rules)
        tester = house.client()
        for _ in range(REAL // 2):
            tester.post(f"/api/visits/{measured(house, tester)}/reports", {"page_size": "A4"})
            tester.whole_visit(house.ours.people[1])
        took(engine)  # from here on all are seen
        full = (took(engine, anew=True) - took(engine)) * 1000 / REAL
        with Session(engine) as db:
            runs = {row.visit_id: row.runs for row in db.scalars(select(VisitSeen))}
        with Session(make_engine(server.schema_url)) as db:
            copy(db, visits)
        seal(engine, runs)
        cores = os.cpu_count() or 1
        alone, together = took(engine), took(engine, processes=cores)
        seen = alone * 1000 / visits
        print(f"   a visit looked at in full: {full:.1f} ms; seen before: {seen:.2f} ms, a {full / seen:.0f}th of it")
        print(f"   {visits} visits seen before: {alone:.0f} s; {cores} at once: {together:.0f} s")
