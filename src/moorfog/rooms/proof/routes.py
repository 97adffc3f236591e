"""The journal, page by page and as CSV."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated

from flask import Response
from pydantic import Field
from sqlalchemy.orm import Session

from moorfog.platform.web.routing import Context, route
from moorfog.platform.web.streams import csv_pieces, sent
from moorfog.rooms.proof import journal


@dataclass(frozen=True)
class JournalQuery:
    """Which rows of the journal: before a number, of a day, of an account, of a subject; everything where left out."""

    before: Annotated[int, Field(ge=0, le=2**62)] = 0
    day: str = ""
    account: str = ""
    subject: str = ""


JOURNAL = ("no", "at", "who", "deed", "subject", "changes", "why")
"""The columns of the journal as a table."""


def _cells(one: journal.JournalLine) -> tuple[str | int, ...]:
    return one.no, one.at, one.who, one.deed, one.subject, "; ".join(one.changes), one.why


def _asked(query: JournalQuery) -> journal.JournalAsked:
    return journal.JournalAsked(query.before, query.day, query.account, query.subject)


@route("GET", "/api/journal", "manage", query=JournalQuery, returns=journal.JournalPage)
def get_journal(context: Context, query: JournalQuery) -> journal.JournalPage:
    """The journal: who did what to what, the newest first."""
    return journal.read_journal(context.db, context.actor, _asked(query))


@route("GET", "/api/journal.csv", "manage", query=JournalQuery, media="text/csv")
def get_journal_csv(context: Context, query: JournalQuery) -> Response:
    """The journal as a table."""
    actor, engine, asked = context.actor, context.engine, _asked(query)
    journal.note_taken(context.db, asked)

    def pieces() -> Iterator[bytes]:
        with Session(engine) as db:
            yield from csv_pieces(JOURNAL, (_cells(one) for one in journal.every_line(db, actor, asked)))

    return sent(pieces(), "text/csv; charset=utf-8", "journal.csv")
