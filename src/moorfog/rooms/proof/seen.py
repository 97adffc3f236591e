"""Visits that were looked at in full and held: while every byte of them stands as it did, none is judged again.

The database works out the digests of a visit's rows, which costs a fraction of judging them; the seal over them is
made with a key that does not lie in the database. What was seen counts only for the very rows that were seen, by the
very program that saw them: all else is looked at in full, so a wrong row here costs time and hides nothing.
"""

from __future__ import annotations

import hashlib
from collections import defaultdict
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import suppress
from functools import cache
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, Table, select, text
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

from moorfog.core.kernel.canonical import digest_of_json
from moorfog.platform.db.base import run_in_transaction
from moorfog.platform.log.ledger import seal_of
from moorfog.platform.log.readmodels import TABLES
from moorfog.platform.log.tables import EventRow, EventWords, VisitHead
from moorfog.rooms.bench.tables import ReadingChunk, SignatureRow
from moorfog.rooms.papers.tables import DocumentRow
from moorfog.rooms.people.tables import Erased
from moorfog.rooms.proof.tables import VisitSeen
from moorfog.same import is_same

OF_A_VISIT: tuple[tuple[type[Any], str], ...] = (
    (VisitHead, "id"),
    *((table, "visit_id") for table in (EventRow, SignatureRow, DocumentRow, EventWords)),
    *((table, "visit_id") for table in TABLES),
)
"""The tables of which rows belong to a visit, with the column that names it; readings belong to its runs."""
LONGEST = 1 << 30
"""Bytes that the digests of one visit's rows of one table may have; beyond them there is no answer."""
Digests = dict[str, dict[str, tuple[int, str]]]


@cache
def program() -> str:
    """Return the digest of the program as it is: what another one saw counts for nothing."""
    own, said = Path(__file__).parents[2], hashlib.sha256()
    for file in sorted(one for one in own.rglob("*") if one.is_file() and one.suffix != ".pyc"):
        content = file.read_bytes()
        said.update(f"{file.relative_to(own)} {len(content)}\n".encode())
        said.update(content)
    return said.hexdigest()


def digests_of(db: Session, ids: Collection[str], runs: Collection[str]) -> tuple[Digests, dict[str, tuple[int, str]]]:
    """Return how many rows there are and their digest: by visit and table, and by run."""
    db.execute(text(f"SET SESSION group_concat_max_len = {LONGEST}"))
    by_visit: Digests = defaultdict(dict)
    for table, key in OF_A_VISIT:
        for visit, count, digest in _asked(db, table, key, ids):
            by_visit[visit][table.__tablename__] = (count, digest)
    return by_visit, {run: (count, digest) for run, count, digest in _asked(db, ReadingChunk, "run_id", runs)}


def _asked(db: Session, table: type[Any], key: str, ids: Collection[str]) -> Iterator[tuple[str, int, str]]:
    if not ids:
        return
    asked = text(_question(table.__table__, key, len(ids)))
    rows = db.execute(asked, {f"id{n}": one for n, one in enumerate(ids)})
    for found, count, digest in rows:
        yield str(found), int(count), str(digest or "")


@cache
def _question(table: Table, key: str, most: int) -> str:
    """Write the statement that works out the digests: every column of every row, each with its length before it."""
    columns = [
        f"IF(`{one.name}` IS NULL, '-', CONCAT(LENGTH(`{one.name}`), ':', `{one.name}`))" for one in table.columns
    ]
    order = ", ".join(f"`{one.name}`" for one in table.primary_key)
    return (
        f"SELECT `{key}`, COUNT(*), SHA2(GROUP_CONCAT(SHA2(CONCAT({', '.join(columns)}), 256) ORDER BY {order}), 256) "
        f"FROM `{table.name}` WHERE `{key}` IN ({', '.join(f':id{n}' for n in range(most))}) GROUP BY `{key}`"
    )


def _told(visit: str, runs: Sequence[str], there: Digests, read: Mapping[str, tuple[int, str]]) -> str:
    """Return the digest of all that stands of a visit; empty where a part of it could not be worked out."""
    tables = there.get(visit, {})
    readings = {run: read[run] for run in runs if run in read}
    if any(digest == "" for _, digest in (*tables.values(), *readings.values())):
        return ""
    return digest_of_json(
        {"visit": visit, "program": program(), "tables": tables, "runs": list(runs), "read": readings}
    )


def _with_erased(db: Session, ids: Collection[str]) -> set[str]:
    """Return the visits of which something was emptied: those are always looked at."""
    erased = select(Erased.row_id)
    out = set(db.scalars(select(VisitHead.id).where(VisitHead.id.in_(ids), VisitHead.id.in_(erased))))
    for table in (SignatureRow, DocumentRow):
        out |= set(db.scalars(select(table.visit_id).where(table.visit_id.in_(ids), table.id.in_(erased))))
    return out


def seen_before(db: Session, key: bytes, ids: Sequence[str], rules: Collection[str]) -> set[str]:
    """Return which of these visits stand as they stood when they were looked at in full and held.

    ``rules``: the digests of the sets of rules that hold today. ``db`` is to read as at one moment.
    """
    kept = {row.visit_id: row for row in db.scalars(select(VisitSeen).where(VisitSeen.visit_id.in_(ids)))}
    known = set(db.scalars(select(VisitHead.id).where(VisitHead.id.in_(kept), VisitHead.rules_digest.in_(rules))))
    asked = sorted(known - _with_erased(db, known))
    there, read = digests_of(db, asked, [run for one in asked for run in kept[one].runs])
    out = set()
    for visit in asked:
        told = _told(visit, kept[visit].runs, there, read)
        if told and is_same(kept[visit].seal, seal_of(key, told)):
            out.add(visit)
    return out


def seals_for(db: Session, key: bytes, runs: Mapping[str, Sequence[str]]) -> list[dict[str, Any]]:
    """Return what is to be kept of visits that have just been looked at and hold, in the transaction of that look.

    ``runs``: of each visit the runs whose readings were held to their seals. Visits of which something was emptied are
    left out.
    """
    emptied = _with_erased(db, runs)
    there, read = digests_of(db, list(runs), [run for mine in runs.values() for run in mine])
    out = []
    for visit, mine in runs.items():
        told = "" if visit in emptied else _told(visit, sorted(mine), there, read)
        if told:
            out.append({"visit_id": visit, "runs": sorted(mine), "seal": seal_of(key, told)})
    return out


def keep_seen(engine: Engine, rows: Sequence[Mapping[str, Any]]) -> None:
    """Keep what was seen, in place of what was kept of the same visits before; a database that does not take it has the
    next check look again, and this one goes on."""
    if not rows:
        return
    made = insert(VisitSeen).values(list(rows))
    kept = made.on_duplicate_key_update(runs=made.inserted.runs, seal=made.inserted.seal)
    with suppress(DBAPIError):
        run_in_transaction(engine, lambda db: db.execute(kept))
