"""The facts that answers rest on outside the visits: which tables hold them, and how a row of each is written down.

Every row of these tables is an entry of a ledger, by value, and the table is what the ledger comes to. A table that is
not named here decides nothing about who may wear what, or stands in the logs of the visits.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from hashlib import sha256
from typing import Any, cast

from sqlalchemy import Row, Select, Table, select, tuple_
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import instant
from moorfog.platform.db.base import Base
from moorfog.platform.db.tables import KitLent
from moorfog.platform.log.summaries import SealNotice
from moorfog.platform.log.tables import VisitHead
from moorfog.rooms.accounts.tables import Account, ApiToken, Competence, Grant
from moorfog.rooms.crews.tables import Crew
from moorfog.rooms.facepieces.tables import FacepieceVersion
from moorfog.rooms.kit.tables import (
    Calibration,
    CautionRow,
    FillingRow,
    InstrumentActRow,
    InstrumentCheckRow,
    InstrumentRow,
    KitRecall,
    LotRow,
    NebuliserRow,
    RecallSettled,
    SamplingPart,
    SamplingPartAct,
    SprayCheckRow,
)
from moorfog.rooms.papers.tables import CardCode, DocumentRow
from moorfog.rooms.people.tables import ChangeReport, ClearanceRow, Erased, MeasurementRow, Person, TrainingRow
from moorfog.rooms.sites.tables import Employer, Organisation, Site, SiteProtocol, SiteRule, SiteTask, SiteTerms
from moorfog.rooms.wear.tables import HistoryRow, HistoryWord

WHOLE = ""
"""The ledger of what belongs to no employer: accounts, the catalogue, shared kit."""


@dataclass(frozen=True)
class Fact:
    """A table of facts. ``by``: the table that says whose they are, joined by ``through``, where their own row does
    not; ``employer``: the column there, None where they are nobody's. ``left_out``: columns that decide nothing and
    change all the time. ``hidden``: columns of which the ledger has a digest only."""

    model: type[Base]
    employer: str | None = "employer_id"
    by: type[Base] | None = None
    through: str = ""
    left_out: frozenset[str] = frozenset()
    hidden: frozenset[str] = frozenset()

    @property
    def table(self) -> Table:
        """Return the table."""
        return cast(Table, self.model.__table__)

    @property
    def keys(self) -> tuple[Any, ...]:
        """Return the columns of the table's key."""
        return tuple(self.table.primary_key.columns)

    @property
    def columns(self) -> tuple[Any, ...]:
        """Return the columns that are written down."""
        return tuple(one for one in self.table.columns if one.name not in self.left_out)

    @property
    def names(self) -> tuple[str, ...]:
        """Return their names, in order."""
        return tuple(sorted(one.name for one in self.columns))


def _facts() -> dict[str, Fact]:
    def of(owner: type[Base], through: str, *models: type[Base]) -> list[Fact]:
        return [Fact(one, by=owner, through=through) for one in models]

    told = (
        Fact(Organisation, employer=None),
        Fact(Employer, employer="id"),
        Fact(Site),
        *of(Site, "site_id", SiteRule, SiteTask, SiteProtocol, SiteTerms, Crew, HistoryWord),
        Fact(Person),
        *of(Person, "person_id", ClearanceRow, TrainingRow, MeasurementRow, Erased),
        Fact(ChangeReport),
        Fact(HistoryRow),
        Fact(FacepieceVersion, employer=None),
        Fact(InstrumentRow, left_out=frozenset({"seen_at", "live"})),
        *of(InstrumentRow, "instrument_id", InstrumentCheckRow, InstrumentActRow, Calibration),
        Fact(KitLent),
        Fact(KitRecall),
        Fact(RecallSettled),
        Fact(SamplingPart),
        Fact(SamplingPartAct, by=SamplingPart, through="part_id"),
        Fact(LotRow),
        Fact(NebuliserRow),
        *of(NebuliserRow, "nebuliser_id", FillingRow, SprayCheckRow),
        Fact(CautionRow, employer=None),
        Fact(Competence, employer=None),
        Fact(
            Account,
            employer=None,
            left_out=frozenset({"totp_step", "noticed_on"}),
            hidden=frozenset({"password_hash", "totp_secret"}),
        ),
        Fact(Grant),
        Fact(ApiToken, left_out=frozenset({"used_at"})),
        *of(VisitHead, "visit_id", CardCode, SealNotice),
        Fact(DocumentRow, by=VisitHead, through="visit_id", left_out=frozenset({"content"})),
    )
    return {one.table.name: one for one in told}


FACTS = _facts()
"""The tables of facts by name."""


@dataclass(frozen=True)
class FactRow:
    """A row of a table of facts: its key as one word, the ledger it belongs into, and what stands in it as JSON."""

    key: str
    ledger: str
    content: str


def key_of(values: Sequence[Any]) -> str:
    """Return the key of a row as one word."""
    return ":".join(str(_plain(one)) for one in values)


def content_of(values: dict[str, Any]) -> str:
    """Return what stands in a row as JSON: the same for the same values, in whatever order they come."""
    return json.dumps(values, ensure_ascii=False, sort_keys=True, separators=(",", ":"), default=_plain)


def _plain(value: Any) -> Any:
    if isinstance(value, datetime):
        return instant(value)
    if isinstance(value, date):
        return value.isoformat()
    return value if isinstance(value, (str, int)) else str(value)


def _query(fact: Fact) -> Select[Any]:
    owner = fact.table if fact.by is None else fact.by.__table__
    columns = [*fact.columns]
    if fact.employer is not None:
        columns.append(owner.columns[fact.employer].label("ledger_of"))
    query = select(*columns)
    if fact.by is not None:
        query = query.join(owner, owner.columns["id"] == fact.table.columns[fact.through])
    return query


def rows_of_fact(db: Session, fact: Fact, keys: Iterable[Sequence[Any]]) -> Iterator[FactRow]:
    """Yield the rows with these keys; those that are not there are left out."""
    wanted = list(keys)
    if len(fact.keys) == 1:
        where = fact.keys[0].in_([one[0] for one in wanted])
    else:
        where = tuple_(*fact.keys).in_([tuple(one) for one in wanted])
    yield from _rows(db.execute(_query(fact).where(where)), fact)


def all_rows(db: Session, fact: Fact, ledger: str | None = None, at_once: int = 2000) -> Iterator[FactRow]:
    """Yield the rows of a table that belong into a ledger, or all of them, in no order; they are not held at once."""
    query = _query(fact).execution_options(yield_per=at_once)
    if ledger is not None and fact.employer is None:
        if ledger != WHOLE:
            return
    elif ledger is not None:
        owner = fact.table if fact.by is None else fact.by.__table__
        column = owner.columns[str(fact.employer)]
        query = query.where(column.is_(None) if ledger == WHOLE else column == ledger)
    yield from _rows(db.execute(query), fact)


def _rows(found: Iterable[Row[Any]], fact: Fact) -> Iterator[FactRow]:
    names, count = [one.name for one in fact.columns], len(fact.columns)
    places = [names.index(one.name) for one in fact.keys]
    hidden = [names.index(one) for one in fact.hidden]
    for row in found:
        values = list(row[:count])
        key = key_of([values[one] for one in places])
        for one in hidden:
            values[one] = sha256(str(values[one] or "").encode()).hexdigest()
        ledger = (row[count] or WHOLE) if fact.employer is not None else WHOLE
        yield FactRow(key, ledger, content_of(dict(zip(names, values, strict=True))))
