"""Beginning the ledgers: what stands in the tables, and in the journal of before, is taken over once.

From then on a fact that is in no ledger is made up. It runs after the schema was brought up to date, before anybody
works with the data; broken off, it goes on where it was. When a later program keeps more of a table, the rows of that
table are entered again, those only that still are what their ledger says.
"""

from __future__ import annotations

import json
import logging
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from datetime import UTC
from itertools import islice
from typing import Any, TypeVar

from sqlalchemy import Engine, func, inspect, select, text
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import instant
from moorfog.core.kernel.canonical import canonical_bytes, digest
from moorfog.platform.db.base import run_in_transaction
from moorfog.platform.db.clock import DatabaseClock
from moorfog.platform.log.facts import FACTS, WHOLE, Fact, FactRow, all_rows
from moorfog.platform.log.ledger import FIRST, Line, to_ms, write_entries
from moorfog.platform.log.tables import SAID, Action, LedgerEntry, LedgerValue

log = logging.getLogger("moorfog.ledger")
T = TypeVar("T")
BATCH = 500
TAKEN, BEGUN = "taken_over", "ledger_begun"
BEFORE = ("journal_detail", "journal", "journal_head")
"""The tables of the journal that there was before."""


def columns_told(db: Session) -> dict[str, list[str]] | None:
    """Return which columns of which tables the ledgers hold, None where they have not begun."""
    asked = select(LedgerValue.content).join(LedgerEntry, SAID)
    asked = asked.where(LedgerEntry.subject == "ledger", LedgerEntry.ledger == WHOLE, LedgerEntry.deed == BEGUN)
    content = db.scalar(asked.order_by(LedgerEntry.id.desc()).limit(1))
    found: dict[str, list[str]] | None = json.loads(content)["columns"] if content is not None else None
    return found


def begin_ledgers(engine: Engine, progress: Callable[[int], None] = lambda done: None) -> int:
    """Take over what the ledgers do not hold yet. Returns how many entries that were; 0 where there was nothing to do.

    ``engine``: of an account that may drop tables.
    """
    wanted = {name: list(fact.names) for name, fact in FACTS.items()}
    with Session(engine) as db:
        told = columns_told(db)
    if told == wanted:
        _drop_journal(engine)
        return 0
    done, faults = 0, []
    if told is None:
        for deeds, wrong in _journal(engine):
            done += _enter(engine, deeds)
            faults += wrong
            progress(done)
    for name, fact in FACTS.items():
        if told is not None and told.get(name) == wanted[name]:
            continue
        with Session(engine) as db:
            for some in _batches(all_rows(db, fact)):
                done += _enter(engine, _not_yet(engine, fact, some, told is not None and name in told))
                progress(done)
    content = json.dumps({"columns": wanted, "changes": {}, "why": "", "journal": faults[:20]}, sort_keys=True)
    done += _enter(engine, [_taken(WHOLE, BEGUN, "deed", ("ledger", "ledger"), content)])
    _drop_journal(engine)
    return done


def _drop_journal(engine: Engine) -> None:
    """Take out the tables of the journal of before: what stood there stands in the ledgers."""
    there = set(inspect(engine).get_table_names())
    with engine.begin() as connection:
        for name in BEFORE:
            if name in there:
                connection.execute(text(f"DROP TABLE {name}"))


def _taken(ledger: str, deed: str, action: Action, of: tuple[str, str], content: str) -> Line:
    return Line(ledger, "", deed, action, kind=of[0], subject=of[1], content=content)


def _enter(engine: Engine, lines: Sequence[Line]) -> int:
    if lines:
        run_in_transaction(engine, lambda db: write_entries(db, DatabaseClock().now(db), lines))
    return len(lines)


def _batches(rows: Iterator[T]) -> Iterator[list[T]]:
    while some := list(islice(rows, BATCH)):
        yield some


def _not_yet(engine: Engine, fact: Fact, rows: list[FactRow], again: bool) -> list[Line]:
    """Return the entries for those of these rows that no ledger has; ``again``: for those that it has with less."""
    asked = select(LedgerEntry.subject, LedgerValue.content).outerjoin(LedgerValue, SAID)
    asked = asked.where(LedgerEntry.subject.in_([one.key for one in rows]), LedgerEntry.kind == fact.table.name)
    with Session(engine) as db:
        last = {subject: content for subject, content in db.execute(asked.order_by(LedgerEntry.id)) if content}
    out = []
    for row in rows:
        held = last.get(row.key)
        if (again and held is not None and _is_part(held, row.content)) or (not again and held is None):
            out.append(_taken(row.ledger, TAKEN, "row", (fact.table.name, row.key), row.content))
        elif again:
            log.warning("%s %s is not what its ledger says; it is left so: moorfog verify", fact.table.name, row.key)
    return out


def _is_part(held: str, now: str) -> bool:
    """Tell whether a row still says what its ledger says, in the columns that both have, and more than that."""
    old, new = json.loads(held), json.loads(now)
    return (
        isinstance(old, dict)
        and all(old[key] == new[key] for key in old.keys() & new.keys())
        and bool(new.keys() - old)
    )


def _journal(engine: Engine) -> Iterator[tuple[list[Line], list[str]]]:
    """Yield the deeds of the journal of before, batch by batch, with what was wrong with it."""
    if "journal" not in inspect(engine).get_table_names():
        return
    with Session(engine) as db:  # the deeds that a broken-off taking over has entered already
        at = db.scalar(select(func.count()).where(LedgerEntry.action == "deed", LedgerEntry.at < _first_row(db))) or 0
    before, no = FIRST, 0
    asked = text(
        "SELECT j.no, j.at, j.account_id, j.deed, j.subject_kind, j.subject_id, j.employer_id, j.detail, j.chain, "
        "d.salt, d.content FROM journal j LEFT JOIN journal_detail d ON d.no = j.no ORDER BY j.no"
    )
    with Session(engine) as db:
        for some in _batches(iter(db.execute(asked.execution_options(yield_per=BATCH)))):
            lines, wrong = [], []
            for row in some:
                if row.no != no + 1 or row.chain != _old_chain(row, before):
                    wrong.append(f"entry {row.no} of the journal was not what was written when it was taken over")
                before, no = row.chain, row.no
                content = row.content if row.content is not None else json.dumps({"erased": True})
                done_at = to_ms(row.at.replace(tzinfo=UTC))
                of = (row.subject_kind, row.subject_id)
                taken = _taken(row.employer_id, row.deed, "deed", of, content)
                lines.append(replace(taken, account_id=row.account_id, at=done_at))
            if no > at:
                yield lines[max(0, len(lines) - (no - at)) :], wrong


def _first_row(db: Session) -> Any:
    """Return when the first fact was taken over: deeds from before it are of the journal."""
    return func.coalesce(
        select(func.min(LedgerEntry.at)).where(LedgerEntry.action == "row").scalar_subquery(), func.utc_timestamp(3)
    )


def _old_chain(row: Any, before: str) -> str:
    said = {
        "no": row.no,
        "at": instant(row.at.replace(tzinfo=UTC)),
        "account": row.account_id,
        "deed": row.deed,
        "kind": row.subject_kind,
        "subject": row.subject_id,
        "employer": row.employer_id,
        "detail": row.detail,
        "before": before,
    }
    return digest(canonical_bytes(said).decode())
