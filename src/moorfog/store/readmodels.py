"""Read models: what lists and searches need, refilled at any time from the logs."""

from __future__ import annotations

import json
from collections.abc import Callable
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import Engine, delete, insert, select, text
from sqlalchemy.orm import Session

from moorfog.core.arithmetic import cut
from moorfog.core.judge import is_sealed, needs_decision, outcome, queue, step_of
from moorfog.core.picture import method_limits, starts_at, valid_until
from moorfog.core.visit import FOLD_VERSION, Try, Visit
from moorfog.store.log import load_visit
from moorfog.store.models import TryKit, TryResult, VisitHead, VisitSummary, WearPermission

TABLES: tuple[type[Any], ...] = (VisitSummary, TryResult, TryKit, WearPermission)
Rows = dict[type[Any], list[dict[str, Any]]]


def _doing(visit: Visit, at: datetime) -> str:
    if visit.closed:
        return "turned away" if visit.closed == "turned_away" else "released"
    if visit.running is not None:
        return "fit test running"
    if needs_decision(visit):
        return "deciding what comes next"
    ahead = queue(visit, at)
    return ahead[0].item.title if ahead else "waiting for the clock"


def rows_of(head: VisitHead, visit: Visit) -> Rows:
    """Return every read-model row of one visit, judged at its last event: nothing here depends on today."""
    opened, at = visit.opened, visit.last_at
    if opened is None or at is None or visit.opened_at is None:
        return {table: [] for table in TABLES}
    common = {
        "source_seq": visit.seq,
        "fold_version": FOLD_VERSION,
        "employer_id": head.employer_id,
        "visit_id": head.id,
    }
    sealed = is_sealed(visit)
    current = visit.tries[-1] if visit.tries else None
    label = f"{visit.facepiece.model} {visit.facepiece.size}" if visit.facepiece else ""
    summary = {
        **common,
        "site_id": head.site_id,
        "person_id": visit.person_id,
        "bench": opened.bench,
        "step": step_of(visit, at),
        "doing": _doing(visit, at)[:190],
        "verdict": outcome(visit, current)[0] if current else "",
        "tries": len(visit.tries),
        "facepiece": label,
        "loops_open": len(visit.loops),
        "seal_fails": sum(1 for one in visit.asked_seals if one.leaks),
        "ready_at": starts_at(visit, at),
        "is_practice": visit.is_practice,
        "is_sealed": sealed,
        "closed": visit.closed,
        "opened_at": visit.opened_at,
        "last_at": at,
    }
    tries: list[dict[str, Any]] = []
    kit: list[dict[str, Any]] = []
    permissions: dict[str, dict[str, Any] | None] = {}
    for one in visit.tries:
        result, _ = outcome(visit, one)
        overall = (
            ("≥ " if one.numbers.at_least else "") + cut(one.numbers.overall) if one.numbers.overall is not None else ""
        )
        piece = one.facepiece
        shared = {
            **common,
            "person_id": visit.person_id,
            "model_id": piece.model_id,
            "model": f"{piece.maker} {piece.model}",
            "size": piece.size,
            "configuration": piece.configuration,
            "overall": overall,
            "method": method_of(visit, one),
            "tested_at": one.started_at,
        }
        kit += [{**common, "no": one.no, "kit_id": each, "tested_at": one.started_at} for each in kit_of(visit, one)]
        tries.append(
            {
                **shared,
                "no": one.no,
                "run_id": one.started.run_id,
                "outcome": result,
                "level": one.started.level,
                "is_practice": visit.is_practice,
                "is_sealed": sealed,
            }
        )
        if result == "fail":
            permissions[piece.configuration] = None
        if result == "pass" and sealed and not visit.is_practice:
            day = one.started_at.astimezone(ZoneInfo(opened.zone)).date()
            months = visit.rules.book.ratio("interval")
            if months is not None:
                setup = ", ".join(
                    part for part in (piece.suspension, piece.clip, piece.filter_class, *piece.ppe) if part
                )
                permissions[piece.configuration] = {
                    **shared,
                    "setup": setup[:250],
                    "limits": list(method_limits(visit, one)),
                    "valid_from": day,
                    "valid_until": valid_until(day, int(months)),
                }
    return {
        VisitSummary: [summary],
        TryResult: tries,
        TryKit: kit,
        WearPermission: [one for _, one in sorted(permissions.items()) if one is not None],
    }


def method_of(visit: Visit, one: Try) -> str:
    """Return the method of a try, as method advice names it."""
    protocol = visit.rules.protocol(one.started.protocol_id)
    return protocol.method if protocol is not None else ""


def kit_of(visit: Visit, one: Try) -> list[str]:
    """Return the ids of what a try was made with: its counter, or the nebulisers of its screening and its run."""
    if one.counted is not None:
        return [one.counted.instrument.id]
    screened = [two.started.nebuliser for two in visit.screenings if two.attempt == one.attempt and two.is_passed]
    held = [*screened[-1:], one.sensed.nebuliser if one.sensed is not None else None]
    return sorted({each.id for each in held if each is not None})


def refresh(db: Session, head: VisitHead, visit: Visit) -> None:
    """Replace the read-model rows of one visit, in the transaction that appended to its log."""
    for table, rows in rows_of(head, visit).items():
        if not visit.tries and table is not VisitSummary:
            continue  # a visit never loses a try, so there is nothing to replace yet
        db.execute(delete(table).where(table.visit_id == head.id))
        if rows:
            db.execute(insert(table), rows)


def rebuild(engine: Engine, progress: Callable[[int, int], None] = lambda done, total: None) -> int:
    """Refill all read models from the logs into shadow tables and swap them in one statement.

    Returns the number of visits. ``progress`` is told how many of how many are done.
    """
    with engine.begin() as connection:
        for table in TABLES:
            name = table.__tablename__
            connection.execute(text(f"DROP TABLE IF EXISTS {name}_new"))
            connection.execute(text(f"CREATE TABLE {name}_new LIKE {name}"))
    with Session(engine) as db, db.begin():
        heads = list(db.scalars(select(VisitHead).order_by(VisitHead.id)))
        for done, head in enumerate(heads, start=1):
            for table, rows in rows_of(head, load_visit(db, head)).items():
                for row in rows:
                    names = ", ".join(f"`{key}`" for key in row)
                    slots = ", ".join(f":{key}" for key in row)
                    plain = {key: _plain(value) for key, value in row.items()}
                    db.execute(text(f"INSERT INTO {table.__tablename__}_new ({names}) VALUES ({slots})"), plain)
            progress(done, len(heads))
    with engine.begin() as connection:
        swaps = ", ".join(
            f"{t.__tablename__} TO {t.__tablename__}_old, {t.__tablename__}_new TO {t.__tablename__}" for t in TABLES
        )
        connection.execute(text(f"RENAME TABLE {swaps}"))
        for table in TABLES:
            connection.execute(text(f"DROP TABLE {table.__tablename__}_old"))
    return len(heads)


def rebuild_foreign(engine: Engine) -> int:
    """Refill the read models if another fold version made them. Returns the number of visits, 0 where none did."""
    with Session(engine) as db:
        is_foreign = foreign_fold_version(db) is not None
    return rebuild(engine) if is_foreign else 0


def _plain(value: Any) -> Any:
    if isinstance(value, list):
        return json.dumps(value)
    return value.replace(tzinfo=None) if isinstance(value, datetime) else value


def foreign_fold_version(db: Session) -> int | None:
    """Return a fold version other than this program's found in a read model, or None."""
    for table in TABLES:
        found = db.scalar(select(table.fold_version).where(table.fold_version != FOLD_VERSION).limit(1))
        if found is not None:
            return int(found)
    return None
