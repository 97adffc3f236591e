"""Read models: what lists and searches need, refilled at any time from the logs."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import Engine, delete, insert, select, text, update
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import Event, QualitativeStarted, ScreeningStarted
from moorfog.core.kernel.arithmetic import cut
from moorfog.core.kernel.codec import encode
from moorfog.core.kernel.days import day_in
from moorfog.core.rules.validity import INTERVAL, valid_until
from moorfog.core.transitions.fold import fold
from moorfog.core.views.terms import capped_at, method_limits
from moorfog.core.views.visit_view import starts_at
from moorfog.core.visit.judgement import needs_decision, queue, step_of
from moorfog.core.visit.outcomes import outcome
from moorfog.core.visit.state import FOLD_VERSION, Try, Visit
from moorfog.core.visit.steps import is_signed, is_under_question
from moorfog.platform.log.counting import count_anew, recount, units_of
from moorfog.platform.log.log import load_rules, load_visit, lock_head, whole_log
from moorfog.platform.log.same import entries_of
from moorfog.platform.log.summaries import (
    PermissionEnd,
    ResultUnit,
    SealNotice,
    Standing,
    TryKit,
    TryResult,
    VisitSummary,
    WearPermission,
)
from moorfog.platform.log.tables import EventRow, VisitHead

TABLES: tuple[type[Any], ...] = (VisitSummary, TryResult, TryKit, PermissionEnd, WearPermission, ResultUnit)
SEALS_OPEN = (
    "UPDATE visit_summary_new s LEFT JOIN seal_notice n ON n.visit_id = s.visit_id "
    "SET s.seal_open = NOT s.is_practice AND s.seal_fails > COALESCE(n.fails, 0)"
)
Rows = dict[type[Any], list[dict[str, Any]]]


def _doing(visit: Visit, at: datetime) -> str:
    if visit.closed:
        return {"turned_away": "turned away", "mistaken": "opened by mistake"}.get(visit.closed, "released")
    if visit.running is not None:
        return "fit test running"
    if needs_decision(visit):
        return "deciding what comes next"
    ahead = queue(visit, at)
    if ahead:
        return ahead[0].item.title
    ready = starts_at(visit, at)
    if ready is None or visit.opened is None:
        return "waits"
    return f"can start at {ready.astimezone(ZoneInfo(visit.opened.zone)):%H:%M}"


def rows_of(head: VisitHead, visit: Visit, actors: Mapping[int, str]) -> Rows:
    """Return every read-model row of one visit, judged at its last event: nothing here depends on today. ``actors``:
    who wrote the entries by which its tries start."""
    opened, at = visit.opened, visit.last_at
    if opened is None or at is None or visit.opened_at is None:
        return {table: [] for table in TABLES}
    common = {
        "source_seq": visit.seq,
        "fold_version": FOLD_VERSION,
        "employer_id": head.employer_id,
        "visit_id": head.id,
    }
    signed = is_signed(visit)
    current = visit.tries[-1] if visit.tries else None
    label = f"{visit.facepiece.model} {visit.facepiece.size}" if visit.facepiece else ""
    summary = {
        **common,
        "site_id": head.site_id,
        "person_id": visit.person_id,
        "bench": opened.bench,
        "step": step_of(visit, at),
        "doing": _doing(visit, at),
        "verdict": outcome(visit, current)[0] if current else "",
        "tries": len(visit.tries),
        "facepiece": label,
        "alterations_open": len(visit.alterations),
        "seal_fails": sum(1 for one in visit.asked_seals if one.leaks),
        "ready_at": starts_at(visit, at),
        "is_practice": visit.is_practice,
        "is_signed": signed,
        "closed": visit.closed,
        "under_question": is_under_question(visit),
        "opened_at": visit.opened_at,
        "last_at": at,
    }
    tries: list[dict[str, Any]] = []
    kit: list[dict[str, Any]] = []
    permissions: dict[str, dict[str, Any] | None] = {}
    ends: list[dict[str, Any]] = []
    if visit.closed == "mistaken":
        return {**{table: [] for table in TABLES}, VisitSummary: [summary]}  # nothing is left on that person
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
                "site_id": head.site_id,
                "tester_id": actors.get(one.seq, ""),
                "protocol_id": one.started.protocol_id,
                "book": visit.rules.book.id,
                "outcome": result,
                "level": one.started.level,
                "is_practice": visit.is_practice,
                "is_signed": signed,
            }
        )
        if one.has_failed and not visit.is_practice:
            permissions[piece.configuration] = None
            ends.append({**common, **_end(one.no, visit.person_id, piece.configuration, one.started_at)})
        stood = one.has_passed and is_under_question(visit)  # it stands there suspended until it is settled
        if ((result == "pass" and signed) or stood) and not visit.is_practice:
            day = day_in(opened.zone, one.started_at)
            months = visit.rules.book.ratio(INTERVAL)
            if months is not None:
                permissions[piece.configuration] = {
                    **shared,
                    "setup": piece.worn_as,
                    "limits": list(method_limits(visit, one)),
                    "valid_from": day,
                    "valid_until": valid_until(day, int(months)),
                    "no": one.no,
                    "facts": {
                        "piece": encode(piece),
                        "up_to": capped_at(visit, one),
                        "protocol": one.started.protocol_id,
                        "task": visit.task.id if visit.task is not None else "",
                        **_shown_by(one),
                    },
                }
    if not signed and not visit.is_practice:
        moved = (_end(one.no, one.person_id, one.configuration, one.at) for one in visit.ended)
        known = {(one["no"], one["person_id"], one["configuration"]) for one in ends}
        ends += [{**common, **one} for one in moved if (one["no"], one["person_id"], one["configuration"]) not in known]
    task = visit.task.name if visit.task is not None else ""
    units = units_of(tries, {one.no: one.seq for one in visit.tries}, opened.zone, task)
    return {
        VisitSummary: [summary],
        TryResult: tries,
        TryKit: kit,
        PermissionEnd: ends,
        ResultUnit: [{**one, "site_id": head.site_id} for one in units],
        WearPermission: [one for _, one in sorted(permissions.items()) if one is not None],
    }


def _shown_by(one: Try) -> dict[str, str | None]:
    """Return what the numbers of a try showed, exactly: overall, and in the worst exercise; None without numbers."""
    lowest = min((each.factor for each in one.numbers.exercises), default=None)
    overall = one.numbers.overall
    return {
        "overall": str(overall) if overall is not None else None,
        "lowest": str(lowest) if lowest is not None else None,
    }


def _end(no: int, person_id: str, configuration: str, at: datetime) -> dict[str, Any]:
    why = f"Failed in this very set-up on {at.date().isoformat()}."
    return {"no": no, "person_id": person_id, "configuration": configuration, "why": why, "ended_at": at}


def method_of(visit: Visit, one: Try) -> str:
    """Return the method of a try, as method advice names it."""
    protocol = visit.rules.protocol(one.started.protocol_id)
    return protocol.method if protocol is not None else ""


def kit_of(visit: Visit, one: Try) -> list[str]:
    """Return the ids of everything a try rests on: its instrument or nebulisers, lots, sampling parts, and its model.

    What is found wrong with any of them afterwards puts the try in question.
    """
    out = {one.facepiece.model_id, *(part.id for part in one.parts)}
    if one.counted is not None:
        return sorted({*out, one.counted.instrument.id})
    screened = [two.started for two in visit.screenings if two.attempt == one.attempt and two.is_passed][-1:]
    used: list[ScreeningStarted | QualitativeStarted] = [*screened]
    for held in used + ([one.sensed] if one.sensed is not None else []):
        out |= {lot.id for lot in held.lots}
        if held.nebuliser is not None:
            out |= {held.nebuliser.id, held.nebuliser.lot.id}
    return sorted(out)


def refresh(db: Session, head: VisitHead, visit: Visit) -> None:
    """Replace the read-model rows of one visit, in the transaction that appended to its log."""
    found = rows_of(head, visit, _actors(db, head.id, visit))
    if visit.tries:
        recount(db, head.id, found[ResultUnit])
    if visit.tries and not visit.is_practice:
        touch(db, _whose(db, head.id, found))
    for row in found[VisitSummary]:
        row["seal_open"] = _is_seal_open(db, row)
    for table, rows in found.items():
        if not visit.tries and table is not VisitSummary:
            continue  # a visit never loses a try, so there is nothing to replace yet
        db.execute(delete(table).where(table.visit_id == head.id))
        if rows:
            db.execute(insert(table), rows)


def _actors(db: Session, visit_id: str, visit: Visit) -> dict[int, str]:
    """Return who wrote the entries by which the tries of a visit start."""
    seqs = [one.seq for one in visit.tries]
    if not seqs:
        return {}
    query = select(EventRow.seq, EventRow.actor).where(EventRow.visit_id == visit_id, EventRow.seq.in_(seqs))
    return {one.seq: one.actor for one in db.execute(query)}


def actors_in(events: Iterable[Event]) -> dict[int, str]:
    """Return who wrote each of these entries."""
    return {one.seq: one.actor for one in events}


def _is_seal_open(db: Session, row: dict[str, Any]) -> bool:
    """Whether seal checks failed in a visit that no supervisor has acknowledged yet; practice does not count."""
    if not row["seal_fails"] or row["is_practice"]:
        return False
    known = db.scalar(select(SealNotice.fails).where(SealNotice.visit_id == row["visit_id"])) or 0
    return bool(row["seal_fails"] > known)


def _whose(db: Session, visit_id: str, rows: Rows) -> set[str]:
    """Return whom a visit decides about, as it was and as it is."""
    had = select(WearPermission.person_id).where(WearPermission.visit_id == visit_id)
    ended = select(PermissionEnd.person_id).where(PermissionEnd.visit_id == visit_id)
    tables = (VisitSummary, PermissionEnd, WearPermission)
    return {*db.scalars(had.union(ended)), *(row["person_id"] for table in tables for row in rows[table])}


def touch(db: Session, people: Iterable[str]) -> None:
    """Mark what was worked out of people as stale, whatever entry of theirs is named."""
    entries = entries_of(db, sorted(people)).entries
    if entries:
        stale = update(Standing).where(Standing.person_id.in_(entries))
        db.execute(stale.values(rev=Standing.rev + 1, is_stale=True).execution_options(synchronize_session=False))


def rebuild(engine: Engine, progress: Callable[[int, int], None] = lambda done, total: None) -> int:
    """Refill all read models from the logs into shadow tables and swap them in one statement.

    Returns the number of visits. ``progress`` is told how many of how many are done. Raises ``BrokenLog`` before
    anything is swapped where a log does not hold.
    """
    with engine.begin() as connection:
        for table in TABLES:
            name = table.__tablename__
            connection.execute(text(f"DROP TABLE IF EXISTS {name}_new"))
            connection.execute(text(f"CREATE TABLE {name}_new LIKE {name}"))
    with Session(engine) as db, db.begin():
        heads = list(db.scalars(select(VisitHead).order_by(VisitHead.id)))
        for done, head in enumerate(heads, start=1):
            for table, rows in _checked_rows(db, head).items():
                for row in rows:
                    names = ", ".join(f"`{key}`" for key in row)
                    slots = ", ".join(f":{key}" for key in row)
                    plain = {key: _plain(value) for key, value in row.items()}
                    db.execute(text(f"INSERT INTO {table.__tablename__}_new ({names}) VALUES ({slots})"), plain)
            progress(done, len(heads))
    with engine.begin() as connection:
        connection.execute(text(SEALS_OPEN))
        swaps = ", ".join(
            f"{t.__tablename__} TO {t.__tablename__}_old, {t.__tablename__}_new TO {t.__tablename__}" for t in TABLES
        )
        connection.execute(text(f"RENAME TABLE {swaps}"))
        for table in TABLES:
            connection.execute(text(f"DROP TABLE {table.__tablename__}_old"))
    count_anew(engine)
    _catch_up(engine)
    with engine.begin() as connection:
        connection.execute(text("UPDATE standing SET rev = rev + 1, is_stale = 1"))
    return len(heads)


def _checked_rows(db: Session, head: VisitHead) -> Rows:
    events = whole_log(db, head)
    return rows_of(head, fold(events, load_rules(db, head.rules_digest)), actors_in(events))


def _catch_up(engine: Engine) -> None:
    """Refresh the visits that were appended to while the shadow tables were filled: their rows went to the old ones."""
    behind = (
        select(VisitHead.id)
        .outerjoin(VisitSummary, VisitSummary.visit_id == VisitHead.id)
        .where((VisitSummary.source_seq.is_(None)) | (VisitSummary.source_seq != VisitHead.seq), VisitHead.seq > 0)
    )
    with Session(engine) as db:
        late = list(db.scalars(behind))
    for visit_id in late:
        with Session(engine) as db, db.begin():
            head = lock_head(db, visit_id)
            if head is not None:
                refresh(db, head, load_visit(db, head))


def rebuild_foreign(engine: Engine) -> int:
    """Refill the read models if another fold version made them. Returns the number of visits, 0 where none did."""
    with Session(engine) as db:
        is_foreign = foreign_fold_version(db) is not None
    return rebuild(engine) if is_foreign else 0


def _plain(value: Any) -> Any:
    if isinstance(value, (list, dict)):
        return json.dumps(value)
    return value.replace(tzinfo=None) if isinstance(value, datetime) else value


def foreign_fold_version(db: Session) -> int | None:
    """Return a fold version other than this program's found in a read model, or None."""
    for table in TABLES:
        found = db.scalar(select(table.fold_version).where(table.fold_version != FOLD_VERSION).limit(1))
        if found is not None:
            return int(found)
    return None
