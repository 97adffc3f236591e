"""The journal as an administrator reads it: who, when, what, to whom, from what to what; page by page, and as CSV."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import Row, Select, select
from sqlalchemy.orm import Session

from moorfog.core.events.payloads import instant
from moorfog.platform.log.deeds import Note, note
from moorfog.platform.log.tables import SAID, LedgerEntry, LedgerValue
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.fields import day_of
from moorfog.rooms.accounts.tables import Account, ApiToken
from moorfog.rooms.facepieces.tables import FacepieceVersion
from moorfog.rooms.kit.tables import InstrumentRow
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.tables import Employer, Site

PAGE, AT_ONCE = 50, 500

DEEDS = {
    "program": "the program itself",
    "taken_over": "taken over when the ledger began",
    "ledger_begun": "began the ledger",
    "signed_in": "signed in",
    "propose": "put on file at the bench",
    "get_person": "looked at a person's record",
    "get_visit": "looked at a visit that is closed",
    "get_person_file": "took away a person's whole file",
    "get_report": "printed a report",
    "export_record": "took away a record",
    "export_readings": "took away the readings of a run",
    "export_results": "took away the results of a visit",
    "end_gate": "ended the address of a tablet at the gate",
    "open_gate": "made an address for a tablet at the gate",
    "report_by_card": "reported a change by the code of a card",
    "mail_paper": "sent a paper to the worker",
    "invite_due": "invited who is due",
    "send_again": "had a letter sent again",
    "import_history": "took over results of before",
    "say_in_writing": "said in writing that results of before count",
    "take_word_back": "took back that results of before count",
    "draw_list": "had the list of a crew drawn",
    "draw_cards": "had the cards of a crew drawn",
    "take_records": "took away a list of tests",
    "take_wearers": "took away who wears a model",
    "take_archive": "took away records whole, for an inspector",
    "add_person": "entered a person",
    "change_person": "changed a person's entry",
    "person_left": "noted that a person left",
    "person_back": "noted that a person is back",
    "erase_person": "erased a person",
    "start_erasures": "erased whom a site no longer keeps",
    "change_site_words": "changed a site's terms or periods",
    "renew_calendar": "made a new address of a calendar",
    "save_crew": "saved a crew",
    "drop_crew": "forgot a crew",
    "report_change": "reported a change",
    "withdraw_report": "took back a report of change",
    "withdraw_pass": "withdrew a pass",
    "withdraw_training": "withdrew a training",
    "merge_people": "made two entries one person",
    "record_clearance": "filed a clearance",
    "record_training": "filed a training",
    "invite_colleague": "invited a colleague",
    "change_account": "changed an account",
    "switch_account_off": "switched an account off",
    "switch_account_on": "switched an account on",
    "reset_account": "had a password chosen anew",
    "join": "chose a password",
    "set_up": "set the installation up",
    "make_recovery_key": "made the recovery key of the backups",
    "add_employer": "entered an employer",
    "add_site": "entered a site",
    "change_site": "changed a site",
    "enter_instrument": "entered an instrument",
    "change_instrument": "changed an instrument",
    "enter_calibration": "filed a calibration",
    "retire_instrument": "took an instrument out of use, or back",
    "renew_instrument_token": "renewed the token of an instrument's link",
    "lose_second_factor": "switched off a second factor: the telephone is lost",
    "end_account_sessions": "ended the sessions of an account",
    "change_own_password": "changed their own password",
    "set_own_notice": "chose how often they are told who is due",
    "end_own_session": "ended one of their own sessions",
    "confirm_second_factor": "switched their second factor on",
    "switch_second_factor_off": "switched their second factor off",
    "rename_employer": "renamed an employer",
    "archive_employer": "put an employer away, or took it out",
    "archive_site": "put a site away, or took it out",
    "change_organisation": "said whose installation it is",
    "save_facepiece": "entered a facepiece",
    "withdraw_facepiece": "withdrew a facepiece",
    "import_catalogue": "imported facepieces",
    "start_import": "imported a roster",
    "cancel_job": "asked a job to end",
    "record_measurement": "measured a face",
    "acknowledge_seal": "acknowledged failed seal checks",
    "record_check": "did a check of the day",
    "record_act": "noted something done to an instrument",
    "settle_recall": "settled kit found wrong",
    "add_part": "entered a sampling part",
    "note_part": "noted something of a sampling part",
    "put_lending": "lent kit",
    "enter_rule": "changed a rule of a site",
    "choose_book": "chose the rule book of a site",
    "enter_task": "entered a task",
    "add_protocol": "added a protocol",
    "withdraw_protocol": "withdrew a protocol",
    "enter_lot": "entered a lot",
    "add_nebuliser": "entered a nebuliser",
    "fill_nebuliser": "filled a nebuliser",
    "check_nebuliser": "saw a nebuliser spray",
    "mark_clogged": "marked a nebuliser as clogged",
    "withdraw_lot": "withdrew a lot",
    "enter_competence": "filed a tester's competence",
    "make_token": "made a token",
    "end_token": "ended a token",
    "get_journal_csv": "exported the journal",
}
"""What a deed is called."""


@dataclass(frozen=True)
class JournalLine:
    """A row of the journal. ``changes``: what was changed, as "what: from → to"."""

    no: int
    at: str
    who: str
    deed: str
    subject: str
    subject_kind: str
    subject_id: str
    changes: tuple[str, ...]
    why: str


@dataclass(frozen=True)
class JournalPage:
    """Rows of the journal, the newest first; ``before`` of the next page, 0 at the end."""

    rows: tuple[JournalLine, ...]
    before: int


@dataclass(frozen=True)
class JournalAsked:
    """Which rows: before a number (0: from the newest on), of a day (YYYY-MM-DD), an account, a subject."""

    before: int = 0
    day: str = ""
    account: str = ""
    subject: str = ""


def _query(actor: Actor, asked: JournalAsked) -> Select[LedgerEntry, LedgerValue]:
    scope = actor.require("administrator")
    query = select(LedgerEntry, LedgerValue).outerjoin(LedgerValue, SAID).where(LedgerEntry.action == "deed")
    if scope.employers is not None:
        query = query.where(LedgerEntry.ledger.in_(sorted(scope.employers)))
    if asked.before > 0:
        query = query.where(LedgerEntry.id < asked.before)
    if asked.account:
        query = query.where(LedgerEntry.account_id == asked.account)
    if asked.subject:
        query = query.where(LedgerEntry.subject == asked.subject)
    if asked.day:
        start = datetime.combine(day_of(asked.day, "day"), datetime.min.time(), UTC)
        query = query.where(LedgerEntry.at >= start, LedgerEntry.at < start + timedelta(days=1))
    return query.order_by(LedgerEntry.id.desc())


def read_journal(db: Session, actor: Actor, asked: JournalAsked) -> JournalPage:
    """Return a page of the journal; an administrator of some employers sees what concerns theirs."""
    return _page(db, actor, asked, PAGE)


def _page(db: Session, actor: Actor, asked: JournalAsked, most: int) -> JournalPage:
    rows = db.execute(_query(actor, asked).limit(most + 1)).all()
    lines = _lines(db, rows[:most])
    return JournalPage(lines, lines[-1].no if len(rows) > most else 0)


def _lines(db: Session, rows: Sequence[Row[LedgerEntry, LedgerValue | None]]) -> tuple[JournalLine, ...]:
    ids = {row.subject for row, _ in rows} | {row.account_id for row, _ in rows}
    names: dict[str, str] = {}
    tables: Any = (Account, Employer, Site, Person, InstrumentRow)
    wanted = [one for one in ids if len(one) == 36]
    for table in tables:
        names |= {one.id: one.name for one in db.execute(select(table.id, table.name).where(table.id.in_(wanted)))}
    found = db.execute(select(ApiToken.id, ApiToken.name).where(ApiToken.id.in_(wanted)))
    names |= {one: f"the token for {name}" for one, name in found}
    pieces = select(FacepieceVersion.id, FacepieceVersion.maker, FacepieceVersion.model)
    kinds = db.execute(pieces.where(FacepieceVersion.id.in_(wanted)))
    names |= {one: f"{maker} {model}" for one, maker, model in kinds}
    return tuple(_line(row, detail, names) for row, detail in rows)


def _line(row: LedgerEntry, detail: LedgerValue | None, names: dict[str, str]) -> JournalLine:
    content: dict[str, Any] = json.loads(detail.content) if detail is not None else {}
    changes = content.get("changes", {})
    return JournalLine(
        no=row.id,
        at=instant(row.at),
        who=names.get(row.account_id, "nobody signed in" if not row.account_id else "somebody"),
        deed=DEEDS.get(row.deed, row.deed),
        subject=names.get(row.subject, row.subject),
        subject_kind=row.kind,
        subject_id=row.subject,
        changes=tuple(f"{what.replace('_', ' ')}: {_words(pair)}" for what, pair in changes.items())
        if detail is not None and "erased" not in content
        else ("erased",),
        why=content.get("why", ""),
    )


def _words(pair: Any) -> str:
    if not isinstance(pair, list) or len(pair) != 2:
        return str(pair)
    old, new = (", ".join(map(str, one)) if isinstance(one, list) else "" if one is None else str(one) for one in pair)
    return f"{old} → {new}" if old else new or "nothing"


def note_taken(db: Session, asked: JournalAsked) -> None:
    """Note that the journal itself was taken away."""
    note(db, Note("journal", asked.day or "all"))


def every_line(db: Session, actor: Actor, asked: JournalAsked) -> Iterator[JournalLine]:
    """Yield all rows that are meant, the newest first, some hundreds of them at a time."""
    page = _page(db, actor, asked, AT_ONCE)
    yield from page.rows
    while page.before:
        page = _page(db, actor, replace(asked, before=page.before), AT_ONCE)
        yield from page.rows
