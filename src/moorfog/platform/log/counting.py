"""Pass results: the units of a visit, and the counts that are kept with them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import Any

from sqlalchemy import Engine, select, text
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from moorfog.core.advice.methods import QUALITATIVE
from moorfog.core.kernel.days import day_in
from moorfog.platform.db.base import run_in_transaction
from moorfog.platform.log.summaries import ResultCount, ResultUnit

Key = tuple[str, str, str, str, str, str]
"""Place, method, period, model id, size, model."""
Figures = tuple[int, int, int, int]
"""The values of :data:`FIGURES`."""
FIGURES = ("tested", "passed", "passed_first", "sensed")
"""The figures of a count, by name."""
JUDGED = ("pass", "fail")


def units_of(tries: Iterable[Mapping[str, Any]], seqs: Mapping[int, int], zone: str, task: str) -> list[dict[str, Any]]:
    """Return the units of a signed visit that is no practice, from the rows of its tries in their order.

    The unit is one person × model × size × visit with at least one pass or fail; void-only is left out. It is told by
    its last judged try, beside how the first went; of each method alone besides. ``seqs``: where each try starts in
    the log.
    """
    groups: dict[tuple[str, str, str], list[Mapping[str, Any]]] = {}
    for one in tries:
        if one["outcome"] in JUDGED and one["is_signed"] and not one["is_practice"]:
            for method in ("", one["method"]):
                groups.setdefault((one["model_id"], one["size"], method), []).append(one)
    return [_unit(own, method, seqs, zone, task) for (_, _, method), own in groups.items()]


def _unit(own: list[Mapping[str, Any]], method: str, seqs: Mapping[int, int], zone: str, task: str) -> dict[str, Any]:
    last = own[-1]
    tested_at: datetime = last["tested_at"]
    shared = ("visit_id", "model_id", "size", "employer_id", "person_id", "model", "overall", "outcome")
    return {
        **{key: last[key] for key in (*shared, "source_seq", "fold_version")},
        "method": method,
        "task": task,
        "day": day_in(zone, tested_at),
        "seq": seqs[last["no"]],
        "first": own[0]["outcome"],
        "is_sensed": last["method"] in QUALITATIVE,
        "tested_at": tested_at,
    }


def figures_of(units: Iterable[Mapping[str, Any]]) -> dict[Key, Figures]:
    """Return what units add to the counts."""
    out: dict[Key, Counter[int]] = {}
    for one in units:
        adds = (1, one["outcome"] == "pass", one["first"] == "pass", bool(one["is_sensed"]))
        day = one["day"].isoformat()
        for place in ("", str(one["employer_id"]), str(one["site_id"])):
            for period in ("", day[:7], day):
                key = (place, one["method"], period, str(one["model_id"]), one["size"], one["model"])
                out.setdefault(key, Counter()).update({at: int(add) for at, add in enumerate(adds)})
    return {key: (one[0], one[1], one[2], one[3]) for key, one in out.items()}


def recount(db: Session, visit_id: str, after: Iterable[Mapping[str, Any]]) -> None:
    """Bring the counts along with a visit whose units are about to be ``after``: only what differs is written."""
    stored = db.execute(select(ResultUnit.__table__).where(ResultUnit.visit_id == visit_id)).mappings()
    before, now = figures_of(map(dict, stored)), figures_of(after)
    rows = []
    for key in sorted(before.keys() | now.keys()):  # always in one order: two who count do not wait for each other
        had, has = before.get(key, (0, 0, 0, 0)), now.get(key, (0, 0, 0, 0))
        if had != has:
            differs = {name: b - a for name, a, b in zip(FIGURES, had, has, strict=True)}
            place, method, period, model_id, size, model = key
            whose = {"place": place, "method": method, "period": period, "model_id": model_id, "size": size}
            rows.append({**whose, "model": model, **differs})
    if rows:
        added = insert(ResultCount).values(rows)
        own = ResultCount.__table__.c
        db.execute(added.on_duplicate_key_update({name: own[name] + added.inserted[name] for name in FIGURES}))


def count_anew(engine: Engine) -> None:
    """Fill the counts from the units there are, in one transaction."""
    run_in_transaction(engine, _fill)


def _fill(db: Session) -> None:
    db.execute(text("DELETE FROM result_count"))
    db.execute(text("SELECT COUNT(*) FROM result_unit LOCK IN SHARE MODE"))
    for place in ("''", "employer_id", "site_id"):
        for period in ("''", "DATE_FORMAT(day, '%Y-%m')", "DATE_FORMAT(day, '%Y-%m-%d')"):
            db.execute(
                text(
                    "INSERT INTO result_count "
                    "(place, method, period, model_id, size, model, tested, passed, passed_first, sensed) "
                    f"SELECT {place}, method, {period}, model_id, size, MAX(model), COUNT(*), SUM(outcome = 'pass'), "
                    "SUM(first = 'pass'), SUM(is_sensed) FROM result_unit GROUP BY 1, 2, 3, 4, 5"
                )
            )
